"""A person's words in an assistant's files: found, and taken out.

Words get there where a turn is kept as a case, or becomes an example. A case that was kept of one
of the person's turns goes, with its recording; so does an example, and what a scenario says, where
they are what the person said, in at least three words: with fewer, it is what anybody says.
"""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError
from ruamel.yaml.nodes import MappingNode, ScalarNode, SequenceNode

from fond_echo.documents.assistant import MAIN_FILE
from fond_echo.documents.case import FOLDER as CASES
from fond_echo.documents.case import is_case
from fond_echo.documents.scenario import is_scenario

MIN_WORDS = 3
ERASED = "erased"
"""What stands in a scenario in the place of words that were taken out."""


@dataclass(frozen=True)
class Found:
    """Somebody's words in a file.

    Attributes:
        line: from 1.
        what: where they stand, in words.
        text: the words.
        certain: it says itself that it was kept of one of the person's turns.
    """

    file: str
    line: int
    what: str
    text: str
    certain: bool = False


@dataclass(frozen=True)
class Person:
    """Whose words are looked for.

    Attributes:
        texts: what was said, normalized.
        turns: the ids of the person's turns, as they stand in cases.
    """

    texts: frozenset[str]
    turns: frozenset[str]

    def said(self, text: str) -> bool:
        """Whether that is what the person said, and in enough words."""
        plain = normalized(text)
        return plain.count(" ") >= MIN_WORDS - 1 and plain in self.texts

    def may_be_in(self, text: str) -> bool:
        """Whether a text holds any of it: reading a file as YAML takes much longer."""
        if "\\u" in text or "\\x" in text:
            return True  # letters may be written by their numbers
        plain = normalized(text)
        return any(turn in text for turn in self.turns) or any(
            said in plain for said in self.texts if said.count(" ") >= MIN_WORDS - 1
        )

    def kept_of(self, about: str) -> bool:
        """Whether a case says that it was kept of one of the person's turns."""
        return any(word in self.turns for word in about.split())


def normalized(text: str) -> str:
    """A text by its words alone."""
    return " ".join(re.findall(r"[\w']+", text.casefold()))


def found_in(files: Mapping[str, str], person: Person) -> list[Found]:
    """Where a person's words stand in the files of an assistant."""
    return [each for name in sorted(files) for each in _in_file(name, files[name], person)]


def without(files: Mapping[str, str], person: Person) -> dict[str, str]:
    """The files without a person's words."""
    kept = dict(files)
    for name, text in files.items():
        if is_case(name):
            if any(True for _ in _in_file(name, text, person)):
                del kept[name]
                sound = _word(_root(text), "sound")
                if sound:
                    kept.pop(CASES + sound, None)
        elif name == MAIN_FILE or is_scenario(name):
            kept[name] = _cut(text, person, name)
    return kept


def _in_file(name: str, text: str, person: Person) -> Iterator[Found]:
    searched = name == MAIN_FILE or is_case(name) or is_scenario(name)
    root = _root(text) if searched and person.may_be_in(text) else None
    if root is None:
        return
    if is_case(name):
        said, about = _value(root, "said"), _word(root, "about")
        certain = person.kept_of(about)
        if certain or (said is not None and person.said(str(said.value))):
            words = str(said.value) if said is not None else "a recording"
            yield Found(name, 1, "a case that was kept", words, certain)
        return
    for place, node, _ in _scalars(root, name):
        if person.said(str(node.value)):
            yield Found(name, node.start_mark.line + 1, place, str(node.value))


def _scalars(root: Any, name: str) -> Iterator[tuple[str, ScalarNode, SequenceNode | None]]:
    """The texts of a file that may be somebody's words: where they stand, and the list they are
    in."""
    if name == MAIN_FILE:
        for route in _items(root, "routes"):
            examples = _value(route, "examples")
            if isinstance(examples, SequenceNode):
                place = f"an example of {_word(route, 'route')}"
                for node in examples.value:
                    if isinstance(node, ScalarNode):
                        yield place, node, examples
        return
    for step in _items(root, "steps"):
        for key in ("says", "types"):
            node = _value(step, key)
            if isinstance(node, ScalarNode):
                yield f"what is said ({key})", node, None


def _cut(text: str, person: Person, name: str) -> str:
    """A file without the texts that are the person's."""
    root = _root(text) if person.may_be_in(text) else None
    if root is None:
        return text
    spans: list[tuple[int, int, str]] = []
    for place, node, items in _scalars(root, name):
        if not person.said(str(node.value)):
            continue
        start, end = node.start_mark.index, node.end_mark.index
        if items is None:
            spans.append((start, end, ERASED))
        elif node is items.value[0] and all(person.said(str(each.value)) for each in items.value):
            # A route without any example would be another fault: its name stands in for them.
            spans.append((start, end, place.removeprefix("an example of ").replace("-", " ")))
        elif items.flow_style:
            spans.append((*_with_comma(text, start, end), ""))
        else:
            line = text.rfind("\n", 0, start) + 1
            after = text.find("\n", len(text[:end].rstrip()))
            spans.append((line, len(text) if after < 0 else after + 1, ""))
    for start, end, instead in sorted(spans, reverse=True):
        text = text[:start] + instead + text[end:]
    return text


def _with_comma(text: str, start: int, end: int) -> tuple[int, int]:
    """A part of a list in brackets, with the comma that follows it, or else comes before it."""
    if following := re.match(r"\s*,\s*", text[end:]):
        return start, end + following.end()
    before = re.search(r"\s*,\s*$", text[:start])
    return (before.start() if before else start), end


def _root(text: str) -> Any:
    try:
        return YAML(typ="rt").compose(text)
    except YAMLError:
        return None


def _value(node: Any, name: str) -> Any:
    if not isinstance(node, MappingNode):
        return None
    return next((value for key, value in node.value if key.value == name), None)


def _word(node: Any, name: str) -> str:
    found = _value(node, name)
    return str(found.value) if isinstance(found, ScalarNode) else ""


def _items(node: Any, name: str) -> list[Any]:
    found = _value(node, name)
    return list(found.value) if isinstance(found, SequenceNode) else []
