"""A call as both of its sides see it, and what is reported of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import TYPE_CHECKING, Literal

from fond_echo.core.telephony.sip.dialog import Dialog
from fond_echo.core.telephony.sip.message import Request, Response
from fond_echo.core.telephony.sip.values import Hop, Uri

if TYPE_CHECKING:
    from fond_echo.core.telephony.sip.transaction_layer import IncomingRequest

Side = Literal["us", "them", "network"]
State = Literal["offered", "ringing", "answered", "ended"]
Cause = Literal[
    "hung-up", "cancelled", "rejected", "busy", "no-answer", "unreachable", "failed", "no-ack",
    "forbidden", "transferred", "vanished", "lost",
]  # fmt: skip


@dataclass(frozen=True)
class Account:
    """Who we are at a registrar or trunk: credentials for its challenges."""

    user: str
    password: str = field(repr=False)


@dataclass
class Call:
    """A call.

    Attributes:
        number: what was dialled; `caller`: who dialled.
        invite: the request that began it, ours or theirs.
        local_sdp: our last description; `remote_sdp`: the other side's last one.
        hop: where requests without a route go: host and port.
        account: answers challenges of the other side.
        asked: the request that answers go to, of a call that came in.
        retransmit_at: when our 2xx is sent again; None once it was acknowledged.
        interval: seconds of the session timer (RFC 4028); 0 where there is none. `refresher` says
            who tells the other in time that it is still there, `timer_at` when that is due.
        changing: a description that is to be told to the other side; `change_at` when it is tried
            again after both sides tried at once.
    """

    id: str
    incoming: bool
    number: str
    caller: str
    invite: Request
    hop: Hop
    state: State = "offered"
    dialog: Dialog | None = None
    local_sdp: bytes = b""
    remote_sdp: bytes = b""
    account: Account | None = None
    cancelling: bool = False
    answer: Response | None = None
    requested: IncomingRequest | None = None
    acknowledged: bool = False
    answered_at: float = 0.0
    retransmit_at: float | None = None
    retransmit_after: float = 0.5
    interval: int = 0
    refresher: Side = "us"
    timer_at: float | None = None
    changing: bytes = b""
    change_at: float | None = None

    @property
    def due(self) -> float | None:
        """When it is to be seen to."""
        times = (self.retransmit_at, self.timer_at, self.change_at)
        return min((each for each in times if each is not None), default=None)


@dataclass(frozen=True)
class Offered:
    """Somebody calls."""

    call: Call


@dataclass(frozen=True)
class Ringing:
    """It rings on the other side of a call that we placed."""

    call: Call


@dataclass(frozen=True)
class Answered:
    """Both sides may speak."""

    call: Call


@dataclass(frozen=True)
class Changed:
    """The other side described its media anew: hold, resume, another address."""

    call: Call


@dataclass(frozen=True)
class KeyReported:
    """A key, told in signalling (INFO)."""

    call: Call
    key: str


@dataclass(frozen=True)
class Ended:
    """The call is over, by whom and why; `status` is the final answer where there was one."""

    call: Call
    cause: Cause
    by: Side
    status: int = 0


@dataclass(frozen=True)
class Transferred:
    """What became of a transfer that we asked for: `status` is the answer of the number that the
    other side called (200: it is connected there), or why it would not try; below 200 it is still
    trying."""

    call: Call
    status: int


@dataclass(frozen=True)
class TransferAsked:
    """The other side asks us to call somebody else in its place."""

    call: Call
    to: Uri


@dataclass(frozen=True)
class Registered:
    """What a registrar said: until when it keeps us, or why it does not."""

    name: str
    seconds: float
    problem: str = ""


CallEvent = (
    Offered
    | Ringing
    | Answered
    | Changed
    | KeyReported
    | Ended
    | Transferred
    | TransferAsked
    | Registered
)

CAUSES: dict[int, Cause] = {
    486: "busy", 600: "busy", 480: "no-answer", 408: "no-answer", 487: "cancelled", 603: "rejected",
    403: "forbidden", 404: "unreachable", 410: "unreachable", 484: "unreachable",
    604: "unreachable",
}  # fmt: skip
"""What a final answer to a call that we placed means."""


def cause_of(status: int) -> Cause:
    return CAUSES.get(status, "failed")


def where(uri: Uri) -> Hop:
    """Where a URI leads."""
    return Hop(uri.host.strip("[]"), uri.port or 5060, uri.transport)
