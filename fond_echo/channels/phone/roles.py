"""What a call has to do with: who carries it, how its assistant speaks, and what is known of it
before it begins."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Any, Protocol

from fond_echo.contract.call import CallIn
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.language.sentences import Sentences
from fond_echo.core.telephony.conversation.course import CallWords
from fond_echo.core.telephony.sip.calls import Cause
from fond_echo.documents.phone import CallHandling

if TYPE_CHECKING:
    from fond_echo.channels.phone.session import Session


class Carrier(Protocol):
    """Who carries the call: signalling and records. `any_source`: sound may come from anywhere."""

    any_source: bool

    def hang_up(self, session: Session, cause: Cause) -> None: ...

    def transfer(self, session: Session, to: str) -> bool:
        """Ask the other side to call a number; False where it may not be called."""
        ...

    async def tell(self, session: Session, kind: str, **data: Any) -> None:
        """Write down an event of the call."""
        ...


@dataclass(frozen=True)
class Speaking:
    """How the channel's assistant speaks: its voice; its greeting where that is always the same;
    its revision; the service's own sentences for calls, by name, as the assistant says them; its
    language; how the assistants of single numbers speak; the engines that speak for it, where it
    names any; and whether what is said is handed on while it is spoken."""

    voice: str
    greeting: str = ""
    revision: str = ""
    sentences: Mapping[str, str] = field(default_factory=dict)
    language: str = "en"
    numbers: Mapping[str, Speaking] = field(default_factory=dict)
    engines: tuple[str, ...] = ()
    live: bool = False

    def to(self, number: str) -> Speaking:
        """How whoever calls a number is spoken to."""
        return self.numbers.get(number, self)

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


@dataclass(frozen=True)
class CallContext:
    """What is known of a call before it begins: the id of its record; where we placed it, what was
    asked for, and earlier tries."""

    record: str
    order: CallIn | None = None
    attempts: tuple[Any, ...] = ()


@dataclass(frozen=True)
class ChannelState:
    """How a phone channel stands: its state, the reason, its registrars, and how its loop does."""

    state: str
    reason: str
    registrars: list[dict[str, Any]]
    loop: dict[str, float]
