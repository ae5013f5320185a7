"""What the speech process is asked, and how it says that something failed."""

from __future__ import annotations

from pydantic import Field

from fond_echo.contract.base import Schema
from fond_echo.core.errors import FondEchoError
from fond_echo.speech.expectations import ExpectedText
from fond_echo.speech.priority import Priority

UNKNOWN_STATUS = 409
"""Answered where a digest is not known: what it stands for is to be sent whole."""


class HearAsk(Schema):
    """What goes with sound to be transcribed: the digest of what is expected, and that whole to
    a process that does not know it."""

    digest: str = Field(max_length=64)
    whole: ExpectedText | None = None
    language: str = "en"
    priority: Priority = Priority.VOICE_NOTE


class PrepareAsk(Schema):
    """What will be expected."""

    digest: str = Field(max_length=64)
    whole: ExpectedText
    language: str = "en"


class ListenAsk(HearAsk):
    """What goes before sound that goes on."""

    end_seconds: float = Field(default=0.6, ge=0.2, le=5.0)
    priority: Priority = Priority.CALL


class SayAsk(Schema):
    """Text to be spoken; `rate`, `pitch` and `volume` are those of a `Prosody`, `recordings` FLAC
    as base64, by the names that markup has for them."""

    text: str
    voice: str
    seed: int | None = None
    sounds: list[tuple[str, str]] = Field(default_factory=list)
    language: str = "en"
    rate: float = 1.0
    pitch: float = 0.0
    volume: float = 0.0
    recordings: dict[str, str] = Field(default_factory=dict)
    priority: Priority = Priority.VOICE_NOTE


def error_of(error: FondEchoError) -> dict[str, str]:
    """A failure as JSON."""
    return {"code": error.code, "what": error.what, "where": error.where, "remedy": error.remedy}
