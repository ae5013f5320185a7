"""What a call has to do with: who carries it, how its assistant speaks, and what is known of it
before it begins."""

from __future__ import annotations

from dataclasses import dataclass
from typing import TYPE_CHECKING, Any, Protocol

from fond_echo.contract.call import CallIn
from fond_echo.core.telephony.sip.calls import Cause

if TYPE_CHECKING:
    from fond_echo.phone.session import Session


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
