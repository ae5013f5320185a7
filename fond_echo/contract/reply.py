"""The one shape in which whatever goes out starts."""

from __future__ import annotations

import re
from collections.abc import Sequence
from typing import Annotated, Any, Literal

from pydantic import Field, JsonValue, model_validator

from fond_echo.contract.base import Name, Schema
from fond_echo.core.dialogue.verdict import VerdictKind
from fond_echo.core.language.errors import SsmlError
from fond_echo.core.language.ssml import is_ssml, plain_of

MAX_TEXT = 20_000
MAX_ELEMENTS = 20
"""Of each kind in one reply."""


class Choice(Schema):
    """Something to pick: what it says, and what comes back when it is picked."""

    label: str = Field(min_length=1, max_length=80)
    value: str = Field(default="", max_length=200)

    @model_validator(mode="before")
    @classmethod
    def _from_text(cls, given: Any) -> Any:
        return {"label": given} if isinstance(given, str) else given

    @model_validator(mode="after")
    def _value_is_label(self) -> Choice:
        if not self.value:
            self.value = self.label
        return self


class Attachment(Schema):
    """A file that goes along with a reply: by its address, by its name in the assistant's folder,
    or by the id of what was stored for the turn."""

    url: str = ""
    file: str = Field(default="", max_length=200)
    clip: str = Field(default="", max_length=60)
    name: str = ""
    media_type: str = ""

    @model_validator(mode="after")
    def _one_place(self) -> Attachment:
        if sum(map(bool, (self.url, self.file, self.clip))) != 1:
            raise ValueError("an attachment has url, an address, or file, of the folder")
        return self


class Place(Schema):
    """A place on the map (WGS 84, in degrees), with what it is called."""

    latitude: float = Field(ge=-90, le=90)
    longitude: float = Field(ge=-180, le=180)
    name: str = Field(min_length=1, max_length=80)

    @property
    def uri(self) -> str:
        """Its address as a geo URI (RFC 5870)."""
        return f"geo:{self.latitude:g},{self.longitude:g}"


class Elements(Schema):
    """What a reply holds beside words. Whatever passes replies on does so for every one of these; a
    new one is planned in `stages.deliver`, spoken in `stages.speak`, and sent by a connector."""

    choices: list[Choice] = Field(default_factory=list, max_length=MAX_ELEMENTS)
    places: list[Place] = Field(default_factory=list, max_length=MAX_ELEMENTS)


def elements_of(parts: Sequence[Elements]) -> dict[str, list[Any]]:
    """The elements of several parts, by the names of their fields."""
    return {
        name: [each for part in parts for each in getattr(part, name)]
        for name in Elements.model_fields
    }


class End(Schema):
    """The conversation is over."""

    kind: Literal["end"] = "end"


class Ask(Schema):
    """Wait for a value of a slot."""

    kind: Literal["ask"] = "ask"
    slot: Name


class Transfer(Schema):
    """Connect the caller with a number, or a chat with the people behind a name."""

    kind: Literal["transfer"] = "transfer"
    to: str = Field(min_length=1)


class Announce(Schema):
    """Say something in a conference room, by a call over a phone channel that ends when it has been
    said; where `to` is empty, in the room that the asking person is in. It is said after so many
    seconds: until then it can be taken back. Whoever asked is told when it was said."""

    kind: Literal["announce"] = "announce"
    over: Name
    text: str = Field(min_length=1, max_length=5_000)
    to: str = Field(default="", max_length=60)
    after: Annotated[float, Field(ge=0, le=3_600)] = 0.0


class HandOver(Schema):
    """An operator takes over, in the console."""

    kind: Literal["operator"] = "operator"
    note: str = ""


class RecordMessage(Schema):
    """Take down a message."""

    kind: Literal["record"] = "record"
    max_seconds: int = Field(default=120, ge=1, le=3_600)


Then = Annotated[
    End | Ask | Transfer | Announce | HandOver | RecordMessage, Field(discriminator="kind")
]


def readable(markup: str) -> str:
    """The words of markup as they are read, whatever is wrong with it."""
    try:
        return plain_of(markup)
    except SsmlError:
        return re.sub(r"<[^>]*>", " ", markup).strip()


class AnswerVerdict(Schema):
    """What a free answer is worth: whether it answers the question (`partly` where only in part),
    evades it, is about another subject, has a number or a name without a source, or a place that
    was left to be filled in; why, and in which sentence. `by` is who says so: `words`, from
    what question, answer and sources share, or the engine that was asked for a second opinion.
    `again` says that the engine was asked once more because of it, or that the person was told that
    it is not known."""

    kind: VerdictKind
    reason: str = ""
    sentence: str = ""
    by: str = "words"
    again: Literal["", "asked-again", "not-known"] = ""


class SpokenProsody(Schema):
    """How words are said: `rate` is pace (1 is the voice's own), without a change of pitch; `pitch`
    semitones higher, `volume` dB louder."""

    rate: float = Field(default=1.0, ge=0.5, le=2.0)
    pitch: float = Field(default=0.0, ge=-12.0, le=12.0)
    volume: float = Field(default=0.0, ge=-20.0, le=12.0)


class Reply(Elements):
    """What is answered.

    `text` is what is written, `spoken` what is said (plain text, or SSML beginning with `<speak`);
    where only one is given, the other is made from it. `sound` is a file of the assistant's folder
    that is played in place of speech; `text` says what is in it. `rewrites` takes the place of the
    part before it in the same answer: where that was sent already, it is edited on networks that
    can. `remember` is kept for the contact, for `remember_days` (0 is without end); null forgets.
    `variables` are kept for the conversation. `voice` and `prosody` are how this reply is said,
    where it is another way than the assistant's. `more` is what is left to say: where the reply is
    heard and not read, the person is asked whether to go on, and "yes" or "go on" says it. `places`
    are sent as the network sends them, else written with a geo URI; their names are spoken where
    the words do not have them. `route` is a route of the assistant that goes on with the turn,
    after the words where there are any, and `slots` what it needs: they are read as if they had
    been said.
    """

    text: str = Field(default="", max_length=MAX_TEXT)
    spoken: str = Field(default="", max_length=MAX_TEXT)
    sound: str = Field(default="", max_length=200)
    rewrites: bool = False
    attachments: list[Attachment] = Field(default_factory=list, max_length=10)
    remember: dict[str, JsonValue] = Field(default_factory=dict)
    remember_days: Annotated[int, Field(ge=0, le=3_650)] = 0
    variables: dict[str, JsonValue] = Field(default_factory=dict)
    voice: str = Field(default="", max_length=60)
    prosody: SpokenProsody | None = None
    more: str = Field(default="", max_length=MAX_TEXT)
    route: str = Field(default="", max_length=60)
    slots: dict[str, JsonValue] = Field(default_factory=dict)
    then: Then | None = None

    @property
    def written(self) -> str:
        """What is read: the text, or the words of what is said, without markup."""
        return self.text or (readable(self.spoken) if is_ssml(self.spoken) else self.spoken)

    @model_validator(mode="before")
    @classmethod
    def _markup_is_said(cls, given: Any) -> Any:
        text = given.get("text") if isinstance(given, dict) else None
        if isinstance(text, str) and is_ssml(text) and not given.get("spoken"):
            return {**given, "spoken": text, "text": readable(text)}
        return given

    @model_validator(mode="after")
    def _says_something(self) -> Reply:
        said = self.text or self.spoken or self.choices or self.attachments or self.places
        if not (said or self.then or self.route):
            raise ValueError(
                "a reply needs text, spoken, choices, attachments, places, route or then"
            )
        if self.slots and not self.route:
            raise ValueError("slots go with route, which needs them")
        if self.route and self.then:
            raise ValueError("route or then: a route says itself what comes after it")
        return self
