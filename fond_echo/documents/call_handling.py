"""How calls of a channel go and are spoken, from its file and its assistant's: what the core's
machines take."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field

from fond_echo.core.language.registry import language as language_of
from fond_echo.core.language.sentences import Sentences
from fond_echo.core.telephony.conversation.course import CallWords
from fond_echo.core.telephony.conversation.turn_taking import CallPolicy
from fond_echo.documents.phone import CallHandling


def policy_of(handling: CallHandling, reminders: int) -> CallPolicy:
    """How a channel's description wants its calls to go, with so many reminders."""
    return CallPolicy(
        handling.barge_in, handling.wait_seconds,
        reminders + handling.greetings - 1, handling.end_seconds,
        handling.max_utterance_seconds, handling.interdigit_seconds, handling.max_digits,
        handling.terminator, handling.max_seconds,
    )  # fmt: skip


@dataclass(frozen=True)
class Speaking:
    """How the channel's assistant speaks: its voice; its greeting where that is always the same;
    its revision; the service's own sentences for calls, by name, as the assistant says them; its
    language; how the assistants of single numbers speak; the engines that speak for it, where it
    names any; and whether what is said is handed on while it is spoken. `testers` are spoken to as
    the drafts are."""

    voice: str
    greeting: str = ""
    revision: str = ""
    sentences: Mapping[str, str] = field(default_factory=dict)
    language: str = "en"
    numbers: Mapping[str, Speaking] = field(default_factory=dict)
    testers: Mapping[str, Speaking] = field(default_factory=dict)
    engines: tuple[str, ...] = ()
    live: bool = False

    def to(self, number: str, contact: str) -> Speaking:
        """How somebody who calls a number is spoken to, or, where it is empty, is called."""
        speaking = self.testers.get(contact, self)
        return speaking.numbers.get(number, speaking)

    def everyone(self) -> list[Speaking]:
        """It, and all that it holds for some."""
        some = [self, *self.testers.values()]
        return [*some, *(each for one in some for each in one.numbers.values())]

    def words(self, handling: CallHandling) -> CallWords:
        """What is said in a call that belongs to no turn: the channel's words before the
        service's."""
        own = {**sentences_of(Sentences(language_of())), **self.sentences}
        reminders = handling.reminders
        if reminders is None:
            reminders = [own["still-there"], own["cannot-hear"]]
        return CallWords(
            handling.greetings,
            tuple(reminders),
            handling.no_input_goodbye or own["hanging-up"],
            handling.not_connected or own["not-connected"],
            handling.record_words or own["call-recorded"],
        )


CALL_SENTENCES = ("still-there", "cannot-hear", "hanging-up", "not-connected", "call-recorded")


def sentences_of(says: Sentences) -> dict[str, str]:
    """What an assistant says for the service in calls, by name."""
    return {name: says.text(name) for name in CALL_SENTENCES}
