"""Questions of programs and of guests, and what they are answered."""

from __future__ import annotations

from pydantic import Field

from fond_echo.contract.base import JsonObject, Schema
from fond_echo.contract.channel import MAX_FILES
from fond_echo.contract.clip import ClipRef
from fond_echo.contract.reply import Choice, Place
from fond_echo.contract.turn import Heard


class FileIn(Schema):
    """A picture or another file that goes along with a question, as base64 or a data URI."""

    content: str
    media_type: str = Field(default="", max_length=200)
    name: str = Field(default="", max_length=200)
    caption: str = Field(default="", max_length=4_000)


class AskIn(Schema):
    """A question to an HTTP channel. `sound` is base64 or a data URI; a request may also carry the
    sound as its body. `files` go to an assistant that takes them; in a form they are the parts
    called `files`. `spoken_reply` asks for an answer with sound, or without."""

    text: str = Field(default="", max_length=20_000)
    sound: str = ""
    files: list[FileIn] = Field(default_factory=list, max_length=MAX_FILES)
    choice: str | None = None
    contact: str = Field(default="", max_length=200)
    conversation: str = Field(default="", max_length=200)
    name: str = Field(default="", max_length=200)
    spoken_reply: bool | None = None


class SpokenAnswer(Schema):
    """The sound of an answer, delivered as requested."""

    clip: str
    media_type: str
    seconds: float | None
    waveform: list[float]
    link: str = ""
    base64: str = ""
    data_uri: str = ""

    @classmethod
    def of(cls, clip: ClipRef) -> SpokenAnswer:
        return cls(
            clip=clip.id,
            media_type="audio/ogg",
            seconds=clip.seconds,
            waveform=clip.waveform,
        )


class AttachedFile(Schema):
    """A file that comes with an answer, by its address or by a signed link."""

    name: str
    media_type: str
    link: str
    clip: str = ""


class AskOut(Schema):
    """What was heard, and what is answered. `state` is answered or failed; anything else means
    that the request ended before the turn did: the turn goes on. `files` are the names of those
    that came with the question."""

    turn: str
    conversation: str
    state: str
    text: str
    files: list[str] = Field(default_factory=list)
    heard: Heard | None
    route: str
    answer: str
    choices: list[Choice]
    places: list[Place] = Field(default_factory=list)
    sound: SpokenAnswer | None
    attachments: list[AttachedFile] = Field(default_factory=list)
    error: JsonObject | None


class Requests(Schema):
    """How a program asks a channel: its address, example requests, an example response, and its
    JSON Schema."""

    address: str
    curl: str = ""
    curl_with_sound: str = ""
    python: str = ""
    javascript: str = ""
    answer: JsonObject = Field(default_factory=dict)
    answer_schema: JsonObject = Field(default_factory=dict)


class GuestSays(Schema):
    text: str = Field(default="", max_length=2_000)
    files: list[FileIn] = Field(default_factory=list, max_length=MAX_FILES)
    choice: str | None = None
    spoken_reply: bool | None = None


class GuestPage(Schema):
    """What a public page shows when it opens."""

    assistant: str
    greeting: str
    examples: list[str]
    file_types: list[str]
    """Media types of files that may be sent; none where the assistant takes no files."""

    file_bytes: int
    seconds_a_note: int
    said: list[AskOut]
