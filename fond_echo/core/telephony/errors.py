"""What goes wrong in signalling and media."""

from __future__ import annotations

from typing import TYPE_CHECKING

from fond_echo.core.errors import FondEchoError

if TYPE_CHECKING:
    from fond_echo.core.telephony.sip.message import Message


class TelephonyError(FondEchoError):
    """Something of the telephone side that cannot be used."""

    code = "telephony"


class MalformedMessage(TelephonyError):
    """Bytes that are not a SIP message, or one that breaks its grammar.

    Attributes:
        status: the answer it gets where it can be answered: 400, 505, 513.
        answerable: the message as far as it could be read, or None.
    """

    code = "sip-malformed"

    def __init__(self, what: str, *, status: int = 400, answerable: Message | None = None) -> None:
        super().__init__(what)
        self.status = status
        self.answerable = answerable


class MalformedValue(TelephonyError):
    """A header's value that breaks its grammar."""

    code = "sip-value"


class MalformedDescription(TelephonyError):
    """Not a valid session description (SDP)."""

    code = "sdp-malformed"


class NoCommonMedia(TelephonyError):
    """Nothing that both sides can send and hear."""

    code = "no-common-media"


class MalformedPacket(TelephonyError):
    """Not a valid RTP or RTCP packet."""

    code = "rtp-malformed"
