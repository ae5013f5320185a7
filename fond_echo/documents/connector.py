"""A description of a chat network: how it is talked to, and what to take from what it says."""

from __future__ import annotations

from functools import lru_cache
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from fond_echo.contract.base import Name, Schema
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.address_checks import address_errors
from fond_echo.documents.arrival_checks import BY_NETWORK, arrival_errors
from fond_echo.documents.errors import FileError, InvalidFile
from fond_echo.documents.source import Path, read_yaml
from fond_echo.documents.steps import (
    Condition,
    JsonPath,
    Rate,
    SecretRef,
    Size,
    Span,
    Step,
    TemplateText,
    secrets_of,
)
from fond_echo.documents.validate import validated


class Verification(Schema):
    """How a webhook proves where it comes from.

    - `hmac-sha256`, `hmac-sha1`: a code over `over`, a template with `body` and `headers` (names
      in lower case), with `key`;
    - `ed25519`: a signature over `over` by `public_key` (hex or base64);
    - `header`: a header that holds the key itself.

    `time` names the header with the seconds since the epoch at which it was signed.
    """

    kind: Literal["hmac-sha256", "hmac-sha1", "ed25519", "header"]
    header: str
    key: SecretRef | None = None
    public_key: str = ""
    over: TemplateText = "{{ body }}"
    prefix: str = ""
    encoding: Literal["hex", "base64"] = "hex"
    time: str | None = None
    tolerance: Span = 300.0

    @model_validator(mode="after")
    def _has_its_key(self) -> Verification:
        if self.kind == "ed25519" and not self.public_key:
            raise ValueError("ed25519 needs public_key")
        if self.kind != "ed25519" and self.key is None:
            raise ValueError(f"{self.kind} needs key: {{secret: NAME}}")
        if self.kind == "ed25519" and self.key is not None:
            raise ValueError("ed25519 has a public_key, and no key")
        return self


class Challenge(Schema):
    """A question by which a network finds out whether the address is ours: a value is echoed.

    Either `query` names a query parameter of a GET, or `path` a value in a posted body.
    `token` names the query parameter that must hold `key`.
    """

    query: str | None = None
    path: JsonPath | None = None
    token: str | None = None
    key: SecretRef | None = None

    @model_validator(mode="after")
    def _one_place(self) -> Challenge:
        if (self.query is None) == (self.path is None):
            raise ValueError("a challenge has either query or path")
        if (self.token is None) != (self.key is None):
            raise ValueError("token and key go together")
        return self


class Webhook(Schema):
    """Messages are posted to us."""

    verify: Verification | None = None
    challenge: Challenge | None = None


class Poll(Step):
    """Messages are asked for, again and again. `{{ cursor }}` is how far we have read: empty at
    first, then what stands at `cursor` in the answer before. Messages that are there when the
    channel is connected for the first time are passed over; with `begin: backlog` they are
    answered."""

    cursor: JsonPath
    begin: Literal["now", "backlog"] = "now"
    every: Span = 1.0


class FilesMap(Schema):
    """The pictures and files of a message: `each` finds them in it, and the others stand in each
    of them. `fetch` gets the bytes: there `{{ sound }}` is the handle."""

    each: JsonPath
    handle: JsonPath
    media_type: JsonPath | None = None
    name: JsonPath | None = None
    caption: JsonPath | None = None


class MessageMap(Schema):
    """Where in a message each fact stands. Only id, conversation and contact must be there.
    `quoted` are the words of the message that it quotes."""

    id: JsonPath
    conversation: JsonPath
    contact: JsonPath
    name: JsonPath | None = None
    text: JsonPath | None = None
    choice: JsonPath | None = None
    sound: JsonPath | None = None
    sound_kind: JsonPath | None = None
    seconds: JsonPath | None = None
    document: JsonPath | None = None
    conference: JsonPath | None = None
    quoted: JsonPath | None = None
    files: FilesMap | None = None


class Receive(Schema):
    """How messages come in: by webhook, or by polling. `group` is true of a message in a
    room where others are too, `quotes_us` of one that quotes ours."""

    webhook: Webhook | None = None
    poll: Poll | None = None
    connect: list[Step] = Field(default_factory=list)
    each: JsonPath = "$"
    ours: JsonPath | None = None
    joined: Condition | None = None
    group: Condition | None = None
    quotes_us: Condition | None = None
    note_when: str = "note"
    """The value of `sound_kind` that marks a voice note; other sound is a file."""
    message: MessageMap

    @model_validator(mode="after")
    def _one_way_in(self) -> Receive:
        if (self.webhook is None) == (self.poll is None):
            raise ValueError("messages come in either by webhook or by poll")
        return self


class Send(Schema):
    """How each kind of thing goes out; what a network cannot do is left out. A text behind the
    `command_mark` is a command; without one, there are none."""

    text: list[Step]
    voice: list[Step] = Field(default_factory=list)
    file: list[Step] = Field(default_factory=list)
    picture: list[Step] = Field(default_factory=list)
    place: list[Step] = Field(default_factory=list)
    choices: list[Step] = Field(default_factory=list)
    edit: list[Step] = Field(default_factory=list)
    delete: list[Step] = Field(default_factory=list)
    indicator: list[Step] = Field(default_factory=list)
    read: list[Step] = Field(default_factory=list)
    command_mark: str = ""

    def steps(self, kind: str) -> list[Step]:
        """The steps for a kind; none where the network cannot do it."""
        found: list[Step] = getattr(self, kind)
        return found


class VoiceLimits(Schema):
    format: Literal["ogg-opus"] = "ogg-opus"
    bytes: Size = 16_000_000
    seconds: Annotated[float, Field(gt=0)] = 900.0


class TextLimits(Schema):
    """How long a text may be, and what markup the network reads: `none`, `markdown`, or `html`
    (b, i, s, code, pre, a). The Markdown of answers is put into it."""

    characters: Annotated[int, Field(ge=10)] = 2_000
    markup: Literal["none", "markdown", "html"] = "none"


class FileLimits(Schema):
    bytes: Size = 16_000_000


class NetworkLimits(Schema):
    """What the network takes, and how fast: kept on our side, in both directions. An indicator is
    shown again every so often, as `indicator_every` says, while the answer is on its way."""

    voice: VoiceLimits = Field(default_factory=VoiceLimits)
    text: TextLimits = Field(default_factory=TextLimits)
    file: FileLimits = Field(default_factory=FileLimits)
    rate: Rate = 20.0
    indicator_every: Span = 5.0
    concurrency: Annotated[int, Field(ge=1, le=100)] = 8


class ClientCredentials(Schema):
    """OAuth 2.0 client credentials (RFC 6749 §4.4): gives `{{ token }}` to every step."""

    token_url: TemplateText
    client_id: TemplateText
    client_secret: SecretRef
    scope: str = ""


class ChatConnector(Schema):
    """A chat network."""

    network: Name
    hosts: list[TemplateText] = Field(default_factory=list)
    oauth: ClientCredentials | None = None
    receive: Receive
    fetch: list[Step] = Field(default_factory=list)
    send: Send
    limits: NetworkLimits = Field(default_factory=NetworkLimits)

    @property
    def requests(self) -> dict[str, list[Step]]:
        """Every request by its name."""
        out = self.send
        found = {"connect": self.receive.connect, "fetch": self.fetch}
        found |= {kind: out.steps(kind) for kind in SENDING}
        if self.receive.poll:
            found["poll"] = [self.receive.poll]
        return found

    def secrets(self) -> frozenset[str]:
        """The names of all secrets that the file refers to."""
        found = secrets_of(self, [step for steps in self.requests.values() for step in steps])
        webhook = self.receive.webhook
        keys = [self.oauth.client_secret] if self.oauth else []
        if webhook and webhook.verify and webhook.verify.key:
            keys.append(webhook.verify.key)
        if webhook and webhook.challenge and webhook.challenge.key:
            keys.append(webhook.challenge.key)
        return frozenset(found | {key.secret for key in keys})


SENDING = tuple(name for name, field in Send.model_fields.items() if field.annotation == list[Step])
"""What can be sent, by the names of the requests for it."""

_PLACE = {"conversation", "contact"}
_SENT = {*_PLACE, "key", "text"}
FACTS: dict[str, set[str]] = {
    "connect": {"our_address"},
    "poll": {"cursor"},
    "fetch": {*_PLACE, "sound"},
    "text": _SENT,
    "voice": {*_SENT, "sound", "seconds", "waveform"},
    "file": {*_SENT, "file", "name", "url"},
    "picture": {*_SENT, "file", "name", "url"},
    "place": {*_SENT, "latitude", "longitude"},
    "choices": {*_SENT, "choices"},
    "edit": {*_SENT, "id", "choices"},
    "delete": {*_PLACE, "id"},
    "indicator": {*_PLACE, "kind"},
    "read": {*_PLACE, "id"},
}
"""What each request may ask for, beside the channel's own values and what earlier steps took."""


@lru_cache(maxsize=200)
def read_connector(
    text: str, file: str, values: frozenset[str] = frozenset(("base",))
) -> ChatConnector:
    """Read and check a description of a chat network; read ones are kept.

    Args:
        values: the names that the channel fills in.

    Raises:
        InvalidFile: with every fault that was found.
    """
    source = read_yaml(text, file)
    connector = validated(source, ChatConnector)
    errors: list[FileError] = []
    connected = {name for step in connector.receive.connect for name in step.take}
    for kind, steps in connector.requests.items():
        path: Path = ("send", kind) if kind in SENDING else (kind,)
        if kind in ("connect", "poll"):
            path = ("receive", kind)
        known = {*FACTS[kind], *values, "secrets", *({"token"} if connector.oauth else ())}
        known |= connected if kind != "connect" else set()
        for number, step in enumerate(steps):
            at = path if kind == "poll" else (*path, number)
            for name in sorted(step.asks_for() - known):
                what = f"nothing fills in {{{{ {name} }}}} here"
                errors.append(source.error(at, what, f"known: {', '.join(sorted(known))}"))
            errors += address_errors(source, at, step, values)
            known |= set(step.take)
        if steps and not errors:
            asked_for = {name for step in steps for name in step.asks_for()}
            what = f"the request for {kind}"
            errors += arrival_errors(source, path, asked_for, BY_NETWORK.get(kind, ()), what)
    message = connector.receive.message
    if (message.sound or message.document) and not connector.fetch:
        at = ("receive", "message", "sound" if message.sound else "document")
        remedy = "add fetch: the steps that get the sound"
        errors.append(source.error(at, "fetch says nothing about it", remedy))
    if not connector.requests["text"]:
        errors.append(source.error(("send", "text"), "a network must be able to send text"))
    errors += _unfilled(source, connector, values)
    if errors:
        raise InvalidFile(errors)
    return connector


def _unfilled(source: Any, connector: ChatConnector, values: frozenset[str]) -> list[FileError]:
    """Places outside the steps whose templates ask for what no channel fills in."""
    templates: list[tuple[Path, str]] = [
        (("hosts", number), text) for number, text in enumerate(connector.hosts)
    ]
    if connector.oauth:
        templates += [
            (("oauth", name), getattr(connector.oauth, name)) for name in ("token_url", "client_id")
        ]
    errors = []
    for path, text in templates:
        try:
            names = compile_template(text).names
        except TemplateFailed:
            continue
        for name in sorted(names - values):
            errors.append(source.error(path, f"nothing fills in {{{{ {name} }}}} here"))
    return errors
