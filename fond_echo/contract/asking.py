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

    text: str = Field(default="", max_length=20_000, description="what is asked, in words")
    sound: str = Field(default="", description="what is asked, as base64 or a data URI")
    files: list[FileIn] = Field(
        default_factory=list, max_length=MAX_FILES, description="pictures and files that go along"
    )
    choice: str | None = Field(default=None, description="the value of a choice that was picked")
    contact: str = Field(
        default="", max_length=200,
        description="who asks: any id of yours; without one it is your key",
    )  # fmt: skip
    conversation: str = Field(
        default="", max_length=200, description="which talk it belongs to; without one, the contact"
    )
    name: str = Field(default="", max_length=200, description="how the contact is called")
    spoken_reply: bool | None = Field(
        default=None, description="answer with sound, or without; null is as the assistant does"
    )


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

    turn: str = Field(description="the id of the turn")
    conversation: str = Field(description="which talk it belongs to")
    state: str = Field(description="answered or failed; anything else: the turn goes on")
    text: str = Field(description="what was asked, typed or heard")
    files: list[str] = Field(default_factory=list, description="the names of files that came along")
    heard: Heard | None = Field(description="the transcript of sound; null for words")
    route: str = Field(description="where the question went")
    answer: str = Field(description="the answer in words")
    choices: list[Choice] = Field(description="what may be picked next: label and value")
    places: list[Place] = Field(default_factory=list, description="places on the map")
    sound: SpokenAnswer | None = Field(description="the answer as a voice note; null without one")
    attachments: list[AttachedFile] = Field(
        default_factory=list, description="files that come with the answer"
    )
    error: JsonObject | None = Field(description="why the turn failed; null where it did not")


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


class Contract(Schema):
    """All that a program needs to know to ask a channel, as one text (Markdown)."""

    text: str


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
