"""Every sentence that the service itself says in a conversation, by name and language; an assistant
may put its own in their place."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from string import Formatter

from fond_echo.core.language.language import Language
from fond_echo.core.language.registry import language as language_of


@dataclass(frozen=True)
class Sentence:
    """What is written, and what is said where that is something else."""

    text: str
    spoken: str = ""


def places(text: str) -> set[str]:
    """What a sentence wants filled in.

    Raises:
        ValueError: its braces are not in pairs.
    """
    return {name for _, name, _, _ in Formatter().parse(text) if name is not None}


def names() -> tuple[str, ...]:
    """The names of all sentences that the service says."""
    return tuple(language_of().sentences)


def wanted(name: str) -> set[str]:
    """What a sentence of the service has filled in. Raises KeyError for an unknown one."""
    return places(language_of().sentences[name])


class Sentences:
    """The sentences of one assistant.

    Args:
        language: its language; what that has no sentence for is said in English.
        own: those that the assistant says in its own words.
    """

    def __init__(self, language: Language, own: Mapping[str, Sentence] | None = None) -> None:
        self._plain = {**language_of().sentences, **language.sentences}
        self._own = dict(own or {})

    def get(self, name: str, **filled: str) -> Sentence:
        """A sentence with its places filled in. Raises KeyError for an unknown one."""
        found = self._own.get(name) or Sentence(self._plain[name])
        return Sentence(found.text.format(**filled), found.spoken.format(**filled))

    def text(self, name: str, **filled: str) -> str:
        """What is written of it."""
        return self.get(name, **filled).text

    def knows(self, name: str) -> bool:
        """Whether there is a sentence of that name."""
        return name in self._plain
