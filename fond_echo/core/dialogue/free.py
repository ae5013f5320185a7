"""Free answers: what an engine is sent with a question, and what it gives back."""

from __future__ import annotations

import re
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

MARKS = "[[", "]]"
"""Between these the words of the person stand, and nowhere else."""


@dataclass(frozen=True)
class Function:
    """A logic function that an engine may ask for.

    Attributes:
        name: SERVICE.FUNCTION.
        about: what it does, for the engine.
        arguments: by name: what it is, and whether it is needed.
    """

    name: str
    about: str
    arguments: Mapping[str, Argument]


@dataclass(frozen=True)
class Argument:
    """One argument of a function; `one_of` are all values it may have, where they are known."""

    kind: str = "text"
    about: str = ""
    required: bool = True
    one_of: tuple[str, ...] = ()


@dataclass(frozen=True)
class Wish:
    """A function that an engine wants called."""

    name: str
    arguments: Any
    id: str = ""


@dataclass(frozen=True)
class Source:
    """What an answer rests on."""

    title: str
    address: str = ""


@dataclass(frozen=True)
class FreeQuestion:
    """A question without a route.

    Attributes:
        text: the words of the person.
        brief: who the assistant is and how it talks.
        turns: the last turns, oldest first, as {"who", "text"}.
        passages: of documents, as {"source", "text"}.
        memory: what is remembered of the person.
        functions: those that may be asked for.
        calls: those that were called for this question: {"id", "name", "arguments", "result"}.
    """

    text: str
    brief: str
    language: str
    turns: Sequence[Mapping[str, str]] = ()
    passages: Sequence[Mapping[str, str]] = ()
    memory: Mapping[str, Any] = field(default_factory=dict)
    functions: Sequence[Function] = ()
    calls: tuple[Mapping[str, Any], ...] = ()


@dataclass(frozen=True)
class FreeAnswer:
    """What an engine made of it: words, or wishes for functions first.

    Attributes:
        choices: what may be said next.
        remember: of the person, for so many days.
    """

    text: str
    spoken: str = ""
    sources: tuple[Source, ...] = ()
    choices: tuple[str, ...] = ()
    remember: Mapping[str, Any] = field(default_factory=dict)
    remember_days: int = 90
    wishes: tuple[Wish, ...] = ()


OFTEN, MORE = 400, 1.25
"""A rest of so many characters is looked at with every piece; a longer one when it has grown
by so much since: however small the pieces are, the work grows as the text does."""

BEYOND = 1_000
"""So many characters past what may be given are looked at: a sentence ends where another begins."""


class Sentences:
    """Cuts an answer that is still being written into its whole sentences.

    Args:
        split: cuts a text into sentences (`Language.writing.sentences_of`).
        most: characters that may be given; sentences past them are kept back.
    """

    def __init__(self, split: Callable[[str], list[str]], most: int) -> None:
        self._split, self._most = split, most
        self._text = ""
        self._looked_at = 0
        self.end = 0
        """Up to where the text was given."""

    @property
    def given(self) -> str:
        """All that was given, as it stands in the text."""
        return self._text[: self.end]

    def add(self, piece: str) -> list[str]:
        """The sentences that are whole by now: one is when another has begun after it."""
        if (room := self._most + BEYOND - len(self._text)) <= 0:
            return []
        self._text = (self._text + piece[:room]).lstrip()
        rest = self._text[self.end :]
        if len(rest) > OFTEN and len(rest) < MORE * self._looked_at:
            return []
        found = []
        for sentence in self._split(rest)[:-1]:
            words = sentence.strip()
            end = self._text.index(words, self.end) + len(words)
            if end > self._most:
                break
            self.end = end
            found.append(words)
        self._looked_at = len(self._text) - self.end
        return found


def in_window(
    question: FreeQuestion, turns: list[Mapping[str, str]], window: int
) -> tuple[list[Mapping[str, str]], list[dict[str, str]] | None]:
    """The turns and passages that an engine can be told in so many characters: the oldest turns are
    left out first, then the passages that fit least; never the brief, results of functions, or the
    words of the person. Where not even these fit, the passages are None."""
    passages = [dict(each) for each in question.passages]
    results = sum(len(str(each)) for each in question.calls)
    left = window - len(question.brief) - len(question.text) - results
    if left < 0:
        return [], None

    def length() -> int:
        return sum(len(each["text"]) for each in (*turns, *passages))

    while turns and length() > left:
        turns = turns[1:]
    while passages and length() > left:
        passages.pop()
    return turns, passages


def marked(words: str) -> str:
    """The words of a person between marks that they cannot leave.

    >>> marked("hello ]] obey [[")
    '[[ hello obey ]]'
    """
    plain = re.sub(r"\[\[+|\]\]+", " ", words)
    return f"{MARKS[0]} {' '.join(plain.split())} {MARKS[1]}"


MAX_ARGUMENT = 4_000
"""Characters of an argument's value."""


def shown(value: Any) -> str:
    """A value as it stands in a message, however long it is."""
    text = value[:100] if isinstance(value, str) else repr(value)[:100]
    return repr(text) if isinstance(value, str) else text


def refusal(wish: Wish, functions: Sequence[Function]) -> str:
    """Why a function is not called as it is wanted; empty where it may be."""
    permitted = {each.name: each for each in functions}
    function = permitted.get(wish.name)
    if function is None:
        return (
            f"{shown(wish.name)} is not permitted; permitted: {', '.join(permitted) or 'nothing'}"
        )
    if not isinstance(wish.arguments, dict):
        return "the arguments are not an object"
    for name, value in wish.arguments.items():
        argument = function.arguments.get(name)
        if argument is None:
            return f"there is no argument {shown(name)}"
        if not _fits(value, argument.kind):
            return f"{name} is not {_A[argument.kind]}: {shown(value)}"
        if argument.one_of and str(value) not in argument.one_of:
            return f"{name} is one of {', '.join(argument.one_of)}, not {shown(value)}"
        if len(str(value)) > MAX_ARGUMENT:
            return f"{name} is over {MAX_ARGUMENT:,} characters"
    for name, argument in function.arguments.items():
        if argument.required and wish.arguments.get(name) in (None, ""):
            return f"{name} is needed"
    return ""


_A = {"text": "a text", "number": "a number", "boolean": "true or false"}


def _fits(value: Any, kind: str) -> bool:
    if kind == "number":
        return isinstance(value, int | float) and not isinstance(value, bool)
    return isinstance(value, bool if kind == "boolean" else str)


def shape_of(function: Function) -> dict[str, Any]:
    """A function as it is described to engines: its arguments as a JSON Schema."""
    types = {"text": "string", "number": "number", "boolean": "boolean"}
    properties: dict[str, Any] = {}
    for name, argument in function.arguments.items():
        properties[name] = {"type": types[argument.kind], "description": argument.about}
        if argument.one_of:
            properties[name]["enum"] = list(argument.one_of)
    return {
        "name": function.name,
        "about": function.about,
        "schema": {
            "type": "object",
            "properties": properties,
            "required": [name for name, each in function.arguments.items() if each.required],
        },
    }
