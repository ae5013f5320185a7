"""SIP messages (RFC 3261 §7): bytes in, requests and responses out, and back.

What is valid is read whatever it looks like: folded lines, compact names, several values in a line
or in several lines. What is not gets an error with the status that it is to be answered with, and
as much of it as is needed to answer.
"""

from __future__ import annotations

import re
from collections.abc import Iterable
from dataclasses import dataclass, field, replace

from fond_echo.core.telephony.errors import MalformedMessage, MalformedValue
from fond_echo.core.telephony.sip.values import (
    TOKEN,
    Address,
    Uri,
    Via,
    parse_address,
    parse_sequence,
    parse_uri,
    parse_via,
    split_list,
)

MAX_BYTES = 65_535
MAX_FIELDS = 200

COMPACT = {
    "i": "call-id", "m": "contact", "e": "content-encoding", "l": "content-length",
    "c": "content-type", "f": "from", "s": "subject", "k": "supported", "t": "to", "v": "via",
    "r": "refer-to", "b": "referred-by", "o": "event", "u": "allow-events", "x": "session-expires",
}  # fmt: skip
"""One-letter names (RFC 3261 §7.3.3, RFC 3515, RFC 3892, RFC 6665, RFC 4028)."""

SINGLE = frozenset(
    ("from", "to", "call-id", "cseq", "max-forwards", "content-length", "content-type", "refer-to")
)
"""Fields that may stand there once only."""

_REQUEST = re.compile(rf"({TOKEN}) ([^ ]+) (SIP/\d+\.\d+)", re.IGNORECASE)
_RESPONSE = re.compile(r"(SIP/\d+\.\d+) (\d+)(?: (.*))?", re.IGNORECASE | re.DOTALL)
_NAME = re.compile(rf"({TOKEN})[ \t]*:(.*)", re.DOTALL)

REASONS = {
    100: "Trying", 180: "Ringing", 181: "Call Is Being Forwarded", 183: "Session Progress",
    200: "OK", 202: "Accepted", 302: "Moved Temporarily", 400: "Bad Request", 401: "Unauthorized",
    403: "Forbidden", 404: "Not Found", 405: "Method Not Allowed",
    407: "Proxy Authentication Required",
    408: "Request Timeout", 415: "Unsupported Media Type",
    416: "Unsupported URI Scheme", 420: "Bad Extension",
    422: "Session Interval Too Small", 423: "Interval Too Brief", 480: "Temporarily Unavailable",
    481: "Call/Transaction Does Not Exist", 482: "Loop Detected", 483: "Too Many Hops",
    486: "Busy Here",
    487: "Request Terminated", 488: "Not Acceptable Here", 491: "Request Pending",
    500: "Server Internal Error", 501: "Not Implemented", 503: "Service Unavailable",
    505: "Version Not Supported", 513: "Message Too Large", 600: "Busy Everywhere", 603: "Decline",
}  # fmt: skip


@dataclass(frozen=True)
class Fields:
    """Header fields in their order: (name in lower case, value)."""

    pairs: tuple[tuple[str, str], ...] = ()

    def get(self, name: str) -> str | None:
        """The first value of a field; None where it is not there."""
        return next((value for each, value in self.pairs if each == name), None)

    def all(self, name: str) -> list[str]:
        """Every value of a field, those that stand in one line apart. Raises MalformedValue."""
        found = [value for each, value in self.pairs if each == name]
        return [part for value in found for part in split_list(value)]

    def having(self, name: str, *values: str) -> Fields:
        """The same with a field's values in place of those it had, where the first stood."""
        given = [(name, value) for value in values]
        pairs: list[tuple[str, str]] = []
        for pair in self.pairs:
            if pair[0] != name:
                pairs.append(pair)
            elif given:
                pairs += given
                given = []
        return Fields((*pairs, *given))

    def without(self, *names: str) -> Fields:
        return Fields(tuple(pair for pair in self.pairs if pair[0] not in names))


@dataclass(frozen=True)
class Message:
    """What requests and responses have in common."""

    fields: Fields
    body: bytes = b""

    @property
    def call_id(self) -> str:
        return self.fields.get("call-id") or ""

    @property
    def origin(self) -> Address:
        """From. Raises MalformedValue."""
        return parse_address(self.fields.get("from") or "")

    @property
    def target(self) -> Address:
        """To. Raises MalformedValue."""
        return parse_address(self.fields.get("to") or "")

    @property
    def sequence(self) -> tuple[int, str]:
        """The number and the method of CSeq. Raises MalformedValue."""
        return parse_sequence(self.fields.get("cseq") or "")

    @property
    def vias(self) -> list[Via]:
        return [parse_via(each) for each in self.fields.all("via")]

    @property
    def contacts(self) -> list[Address]:
        return [parse_address(each) for each in self.fields.all("contact") if each != "*"]

    @property
    def media_type(self) -> str:
        return (self.fields.get("content-type") or "").partition(";")[0].strip().lower()

    def to_bytes(self) -> bytes:
        """The message as it is sent; Content-Length gives the length of the body."""
        raise NotImplementedError

    def _bytes(self, first: str) -> bytes:
        fields = self.fields.having("content-length", str(len(self.body)))
        lines = [first, *(f"{shown(name)}: {clean(value)}" for name, value in fields.pairs), "", ""]
        return "\r\n".join(lines).encode("utf-8", "surrogateescape") + self.body


@dataclass(frozen=True)
class Request(Message):
    """A request."""

    method: str = ""
    uri: Uri = field(default_factory=lambda: Uri("sip"))

    def to_bytes(self) -> bytes:
        return self._bytes(f"{self.method} {self.uri} SIP/2.0")


@dataclass(frozen=True)
class Response(Message):
    """A response."""

    status: int = 0
    reason: str = ""

    def to_bytes(self) -> bytes:
        return self._bytes(f"SIP/2.0 {self.status} {clean(self.reason)}")


def clean(value: str) -> str:
    """A value without line breaks: nobody adds fields through it."""
    return re.sub(r"[\r\n\0]+", " ", value)


def shown(name: str) -> str:
    """A field's name as it is usually written."""
    special = {"call-id": "Call-ID", "cseq": "CSeq", "www-authenticate": "WWW-Authenticate"}
    return special.get(name) or "-".join(part.capitalize() for part in name.split("-"))


def response_to(
    request: Request,
    status: int,
    reason: str = "",
    *,
    tag: str = "",
    fields: Iterable[tuple[str, str]] = (),
    body: bytes = b"",
) -> Response:
    """The response to a request (§8.2.6): Via, From, To, Call-ID and CSeq as they came; also
    Record-Route, where a dialog may come of it (§12.1.1).

    Args:
        tag: of our side, added to To where that has none.
    """
    names = {"via", "from", "to", "call-id", "cseq"}
    if 100 < status < 300:
        names.add("record-route")
    kept = [p for p in request.fields.pairs if p[0] in names]
    if tag and status > 100:
        try:
            target = request.target
            if not target.tag:
                text = str(target.with_tag(tag))
                kept = [("to", text) if name == "to" else (name, value) for name, value in kept]
        except MalformedValue:
            pass
    return Response(
        Fields((*kept, *fields)), body, status, reason or REASONS.get(status, "Unknown")
    )


def read_message(data: bytes) -> Request | Response:
    """One message, as a datagram holds it: what comes after its body is passed over (§18.3).

    Raises:
        MalformedMessage: with the status it is to be answered with.
    """
    if len(data) > MAX_BYTES:
        raise MalformedMessage(f"the message has {len(data):,} bytes", status=513)
    head, blank, body = _parted(data.lstrip(b"\r\n"))
    if not blank:
        raise MalformedMessage("there is no empty line after the header")
    unfolded = re.sub(r"\r?\n[ \t]+", " ", head.decode("utf-8", "surrogateescape"))
    lines = re.split(r"\r?\n", unfolded)
    fields, wrong = _fields(lines[1:])
    message = _begun(lines[0], fields)
    if wrong:
        raise MalformedMessage(wrong, answerable=message)
    length = _length(message)
    if length is not None:
        if length > len(body):
            what = f"Content-Length is {length}, and {len(body)} bytes came"
            raise MalformedMessage(what, answerable=message)
        body = body[:length]
    message = replace(message, body=body)
    _check(message)
    return message


def _parted(data: bytes) -> tuple[bytes, bytes, bytes]:
    """Header, empty line, body; lone line feeds are taken for line ends too."""
    match = re.search(rb"\r?\n\r?\n", data)
    if match is None:
        return data, b"", b""
    return data[: match.start()], match[0], data[match.end() :]


def _fields(lines: list[str]) -> tuple[Fields, str]:
    """The header fields, and what is wrong with them."""
    pairs: list[tuple[str, str]] = []
    wrong = ""
    if len(lines) > MAX_FIELDS:
        return Fields(), f"there are {len(lines)} header fields"
    for line in lines:
        match = _NAME.fullmatch(line)
        if match is None:
            wrong = wrong or f"{line[:60]!r} is no header field"
            continue
        name = match[1].lower()
        name = COMPACT.get(name, name)
        if name in SINGLE and any(each == name for each, _ in pairs):
            wrong = wrong or f"{shown(name)} stands there twice"
            continue
        pairs.append((name, match[2].strip()))
    return Fields(tuple(pairs)), wrong


def _begun(line: str, fields: Fields) -> Request | Response:
    answer = _RESPONSE.fullmatch(line)
    if answer is not None:
        if answer[1].upper() != "SIP/2.0" or not 100 <= int(answer[2][:9]) <= 699:
            raise MalformedMessage(f"{line[:60]!r} is no status line")
        return Response(fields, b"", int(answer[2]), answer[3] or "")
    requested = _REQUEST.fullmatch(line)
    if requested is None:
        raise MalformedMessage(
            f"{line[:60]!r} is no request line", answerable=_unnamed(line, fields)
        )
    bare = Request(fields, b"", requested[1], Uri("sip", host="invalid"))
    if requested[3].upper() != "SIP/2.0":
        what = f"the version is {requested[3]}"
        raise MalformedMessage(what, status=505, answerable=bare)
    try:
        return replace(bare, uri=parse_uri(requested[2]))
    except MalformedValue as error:
        raise MalformedMessage(f"the request's URI: {error.what}", answerable=bare) from error


def _unnamed(line: str, fields: Fields) -> Request | None:
    """A request whose line is wrong, to be answered all the same; an ACK never is."""
    method = line.split(" ", maxsplit=1)[0]
    if not re.fullmatch(TOKEN, method) or method == "ACK":
        return None
    return Request(fields, b"", method, Uri("sip", host="invalid"))


def _length(message: Message) -> int | None:
    text = message.fields.get("content-length")
    if text is None:
        return None
    if not re.fullmatch(r"[0-9]{1,10}", text):
        raise MalformedMessage(f"Content-Length is {text[:30]!r}", answerable=message)
    return int(text)


def _check(message: Request | Response) -> None:
    """The fields that every message has, and whether they can be read (§8.1.1)."""
    missing = [
        shown(name)
        for name in ("via", "from", "to", "call-id", "cseq")
        if not message.fields.get(name)
    ]
    if missing:
        raise MalformedMessage(f"there is no {', '.join(missing)}", answerable=message)
    try:
        vias, contacts = message.vias, message.contacts
        parts = message.origin, message.target
        _, method = message.sequence
        for name in ("route", "record-route", "refer-to"):
            for each in message.fields.all(name):
                parse_address(each)
    except MalformedValue as error:
        raise MalformedMessage(error.what, answerable=message) from error
    del contacts, parts
    if not vias:
        raise MalformedMessage("there is no Via", answerable=message)
    if isinstance(message, Request):
        if method != message.method:
            what = f"CSeq says {method}, the request is {message.method}"
            raise MalformedMessage(what, answerable=message)
        hops = message.fields.get("max-forwards") or "70"
        if not re.fullmatch(r"[0-9]{1,6}", hops) or int(hops) > 255:
            raise MalformedMessage(f"Max-Forwards is {hops[:30]!r}", answerable=message)
        if message.uri.headers:
            what = "there are header fields in the request's URI"
            raise MalformedMessage(what, answerable=message)


class Framer:
    """Finds messages in a stream (§18.3): there Content-Length says where each ends."""

    def __init__(self) -> None:
        self._kept = b""

    def feed(self, data: bytes) -> list[Request | Response | None]:
        """The messages that are complete with this; None for each keep-alive that wants an answer
        (RFC 5626 §4.4.1).

        Raises:
            MalformedMessage: the stream cannot be followed any further.
        """
        self._kept += data
        found: list[Request | Response | None] = []
        while self._kept:
            if self._kept.startswith(b"\r\n"):
                if self._kept.startswith(b"\r\n\r\n"):
                    found.append(None)
                    self._kept = self._kept[4:]
                elif len(self._kept) == 2 or len(self._kept) == 3:
                    break
                else:
                    self._kept = self._kept[2:]
                continue
            head, blank, body = _parted(self._kept)
            if not blank:
                if len(self._kept) > MAX_BYTES:
                    raise MalformedMessage("the header does not end", status=513)
                break
            match = re.search(rb"(?im)^(?:content-length|l)[ \t]*:[ \t]*(\d{1,9})[ \t]*\r?$", head)
            length = int(match[1]) if match else 0
            if length > MAX_BYTES:
                raise MalformedMessage(f"a body of {length:,} bytes is announced", status=513)
            if len(body) < length:
                break
            whole = len(head) + len(blank) + length
            message, self._kept = self._kept[:whole], self._kept[whole:]
            found.append(read_message(message))
        return found
