"""Session timers (RFC 4028): both sides of a call agree on who says in time that it is still there;
where nobody does, the call is over."""

from __future__ import annotations

import re
from dataclasses import dataclass
from typing import Literal

from fond_echo.core.telephony.sip.calls import Call
from fond_echo.core.telephony.sip.message import Message, Request, Response

INTERVAL = 1_800
MIN_SESSION_SECONDS = 90
"""Seconds: what we ask for, and the least that anybody may (§5)."""


@dataclass(frozen=True)
class Expiry:
    """A Session-Expires: seconds, and who refreshes; "" where it is left open."""

    seconds: int
    refresher: Literal["uac", "uas", ""]

    def __str__(self) -> str:
        return f"{self.seconds};refresher={self.refresher}" if self.refresher else str(self.seconds)


def expiry_of(message: Message) -> Expiry | None:
    """What a message says of the session's length; None where nothing, or nothing that is right."""
    match = re.fullmatch(
        r"\s*(\d{1,9})\s*(?:;\s*refresher\s*=\s*(uac|uas))?\s*",
        message.fields.get("session-expires") or "",
        re.IGNORECASE,
    )
    if match is None:
        return None
    who = (match[2] or "").lower()
    return Expiry(int(match[1]), "uac" if who == "uac" else "uas" if who == "uas" else "")


def too_short(request: Request) -> bool:
    """Whether a request asks for a shorter session than anybody may."""
    requested = expiry_of(request)
    return requested is not None and requested.seconds < MIN_SESSION_SECONDS


def answered(request: Request) -> tuple[Expiry, list[tuple[str, str]]]:
    """Our answer to a request that makes or refreshes a session, and the fields that say so."""
    supports = "timer" in [each.strip().lower() for each in request.fields.all("supported")]
    requested = expiry_of(request)
    seconds = requested.seconds if requested is not None else INTERVAL
    who = requested.refresher if requested is not None and requested.refresher and supports else ""
    chosen = Expiry(seconds, who or ("uac" if supports else "uas"))
    fields = [("session-expires", str(chosen)), ("supported", "timer")]
    if chosen.refresher == "uac":
        fields.append(("require", "timer"))
    return chosen, fields


def asking(seconds: int = INTERVAL) -> list[tuple[str, str]]:
    """The fields of our own request."""
    return [
        ("session-expires", str(seconds)),
        ("min-se", str(MIN_SESSION_SECONDS)),
        ("supported", "timer"),
    ]


def start(call: Call, expiry: Expiry | None, now: float, *, asked_by_us: bool) -> None:
    """Begin to count. Who refreshes is named by its part in the transaction; that is us where we
    asked and it is the client, or were asked and it is the server."""
    if expiry is None:
        call.interval, call.timer_at = 0, None
        return
    ours = (expiry.refresher == "uac") == asked_by_us
    call.interval, call.refresher = expiry.seconds, "us" if ours else "them"
    if ours:
        call.timer_at = now + expiry.seconds / 2
    else:
        call.timer_at = now + expiry.seconds - min(32.0, expiry.seconds / 3)


def least_of(response: Response) -> int:
    """The Min-SE of a refusal (§6); 0 where there is none."""
    text = (response.fields.get("min-se") or "").partition(";")[0].strip()
    return int(text) if text.isascii() and text.isdigit() and len(text) < 7 else 0
