"""Stored sound as the API reports it."""

from __future__ import annotations

from dataclasses import dataclass

from pydantic import Field

from fond_echo.contract.base import Schema

SENT_FILE = "sent-file"
"""The origin of clips that are pictures and files of people."""


class ClipRef(Schema):
    """A clip by its id; its bytes are at /api/clips/{id}/sound. `waveform` has heights of 0..1."""

    id: str
    media_type: str
    size: int
    seconds: float | None = None
    rate: int | None = None
    waveform: list[float] = Field(default_factory=list)
    origin: str = ""


@dataclass(frozen=True)
class NewClip:
    """Sound to be stored: a file, and what is known of it."""

    data: bytes
    media_type: str
    origin: str
    seconds: float | None = None
    rate: int | None = None
    waveform: tuple[float, ...] = ()
