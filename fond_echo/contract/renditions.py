"""Speech for other programs: text made sound, and sound made a proper voice note."""

from __future__ import annotations

from typing import Annotated, Literal

from pydantic import Field

from fond_echo.contract.base import Instant, Name, Schema
from fond_echo.contract.reply import SpokenProsody

SoundFormat = Literal["ogg", "wav", "flac", "mp3", "mulaw"]
DeliverAs = Literal["bytes", "base64", "data-uri", "link"]
MAX_TEXT = 400_000
LINK_HOURS = 24.0
LinkHours = Annotated[float, Field(gt=0, le=24 * 30)]


class RenditionIn(Schema):
    """A text to synthesize.

    `text` is plain text, or SSML 1.1 beginning with `<speak`. `voice` is one of the built-in ones;
    if it is empty, the voice of the `assistant`, whose lexicon and sounds are used, too. `format`
    is what the sound is written as, `give` how it comes: as the body of the answer, written while
    it is made; in the answer's JSON as base64 or as a data URI; or as a link that plays without a
    key for `link_hours`.
    """

    text: str = Field(min_length=1, max_length=MAX_TEXT)
    voice: str = Field(default="", max_length=60)
    language: str = Field(default="", max_length=20)
    prosody: SpokenProsody = Field(default_factory=SpokenProsody)
    assistant: Name | None = None
    format: SoundFormat = "ogg"
    deliver_as: DeliverAs = "bytes"
    link_hours: LinkHours = LINK_HOURS


class VoiceOut(Schema):
    """A built-in voice: its median pitch in Hz, and its pace (1 is unhurried)."""

    name: str
    pitch: float
    rate: float


class TimedWord(Schema):
    """A word and when it is heard, in seconds."""

    word: str
    start: float
    end: float


class TimedMark(Schema):
    """A mark of the markup, and its time in seconds."""

    name: str
    at: float


class GivenSound(Schema):
    """Sound in the way it was asked for: one of `base64`, `data_uri` and `link` is there."""

    media_type: str
    seconds: float
    size: int
    waveform: list[float]
    base64: str = ""
    data_uri: str = ""
    link: str = ""
    expires_at: Instant | None = None


class RenditionOut(GivenSound):
    """A text as sound. `warnings` say what could not be said."""

    voice: str
    words: list[TimedWord]
    marks: list[TimedMark]
    warnings: list[str]


class FileFinding(Schema):
    """Why a file was no proper voice note, and what to do."""

    what: str
    remedy: str


class ConversionOut(GivenSound):
    """A proper voice note made of a sound; what the sound was, and what was wrong with it."""

    container: str
    codec: str
    channel_count: int
    rate: int
    loudness: float | None
    findings: list[FileFinding]
