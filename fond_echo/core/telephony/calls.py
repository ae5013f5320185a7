"""A call as both of its sides see it, and what is told of it."""

from __future__ import annotations

from dataclasses import dataclass, field
from typing import Literal

from fond_echo.core.telephony.dialog import Dialog
from fond_echo.core.telephony.message import Request, Response
from fond_echo.core.telephony.values import Uri

State = Literal["offered", "ringing", "answered", "ended"]
Cause = Literal[
    "hung-up", "cancelled", "rejected", "busy", "no-answer", "unreachable", "failed", "no-ack",
    "forbidden",
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
        described: our last description; `theirs`: the other side's last one.
        hop: where requests without a route go: host and port.
        asked: the request that answers go to, of a call that came in.
        again_at: when our 2xx is sent again; None once it was acknowledged.
    """

    id: str
    incoming: bool
    number: str
    caller: str
    invite: Request
    hop: tuple[str, int]
    state: State = "offered"
    dialog: Dialog | None = None
    described: bytes = b""
    theirs: bytes = b""
    account: Account | None = None
    tried: bool = False
    cancelling: bool = False
    answer: Response | None = None
    asked: object = None
    acknowledged: bool = False
    answered_at: float = 0.0
    again_at: float | None = None
    again_after: float = 0.5


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
class KeyTold:
    """A key, told in signalling (INFO)."""

    call: Call
    key: str


@dataclass(frozen=True)
class Ended:
    """The call is over, by whom and why; `status` is the final answer where there was one."""

    call: Call
    cause: Cause
    by: Literal["us", "them", "network"]
    status: int = 0


@dataclass(frozen=True)
class Registered:
    """What a registrar said: until when it keeps us, or why it does not."""

    name: str
    seconds: float
    problem: str = ""


CallEvent = Offered | Ringing | Answered | Changed | KeyTold | Ended | Registered

CAUSES: dict[int, Cause] = {
    486: "busy", 600: "busy", 480: "no-answer", 408: "no-answer", 487: "cancelled", 603: "rejected",
    403: "forbidden", 404: "unreachable", 410: "unreachable", 484: "unreachable",
    604: "unreachable",
}  # fmt: skip
"""What a final answer to a call that we placed means."""


def cause_of(status: int) -> Cause:
    return CAUSES.get(status, "failed")


def where(uri: Uri) -> tuple[str, int]:
    """Host and port that a URI leads to."""
    return uri.host.strip("[]"), uri.port or (5061 if uri.scheme == "sips" else 5060)
