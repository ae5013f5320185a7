"""Session descriptions (SDP, RFC 8866) and agreeing on media by them (RFC 3264): one audio stream,
with key events beside it (RFC 4733)."""

from __future__ import annotations

import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from ipaddress import ip_address
from typing import Literal

from fond_echo.core.telephony.errors import MalformedDescription, NoCommonMedia

Direction = Literal["sendrecv", "sendonly", "recvonly", "inactive"]
DIRECTIONS: tuple[Direction, ...] = ("sendrecv", "sendonly", "recvonly", "inactive")
_MIRRORED: dict[Direction, Direction] = {
    "sendrecv": "sendrecv", "sendonly": "recvonly", "recvonly": "sendonly", "inactive": "inactive",
}  # fmt: skip
MAX_BYTES = 20_000
EVENTS = "telephone-event"


@dataclass(frozen=True)
class Codec:
    """A way to send sound: its name, clock rate in Hz, and usual payload type."""

    name: str
    rate: int
    payload: int

    @property
    def rtpmap(self) -> str:
        channels = "/2" if self.name == "opus" else ""
        return f"{self.name}/{self.rate}{channels}"


PCMU = Codec("PCMU", 8_000, 0)
PCMA = Codec("PCMA", 8_000, 8)
OPUS = Codec("opus", 48_000, 111)
MAX_PAYLOAD_TYPE = 127
STATIC = {0: PCMU, 8: PCMA}
"""Payload types that mean the same everywhere (RFC 3551 §6)."""


@dataclass(frozen=True)
class Media:
    """One m= line with its attributes."""

    kind: str
    port: int
    protocol: str
    formats: tuple[str, ...]
    connection: str = ""
    attributes: tuple[tuple[str, str], ...] = ()

    def attribute(self, name: str) -> str | None:
        return next((value for each, value in self.attributes if each == name), None)

    @property
    def direction(self) -> Direction:
        return next((each for each in DIRECTIONS if self.attribute(each) is not None), "sendrecv")

    def codecs(self) -> list[tuple[int, str, int]]:
        """(payload type, name, clock rate) of each format, in order of preference."""
        maps: dict[int, tuple[str, int]] = {
            number: (codec.name, codec.rate) for number, codec in STATIC.items()
        }
        for name, value in self.attributes:
            match = re.fullmatch(r"(\d{1,3})\s+([\w.\-]+)/(\d{1,6})(?:/\d+)?\s*", value)
            if name == "rtpmap" and match:
                maps[int(match[1])] = match[2], int(match[3])
        found = []
        for text in self.formats:
            # The payload type of a packet has seven bits (RFC 3550 §5.1).
            number = int(text) if re.fullmatch(r"[0-9]{1,3}", text) else -1
            if 0 <= number <= MAX_PAYLOAD_TYPE and number in maps:
                found.append((number, *maps[number]))
        return found


@dataclass(frozen=True)
class Description:
    """A session: who made it, where it listens, its media in order."""

    origin: str
    connection: str
    media: tuple[Media, ...]
    direction: Direction | None = None

    @property
    def audio(self) -> Media | None:
        """The first audio stream over plain RTP that is not turned off."""
        for each in self.media:
            if each.kind == "audio" and each.protocol == "RTP/AVP" and each.port:
                return each
        return None


@dataclass(frozen=True)
class Agreed:
    """What both sides do: where to send, in which codec, under which payload types.

    Attributes:
        events: the payload type of key events; None where the other side has none.
        direction: ours.
    """

    host: str
    port: int
    codec: Codec
    payload: int
    events: int | None
    direction: Direction
    packet_ms: int = 20

    @classmethod
    def none(cls) -> Agreed:
        """Nothing yet: nothing is sent and nothing heard."""
        return cls("", 0, PCMU, PCMU.payload, None, "inactive")


def read_description(data: bytes) -> Description:
    """Raises MalformedDescription."""
    if len(data) > MAX_BYTES:
        raise MalformedDescription(f"the description has {len(data):,} bytes")
    lines = re.split(r"\r?\n", data.decode("utf-8", "replace").rstrip("\r\n\0 "))
    if not lines or lines[0].strip() != "v=0":
        raise MalformedDescription("a description begins with v=0")
    origin = connection = ""
    direction: Direction | None = None
    media: list[Media] = []
    for line in lines[1:]:
        kind, equals, value = line.partition("=")
        if not equals or len(kind) != 1:
            raise MalformedDescription(f"{line[:60]!r} is no line of a description")
        if kind == "o":
            origin = value.strip()
        elif kind == "c":
            if media:
                media[-1] = _with(media[-1], connection=_host(value))
            else:
                connection = _host(value)
        elif kind == "m":
            media.append(_media(value))
        elif kind == "a":
            name, _, rest = value.strip().partition(":")
            if media:
                media[-1] = _with(media[-1], attributes=(*media[-1].attributes, (name, rest)))
            elif name in DIRECTIONS:
                direction = name
    if not origin:
        raise MalformedDescription("there is no o= line")
    for each in media:
        if each.port and not (each.connection or connection):
            raise MalformedDescription(f"nothing says where the {each.kind} goes")
    return Description(origin, connection, tuple(media), direction)


def _with(media: Media, **changes: object) -> Media:
    values = {**vars(media), **changes}
    return Media(**values)


def _host(value: str) -> str:
    """The address in a c= line. A name is refused: nobody is looked up in the middle of a call."""
    match = re.fullmatch(r"IN IP[46] ([0-9A-Za-z.:\-]{1,255})(?:/\S*)?\s*", value)
    try:
        return str(ip_address(match[1] if match else ""))
    except ValueError as error:
        raise MalformedDescription(f"c={value[:60]!r} is not a numeric address") from error


def _media(value: str) -> Media:
    match = re.fullmatch(r"(\w+) (\d{1,5})(?:/\d+)? (\S+)((?: \S+)+)\s*", value)
    if not match or int(match[2]) > 65_535:
        raise MalformedDescription(f"m={value[:60]!r} cannot be read")
    return Media(match[1], int(match[2]), match[3], tuple(match[4].split()))


@dataclass(frozen=True)
class Terms:
    """What we can do: where we listen, our codecs in order, the number and version of our session.

    Attributes:
        events: the payload type that we offer for key events.
    """

    host: str
    port: int
    session: int
    version: int = 0
    codecs: Sequence[Codec] = (PCMU, PCMA)
    events: int = 101
    direction: Direction = field(default="sendrecv")


def offer(terms: Terms) -> bytes:
    """A description that offers everything we can do."""
    maps = [(codec.payload, codec.rtpmap) for codec in terms.codecs]
    maps.append((terms.events, f"{EVENTS}/8000"))
    return _written(terms, maps, terms.direction, terms.events)


def _written(
    terms: Terms, maps: Sequence[tuple[int, str]], direction: Direction, events: int | None
) -> bytes:
    family = "IP6" if ":" in terms.host else "IP4"
    formats = " ".join(str(number) for number, _ in maps)
    lines = [
        "v=0",
        f"o=- {terms.session} {terms.version} IN {family} {terms.host}",
        "s=-",
        f"c=IN {family} {terms.host}",
        "t=0 0",
        f"m=audio {terms.port} RTP/AVP {formats}",
        *(f"a=rtpmap:{number} {name}" for number, name in maps),
    ]
    if events is not None:
        lines.append(f"a=fmtp:{events} 0-16")
    return "\r\n".join([*lines, "a=ptime:20", f"a={direction}", ""]).encode()


def agree(theirs: Description, terms: Terms) -> Agreed:
    """What an offer, or an answer to ours, comes to.

    Raises:
        NoCommonMedia: no audio over RTP in a codec that we have.
    """
    audio = theirs.audio
    if audio is None:
        raise NoCommonMedia("no audio over RTP/AVP is offered")
    offered = audio.codecs()
    ours = {(codec.name.lower(), codec.rate): codec for codec in terms.codecs}
    chosen = next(
        ((number, ours[name.lower(), rate]) for number, name, rate in offered
         if (name.lower(), rate) in ours), None,
    )  # fmt: skip
    if chosen is None:
        names = ", ".join(f"{name}/{rate}" for _, name, rate in offered) or "none that are known"
        have = ", ".join(codec.rtpmap for codec in terms.codecs)
        raise NoCommonMedia(f"codecs offered: {names}", remedy=f"here: {have}")
    payload, codec = chosen
    events = next(
        (n for n, name, rate in offered if name.lower() == EVENTS and rate == 8_000), None
    )
    said = next((each for each in DIRECTIONS if audio.attribute(each) is not None), None)
    direction = _MIRRORED[said or theirs.direction or "sendrecv"]
    host = audio.connection or theirs.connection
    if host in ("0.0.0.0", "::"):
        # The way to put on hold before RFC 3264.
        direction = "inactive" if direction in ("recvonly", "inactive") else "recvonly"
    if terms.direction != "sendrecv" and direction == "sendrecv":
        direction = terms.direction
    return Agreed(host, audio.port, codec, payload, events, direction, _packet_ms(audio))


def _packet_ms(audio: Media) -> int:
    text = (audio.attribute("ptime") or "20").strip()
    value = int(text) if re.fullmatch(r"\d{1,3}", text) else 20
    return value if value in (10, 20, 30, 40, 60) else 20


def answer(theirs: Description, terms: Terms) -> tuple[bytes, Agreed]:
    """The answer to an offer: every stream of it in its place, all but the audio turned off.

    Raises:
        NoCommonMedia: see `agree`.
    """
    agreed = agree(theirs, terms)
    maps = [(agreed.payload, agreed.codec.rtpmap)]
    if agreed.events is not None:
        maps.append((agreed.events, f"{EVENTS}/8000"))
    written = _written(terms, maps, agreed.direction, agreed.events).decode()
    head, mark, body = written.partition("m=audio")
    parts = [head]
    for each in theirs.media:
        if each is theirs.audio:
            parts.append(mark + body)
        else:
            parts.append(f"m={each.kind} 0 {each.protocol} {' '.join(each.formats)}\r\n")
    return "".join(parts).encode(), agreed
