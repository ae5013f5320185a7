"""Every sentence that the service itself says in a conversation, by name and language; an assistant
may put its own in their place."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from string import Formatter

ENGLISH: dict[str, str] = {
    "error": "Sorry, something went wrong on our side. Please try again in a moment.",
    "sound-not-fetched": "Sorry, I could not get your recording. Please send it again.",
    "sound-empty": "Your recording arrived empty. Please send it again.",
    "sound-silent": "I could not hear anything in your recording. Please try again.",
    "sound-unknown": "Sorry, I cannot listen to that kind of file. A voice note or a text works.",
    "sound-broken": "Sorry, your recording arrived damaged. Please send it again.",
    "sound-too-long": "Sorry, that recording is too long for me. Please send it in shorter parts.",
    "nothing-heard": "I could not hear any words in your recording. Please try again.",
    "other": "I understand texts and voice notes. Please send me one of those.",
    "logic-failed": "Sorry, I cannot look that up just now. Please try again in a moment.",
    "not-sure": "I am not sure I understood that.",
    "still-not-understood": "I am sorry, I still do not understand.",
    "you-can-ask": "You can ask, for example: {examples}",
    "or": "Or:",
    "hello": "Hello.",
    "goodbye": "Goodbye.",
    "never-mind": "All right.",
    "nobody-to-hand-over-to": "I am sorry, there is nobody I could hand you over to.",
    "nothing-said-yet": "I have not said anything yet.",
    "taken-back": "All right, I have taken that back.",
    "forgotten": "All right. I have forgotten what I knew about you.",
    "ask-again": "Sorry, I did not get that. {question}",
    "did-you-mean": "Did you mean: {title}?",
    "which-did-you-mean": "What did you mean?",
    "nothing-remembered": "I have nothing stored about you but our conversation.",
    "remembered": "This is what I remember:\n{facts}",
    "yes": "Yes",
    "no": "No",
    "choose": "You can choose:",
    "say-one-of": "You can say: {choices}.",
    "choice-or": "or",
    "press-or-say": "For {choice}, press or say {key}.",
}
"""In braces stands what is filled in."""

LANGUAGES: dict[str, dict[str, str]] = {"en": ENGLISH}


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


class Sentences:
    """The sentences of one assistant.

    Args:
        language: its language; in one that has none of its own, they are English.
        own: those that the assistant says in its own words.
    """

    def __init__(self, language: str, own: Mapping[str, Sentence] | None = None) -> None:
        self._plain = LANGUAGES.get(language, ENGLISH)
        self._own = dict(own or {})

    def get(self, name: str, **filled: str) -> Sentence:
        """A sentence with its places filled in. Raises KeyError for one that there is none of."""
        found = self._own.get(name) or Sentence(self._plain.get(name) or ENGLISH[name])
        return Sentence(found.text.format(**filled), found.spoken.format(**filled))

    def text(self, name: str, **filled: str) -> str:
        """What is written of it."""
        return self.get(name, **filled).text

    def knows(self, name: str) -> bool:
        """Whether there is a sentence of that name."""
        return name in ENGLISH
