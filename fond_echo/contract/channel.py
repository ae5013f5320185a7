"""What a channel is set to, what it turns its network's messages into, what it is asked to send."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Annotated, Any, Literal

from pydantic import Field

from fond_echo.contract.base import Name, Schema, Seconds
from fond_echo.contract.engine import EngineKind
from fond_echo.contract.turn import ArrivedAs

ChannelKind = Literal["chat", "adapter", "http", "page", "phone"]


class Access(Schema):
    """Who is answered: anybody, the contacts on the list, or whoever says the word. Everybody else
    gets the refusal, at most once an hour. Where a text is empty, the service says its own, in the
    assistant's language.
    """

    mode: Literal["open", "list", "word"] = "open"
    word: str = Field(default="", max_length=60)
    refusal: str = Field(default="", max_length=500)
    welcome: str = Field(default="", max_length=500)


class Quotas(Schema):
    """What one contact may use in a day (UTC); 0 is without limit."""

    turns: int = Field(default=1_000, ge=0)
    seconds_heard: int = Field(default=4 * 3_600, ge=0)
    characters_spoken: int = Field(default=500_000, ge=0)
    reached: str = Field(default="", max_length=500)
    """What is said then; where it is empty, the service's own words."""


class Retention(Schema):
    """For how many days sound and words are kept; 0 is without end, 0.5 twelve hours."""

    sound_days: float = Field(default=0, ge=0, le=36_500)
    text_days: float = Field(default=0, ge=0, le=36_500)


class GuestLimits(Schema):
    """What a public page lets its guests do."""

    seconds_a_note: int = Field(default=60, ge=1, le=600)
    turns_a_guest: int = Field(default=60, ge=1)
    guests_an_hour: int = Field(default=30, ge=1)
    """From one address."""
    max_concurrent: int = Field(default=40, ge=1)
    """Turns of all guests together; more are asked to come back in a moment."""


class Groups(Schema):
    """What the assistant does in groups. By default the assistant answers where it is called by one
    of its names, by a command, or where one of its messages is quoted; `everything` has it answer
    every message, `nothing` no message."""

    answer: Literal["addressed", "everything", "nothing"] = "addressed"
    names: list[Annotated[str, Field(min_length=1, max_length=60)]] = Field(
        default_factory=list, max_length=20
    )


class PleaseWait(Schema):
    """What is said to somebody who waits for so many seconds (0: never) until a voice note is
    heard, or business logic or an engine has answered. In a chat it is written, and taken back
    where the network can delete; in a call it is spoken. `text` and `spoken` take the place of the
    service's own sentence, `please-wait`."""

    after: Annotated[Seconds, Field(ge=0, le=60)] = 4.0
    text: str = Field(default="", max_length=300)
    spoken: str = Field(default="", max_length=300)


class RenameIn(Schema):
    """A channel's new name."""

    name: Name


class ChannelSettings(Schema):
    """How a channel behaves.

    `when_in_doubt` says what becomes of a delivery that may or may not have gone out.
    `please_wait` takes the place of the assistant's. `echo_heard` sends
    back what was heard before it is answered. `engines` are asked here in place of those that the
    assistant names for the same. Short texts of one sender within `merge_seconds` of the first are
    one turn; 0 has each be one. Sound up to `max_audio_minutes` is heard, 180 at the most; 0 is
    what the network takes as a voice note."""

    when_in_doubt: Literal["retry", "hold", "drop"] = "hold"
    deliver_for_hours: Annotated[float, Field(gt=0, le=168)] = 24.0
    access: Access = Field(default_factory=Access)
    quotas: Quotas = Field(default_factory=Quotas)
    retention: Retention = Field(default_factory=Retention)
    guests: GuestLimits = Field(default_factory=GuestLimits)
    echo_heard: bool = False
    please_wait: PleaseWait | None = None
    merge_seconds: Annotated[float, Field(ge=0, le=20)] = 0.0
    max_audio_minutes: Annotated[int, Field(ge=0, le=180)] = 0
    groups: Groups = Field(default_factory=Groups)
    engines: dict[EngineKind, Annotated[list[Name], Field(max_length=8)]] = Field(
        default_factory=dict
    )


class Quoted(Schema):
    """The message that a message quotes: its words, and whether it is one of ours."""

    text: str = Field(default="", max_length=4_000)
    ours: bool = False


class SoundHandle(Schema):
    """Sound that came with a message and must be fetched. `kind` is what the network calls it:
    a voice note recorded there, a sound file, a document that may hold sound, or what was said in
    a call."""

    handle: str
    kind: Literal["note", "file", "document", "call"] = "note"
    seconds: float | None = None


MAX_FILES = 10
"""Pictures and files of one message."""


class FileHandle(Schema):
    """A picture or another file that came with a message and must be fetched. `media_type` and
    `name` are what the network calls it, and `caption` is what stands below it."""

    handle: str = Field(max_length=2_000)
    media_type: str = Field(default="", max_length=200)
    name: str = Field(default="", max_length=200)
    caption: str = Field(default="", max_length=4_000)


class Inbound(Schema):
    """A message of any network in one shape. `id` is the network's own; `command` says that the
    text stood behind the channel's command mark, which is already taken off; `joined` that a
    contact came, without having said anything; `spoken_reply` that it wants to be answered with
    sound, or not; `key` is what was pressed in a call; `conference` the number of the conference
    room that the contact is in, where the network knows it; `replies` an answer that came after its
    time, which takes away the message that `removes` names; `quoted` what it quotes; `group` that
    it came in a room of many; `merged` the ids of messages that were put to it; `files` are
    pictures and files that came with it: what stands below them is its text, where it has no
    other."""

    id: str
    conversation: str
    contact: str
    name: str = ""
    text: str = ""
    choice: str | None = None
    sound: SoundHandle | None = None
    files: list[FileHandle] = Field(default_factory=list, max_length=MAX_FILES)
    command: bool = False
    joined: bool = False
    spoken_reply: bool | None = None
    key: str = Field(default="", max_length=40)
    conference: str = Field(default="", max_length=60)
    quoted: Quoted | None = None
    group: bool = False
    merged: list[str] = Field(default_factory=list)
    removes: str = ""
    replies: list[Any] = Field(default_factory=list, max_length=20)

    @property
    def is_at_hand(self) -> bool:
        """Whether nothing has to be fetched of it."""
        return self.sound is None and not self.files

    @property
    def arrived_as(self) -> ArrivedAs:
        if self.joined:
            return "joined"
        if self.key:
            return "key"
        if self.sound is not None and self.sound.kind == "call":
            return "speech"
        if self.sound is not None:
            return "voice-note" if self.sound.kind == "note" else "audio-file"
        if self.choice is not None:
            return "choice"
        if self.text:
            return "text"
        return "file" if self.files else "other"


@dataclass(frozen=True)
class Unreadable:
    """A message that could not be read: its own part of what the network sent, and why."""

    post: Any
    reason: str


Arrived = tuple[Inbound, Any] | Unreadable
"""A message in our shape with its own part of what the network sent; or one that cannot be read."""
