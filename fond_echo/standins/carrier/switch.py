"""The carrier's switch: a registrar that challenges, and a proxy that keeps no state of calls
(RFC 3261 §10, §16.11). Both by messages in and messages out, without sockets."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Mapping
from dataclasses import dataclass, field

from fond_echo.core.telephony.errors import MalformedMessage, MalformedValue
from fond_echo.core.telephony.sip.calls import where
from fond_echo.core.telephony.sip.digest import Challenger
from fond_echo.core.telephony.sip.message import (
    Fields,
    Request,
    Response,
    read_message,
    response_to,
)
from fond_echo.core.telephony.sip.transactions import COOKIE
from fond_echo.core.telephony.sip.values import Hop, Uri, Via, parse_address

SECONDS = 3_600
TAG = "switch"

Sent = list[tuple[bytes, Hop]]


@dataclass
class Signalling:
    """What is wrong with the switch for now: it answers nothing, or 503 to the next calls."""

    dead: bool = False
    unavailable: int = 0


@dataclass
class Binding:
    """Where a number is, and until when."""

    contact: Uri
    until: float


@dataclass
class Switch:
    """The switch.

    Args:
        host, port: where it is reached.
        passwords: of the numbers that may register and call.
        fixed: numbers that are always there: rooms, automatic answers.
    """

    host: str
    port: int
    passwords: Mapping[str, str]
    fixed: dict[str, Uri] = field(default_factory=dict)
    open: bool = False
    """Whether calls are taken from anybody, without a password."""
    signalling: Signalling = field(default_factory=Signalling)
    bindings: dict[str, Binding] = field(default_factory=dict)
    seen: list[tuple[str, str, str]] = field(default_factory=list)
    """Requests that came: method, from, to."""

    def __post_init__(self) -> None:
        self._challenger = Challenger("carrier.example", secrets.token_bytes(32))

    def receive(self, data: bytes, source: Hop, now: float) -> Sent:
        """What is sent because of a datagram that came."""
        if self.signalling.dead:
            return []
        try:
            message = read_message(data)
        except MalformedMessage:
            return []
        try:
            if isinstance(message, Response):
                return self._back(message)
            return self._requested(message, source, now)
        except MalformedValue:
            return []

    def _requested(self, request: Request, source: Hop, now: float) -> Sent:
        request = _stamped(request, source)
        self.seen.append((request.method, request.origin.uri.number, request.uri.number))
        del self.seen[:-1_000]
        if request.method == "REGISTER":
            return self._registered(request, source, now)
        hops = int(request.fields.get("max-forwards") or 70)
        if hops <= 0:
            return self._say(request, 483, source)
        begins = not request.target.tag and not request.fields.get("route")
        if begins and request.method == "INVITE":
            refused = self._let_through(request, source, now)
            if refused is not None:
                return refused
        routes = [parse_address(each) for each in request.fields.all("route")]
        if routes and (routes[0].uri.host, routes[0].uri.port) == (self.host, self.port):
            routes.pop(0)
        uri = request.uri
        if begins:
            found = self._find(uri.number, now)
            if found is None:
                return [] if request.method == "ACK" else self._say(request, 404, source)
            uri = found
        elif (uri.host, uri.port or 5060) == (self.host, self.port):
            # The ACK of a refusal that was our own.
            return []
        return self._on(request, uri, [str(each) for each in routes], hops)

    def _let_through(self, request: Request, source: Hop, now: float) -> Sent | None:
        if self.signalling.unavailable > 0:
            self.signalling.unavailable -= 1
            return self._say(request, 503, source, [("retry-after", "1")])
        if self.open:
            return None
        given = request.fields.get("proxy-authorization") or ""
        user = self._challenger.user_of(given)
        verdict = self._challenger.judge(given, "INVITE", self.passwords.get(user), now)
        if given and verdict == "right":
            return None
        status = 403 if given and verdict == "wrong" else 407
        return self._say(request, status, source, self._challenges("proxy-authenticate", now))

    def _challenges(self, name: str, now: float) -> list[tuple[str, str]]:
        return [(name, str(each)) for each in self._challenger.challenges(now)]

    def _find(self, number: str, now: float) -> Uri | None:
        if number in self.fixed:
            return self.fixed[number]
        bound = self.bindings.get(number)
        return bound.contact if bound is not None and bound.until > now else None

    def _on(self, request: Request, uri: Uri, routes: list[str], hops: int) -> Sent:
        """Send a request on: with our Via, and on the way back through us."""
        top = request.vias[0]
        mark = hashlib.sha256(f"{top.branch} {top.host} {top.port}".encode()).hexdigest()[:20]
        via = Via("UDP", self.host, self.port, (("branch", COOKIE + mark), ("rport", None)))
        vias = [str(via), *(str(each) for each in request.vias)]
        fields = request.fields.having("via", *vias).having("max-forwards", str(hops - 1))
        fields = fields.having("route", *routes) if routes else fields.without("route")
        fields = fields.without("proxy-authorization")
        if request.method == "INVITE":
            ours = f"<sip:{self.host}:{self.port};lr>"
            fields = Fields((("record-route", ours), *fields.pairs))
        to = where(parse_address(routes[0]).uri) if routes else where(uri)
        return [(Request(fields, request.body, request.method, uri).to_bytes(), to)]

    def _back(self, response: Response) -> Sent:
        """Send an answer back where its request came from."""
        ours, *others = response.vias
        if (ours.host, ours.port) != (self.host, self.port) or not others:
            return []
        fields = response.fields.having("via", *(str(each) for each in others))
        top = others[0]
        port = top.parameter("rport") or str(top.port or 5060)
        to = Hop(top.parameter("received") or top.host, int(port))
        sent = Response(fields, response.body, response.status, response.reason)
        return [(sent.to_bytes(), to)]

    def _registered(self, request: Request, source: Hop, now: float) -> Sent:
        number = request.target.uri.number
        given = request.fields.get("authorization") or ""
        user = self._challenger.user_of(given)
        password = self.passwords.get(user) if user == number else None
        verdict = self._challenger.judge(given, "REGISTER", password, now)
        if not given or verdict != "right":
            status = 403 if given and verdict == "wrong" else 401
            return self._say(request, status, source, self._challenges("www-authenticate", now))
        reported = request.fields.get("expires") or str(SECONDS)
        seconds = (
            min(SECONDS, int(reported)) if reported.isascii() and reported.isdigit() else SECONDS
        )
        contacts = request.contacts
        if contacts and seconds > 0:
            self.bindings[number] = Binding(contacts[0].uri, now + seconds)
        else:
            self.bindings.pop(number, None)
        fields = [("contact", f"<{each.uri}>;expires={seconds}") for each in contacts]
        return self._say(request, 200, source, fields)

    def _say(
        self, request: Request, status: int, source: Hop,
        fields: list[tuple[str, str]] | None = None,
    ) -> Sent:  # fmt: skip
        answer = response_to(request, status, tag=TAG, fields=fields or [])
        return [(answer.to_bytes(), source)]


def _stamped(request: Request, source: Hop) -> Request:
    """The request with where it came from in its top Via (RFC 3581)."""
    first, *others = request.vias
    first = first.with_parameter("received", source.host)
    first = first.with_parameter("rport", str(source.port))
    fields = request.fields.having("via", *(str(each) for each in (first, *others)))
    return Request(fields, request.body, request.method, request.uri)
