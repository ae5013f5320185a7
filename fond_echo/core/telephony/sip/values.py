"""Values of SIP header fields (RFC 3261 §25): URIs, names with addresses, Via, CSeq; and lists."""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, field, replace
from typing import NamedTuple
from urllib.parse import unquote

from fond_echo.core.telephony.errors import MalformedValue

TOKEN = r"[A-Za-z0-9\-.!%*_+`'~]+"
_TOKEN = re.compile(TOKEN)
_HOST = re.compile(r"\[[0-9A-Fa-f:.]+\]|[A-Za-z0-9](?:[A-Za-z0-9.\-]*[A-Za-z0-9])?\.?")
_USER = re.compile(r"(?:[A-Za-z0-9\-_.!~*'()&=+$,;?/]|%[0-9A-Fa-f]{2})+")
_SCHEME = re.compile(r"[A-Za-z][A-Za-z0-9+.\-]*")
MAX_SEQUENCE = 2**31 - 1

Parameters = tuple[tuple[str, str | None], ...]


def printable(text: str) -> str:
    """A text without control characters and halves of characters."""
    whole = text.encode("utf-8", "replace").decode()
    return "".join(each for each in whole if each.isprintable())


@dataclass(frozen=True)
class Uri:
    """A SIP or SIPS URI (§19.1), or another one that is kept as it stands in `rest`."""

    scheme: str
    user: str = ""
    password: str = field(default="", repr=False)
    host: str = ""
    port: int | None = None
    parameters: Parameters = ()
    headers: str = ""
    rest: str = ""

    @property
    def number(self) -> str:
        """The user part without escapes: a telephone number, a name. What no record or JSON can
        hold, such as control characters, is left out."""
        return printable(unquote(self.user.partition(";")[0]))

    @property
    def transport(self) -> str:
        """How it is reached: UDP where it does not say."""
        return (self.parameter("transport") or "udp").upper()

    @property
    def spoken(self) -> bool:
        """Whether we can send there: by UDP or TCP, and nothing that must be secret all the way."""
        return self.scheme == "sip" and self.transport in ("UDP", "TCP")

    def parameter(self, name: str) -> str | None:
        """A parameter's value, "" where it has none, None where it is not there."""
        return _named(self.parameters, name)

    def __str__(self) -> str:
        if self.rest:
            return f"{self.scheme}:{self.rest}"
        user = f"{self.user}{':' + self.password if self.password else ''}@" if self.user else ""
        port = f":{self.port}" if self.port is not None else ""
        headers = f"?{self.headers}" if self.headers else ""
        return f"{self.scheme}:{user}{self.host}{port}{_shown(self.parameters)}{headers}"


@dataclass(frozen=True)
class Address:
    """A URI with a display name and the parameters of its header: From, To, Contact, Route."""

    uri: Uri
    name: str = ""
    parameters: Parameters = ()

    @property
    def tag(self) -> str:
        return self.parameter("tag") or ""

    def parameter(self, name: str) -> str | None:
        return _named(self.parameters, name)

    def with_tag(self, tag: str) -> Address:
        others = tuple(each for each in self.parameters if each[0].lower() != "tag")
        return replace(self, parameters=(*others, ("tag", tag)))

    def __str__(self) -> str:
        quoted = self.name.replace("\\", "\\\\").replace('"', '\\"')
        name = f'"{quoted}" ' if self.name else ""
        return f"{name}<{self.uri}>{_shown(self.parameters)}"


class Hop(NamedTuple):
    """Where a message goes, or came from: UDP or TCP."""

    host: str
    port: int
    transport: str = "UDP"

    @property
    def reliable(self) -> bool:
        """Whether nothing is lost on the way."""
        return self.transport != "UDP"


@dataclass(frozen=True)
class Via:
    """A hop that a request took (§20.42)."""

    transport: str
    host: str
    port: int | None = None
    parameters: Parameters = ()

    @property
    def branch(self) -> str:
        return self.parameter("branch") or ""

    def parameter(self, name: str) -> str | None:
        return _named(self.parameters, name)

    def with_parameter(self, name: str, value: str | None) -> Via:
        """The same with a parameter set, in its place where it was there."""
        given = (name, value)
        if self.parameter(name) is None:
            return replace(self, parameters=(*self.parameters, given))
        kept = tuple(given if each[0].lower() == name else each for each in self.parameters)
        return replace(self, parameters=kept)

    def __str__(self) -> str:
        port = f":{self.port}" if self.port is not None else ""
        return f"SIP/2.0/{self.transport} {self.host}{port}{_shown(self.parameters)}"


def _named(parameters: Parameters, name: str) -> str | None:
    for each, value in parameters:
        if each.lower() == name:
            return value or ""
    return None


def _shown(parameters: Parameters) -> str:
    return "".join(f";{n}" if v is None else f";{n}={v}" for n, v in parameters)


def parse_uri(text: str) -> Uri:
    """Raises MalformedValue."""
    scheme, colon, rest = text.partition(":")
    if not colon or not _SCHEME.fullmatch(scheme) or not rest or re.search(r"[\s<>\"]", rest):
        raise MalformedValue(f"{text[:60]!r} is no URI")
    if scheme.lower() not in ("sip", "sips"):
        return Uri(scheme.lower(), rest=rest)
    user = password = ""
    if "@" in rest:
        user, _, rest = rest.rpartition("@")
        user, _, password = user.partition(":")
        if not _USER.fullmatch(user):
            raise MalformedValue(f"{user[:60]!r} is no user of a URI")
    rest, _, headers = rest.partition("?")
    host, _, parameters = rest.partition(";")
    name, port = _host_port(host)
    return Uri(scheme.lower(), user, password, name, port, _uri_parameters(parameters), headers)


def _uri_parameters(text: str) -> Parameters:
    if not text:
        return ()
    found: list[tuple[str, str | None]] = []
    for each in text.split(";"):
        name, equals, value = each.partition("=")
        if not name:
            raise MalformedValue(f"there is an empty parameter in {text[:60]!r}")
        found.append((name, value if equals else None))
    return tuple(found)


def _host_port(text: str) -> tuple[str, int | None]:
    match = _HOST.match(text)
    if not match:
        raise MalformedValue(f"{text[:60]!r} is no host")
    rest = text[match.end() :].strip()
    if not rest:
        return match[0], None
    port = rest[1:].strip()
    if rest[0] != ":" or not port.isascii() or not port.isdigit() or not 0 < int(port) < 65_536:
        raise MalformedValue(f"{text[:60]!r} is no host with a port")
    return match[0], int(port)


def parse_address(text: str) -> Address:
    """A name-addr or addr-spec with parameters. Raises MalformedValue."""
    text = text.strip()
    name = ""
    if text.startswith('"'):
        end = _end_of_quote(text, 0)
        name = re.sub(r"\\(.)", r"\1", text[1 : end - 1])
        text = text[end:].lstrip()
        if not text.startswith("<"):
            raise MalformedValue("after a display name there must be <URI>")
    elif "<" in text:
        name, _, _ = text.partition("<")
        text = text[len(name) :]
        name = name.strip()
        if name and not all(_TOKEN.fullmatch(word) for word in name.split()):
            raise MalformedValue(f"the display name {name[:60]!r} must stand in quotes")
    if text.startswith("<"):
        inside, closed, after = text[1:].partition(">")
        if not closed:
            raise MalformedValue(f"there is no > in {text[:60]!r}")
        return Address(parse_uri(inside.strip()), name, parse_parameters(after))
    # Without brackets, parameters are the header's, and a URI may have none of its own (§20.10).
    inside, semicolon, after = text.partition(";")
    if "?" in inside or "," in inside:
        raise MalformedValue(f"{inside[:60]!r} must stand in < and >")
    return Address(parse_uri(inside.strip()), name, parse_parameters(semicolon + after))


def parse_parameters(text: str) -> Parameters:
    """`;name=value;name` with quoted values kept as they stand. Raises MalformedValue."""
    text = text.strip()
    if not text:
        return ()
    if not text.startswith(";"):
        raise MalformedValue(f"{text[:60]!r} are no parameters")
    found: list[tuple[str, str | None]] = []
    for part in map(str.strip, _split(text[1:], ";")):
        if not part:
            raise MalformedValue("there is an empty parameter")
        name, equals, value = part.partition("=")
        name, value = name.strip(), value.strip()
        if not _TOKEN.fullmatch(name):
            raise MalformedValue(f"{part[:60]!r} is no parameter")
        found.append((name, value if equals else None))
    return tuple(found)


def parse_via(text: str) -> Via:
    """Raises MalformedValue."""
    sent, semicolon, after = text.partition(";")
    match = re.fullmatch(rf"\s*SIP\s*/\s*2\.0\s*/\s*({TOKEN})\s+(\S.*?)\s*", sent, re.IGNORECASE)
    if not match:
        raise MalformedValue(f"{text[:60]!r} is no Via")
    host, port = _host_port(match[2])
    return Via(match[1].upper(), host, port, parse_parameters(semicolon + after))


def parse_sequence(text: str) -> tuple[int, str]:
    """CSeq: its number and method. Raises MalformedValue."""
    match = re.fullmatch(rf"\s*(\d{{1,10}})\s+({TOKEN})\s*", text, re.ASCII)
    if not match or int(match[1]) > MAX_SEQUENCE:
        raise MalformedValue(f"{text[:60]!r} is no CSeq")
    return int(match[1]), match[2]


def split_list(text: str) -> list[str]:
    """The values of a field that may hold several, split at commas that stand outside quotes and
    brackets. Raises MalformedValue for quotes that do not end."""
    return [each.strip() for each in _split(text, ",") if each.strip()]


def _split(text: str, mark: str) -> Iterator[str]:
    start = at = 0
    inside = False
    while at < len(text):
        character = text[at]
        if character == '"':
            at = _end_of_quote(text, at)
            continue
        if character == "<":
            inside = True
        elif character == ">":
            inside = False
        elif character == mark and not inside:
            yield text[start:at]
            start = at + 1
        at += 1
    yield text[start:]


def _end_of_quote(text: str, start: int) -> int:
    at = start + 1
    while at < len(text):
        if text[at] == "\\":
            at += 2
        elif text[at] == '"':
            return at + 1
        else:
            at += 1
    raise MalformedValue(f"a quote does not end in {text[:60]!r}")
