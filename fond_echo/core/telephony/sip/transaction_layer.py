"""The transaction layer: requests that are asked and answered once each, whatever is lost or comes
twice. Messages and the time go in; messages and events come out."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

from fond_echo.core.telephony.errors import MalformedMessage
from fond_echo.core.telephony.randomness import RandomSource, token
from fond_echo.core.telephony.sip.calls import Account, CallEvent
from fond_echo.core.telephony.sip.digest import credentials, strongest
from fond_echo.core.telephony.sip.message import (
    Message,
    Request,
    Response,
    read_message,
    response_to,
)
from fond_echo.core.telephony.sip.timer_queue import TimerQueue
from fond_echo.core.telephony.sip.transactions import (
    COOKIE,
    Client,
    InviteClient,
    InviteServer,
    Server,
    Step,
    Transaction,
    client_key,
    key_of,
)
from fond_echo.core.telephony.sip.values import Hop, Via


@dataclass
class Output:
    """What is to be sent, each with where to, and what happened."""

    send: list[tuple[bytes, Hop]] = field(default_factory=list)
    events: list[CallEvent] = field(default_factory=list)

    def join(self, more: Output) -> Output:
        """Add what came of another step."""
        self.send += more.send
        self.events += more.events
        return self


@dataclass(frozen=True)
class IncomingRequest:
    """A request that came, and what answers it."""

    request: Request
    server: InviteServer | Server | None
    place: Hop


ResponseHandler = Callable[[Response | None, float], Output]
"""Hears what a request came to: each response, or None where none came in time."""


class TransactionLayer:
    """Asks and answers from one address.

    Args:
        host, port: where others reach us; they stand in Via and Contact.
        asked: hears every request that is new.
        chance: makes unguessable names.
    """

    def __init__(
        self,
        host: str,
        port: int,
        requested: Callable[[IncomingRequest, float], Output],
        chance: RandomSource,
    ) -> None:
        self.host, self.port, self.chance = host, port, chance
        self._requested = requested
        self._servers: dict[tuple[str, ...], tuple[InviteServer | Server, Hop]] = {}
        self._alarms: TimerQueue[tuple[str, ...]] = TimerQueue()
        self._clients: dict[
            tuple[str, ...], tuple[InviteClient | Client, Hop, ResponseHandler]
        ] = {}

    def token(self) -> str:
        """A name that nobody guesses."""
        return token(self.chance)

    def via(self, transport: str = "UDP") -> Via:
        """A Via of ours for a new request."""
        parameters = (("branch", COOKIE + self.token()), ("rport", None))
        return Via(transport, self.host, self.port, parameters)

    def contact(self, transport: str = "UDP", user: str = "") -> str:
        """Where others reach us, over a transport; as a user of ours."""
        name = f"{user}@" if user else ""
        more = "" if transport == "UDP" else f";transport={transport.lower()}"
        return f"<sip:{name}{self.host}:{self.port}{more}>"

    def ask(self, request: Request, place: Hop, now: float, reported: ResponseHandler) -> Output:
        """Send a request; `told` hears what it comes to."""
        kind = InviteClient if request.method == "INVITE" else Client
        machine, key = kind(request, now, place.reliable), client_key(request)
        self._clients[key] = machine, place, reported
        self._alarms.put(key, machine.due)
        return Output([(request.to_bytes(), place)])

    def answer(self, requested: IncomingRequest, response: Response, now: float) -> Output:
        """Send a response to a request that came."""
        if requested.server is None or requested.server.over:
            return Output([(response.to_bytes(), requested.place)])
        return self._done(
            requested.server, requested.server.respond(response, now), requested.place, now
        )

    def answering(
        self, request: Request, response: Response | None, account: Account | None
    ) -> tuple[str, str] | None:
        """The field with credentials that answers a challenge; None where the response is none, was
        answered already, or cannot be answered."""
        if account is None or response is None or response.status not in (401, 407):
            return None
        proxy = response.status == 407
        if request.fields.get("proxy-authorization" if proxy else "authorization") is not None:
            return None
        name = "proxy-authenticate" if proxy else "www-authenticate"
        challenge = strongest([value for each, value in response.fields.pairs if each == name])
        if challenge is None:
            return None
        uri, token = str(request.uri), self.token()
        value = credentials(
            challenge, account.user, account.password, request.method, uri, cnonce=token
        )
        return ("proxy-authorization" if proxy else "authorization"), value

    def receive(self, data: bytes, source: Hop, now: float) -> Output:
        """A datagram that came."""
        if not data.strip(b"\r\n\0 "):
            return Output()
        try:
            message = read_message(data)
        except MalformedMessage as error:
            return refused(error, source)
        return self.take(message, source, now)

    def take(self, message: Request | Response, source: Hop, now: float) -> Output:
        """A message that came."""
        if isinstance(message, Response):
            known = self._clients.get(client_key(message))
            if known is None:
                return Output()
            return self._done(known[0], known[0].receive(message, now), known[1], now)
        request = _stamped(message, source)
        place = _back_to(request, source)
        key = key_of(request)
        there = self._servers.get(key)
        if there is not None:
            out = self._done(there[0], there[0].receive(request, now), place, now)
            if request.method == "ACK" and there[0].state == "accepted":
                out.join(self._requested(IncomingRequest(request, None, place), now))
            return out
        if request.method == "ACK":
            return self._requested(IncomingRequest(request, None, place), now)
        kind = InviteServer if request.method == "INVITE" else Server
        server = kind(request, now, place.reliable)
        self._servers[key] = server, place
        self._alarms.put(key, server.due)
        return self._requested(IncomingRequest(request, server, place), now)

    @property
    def due(self) -> float | None:
        """When it wants to be woken."""
        return self._alarms.due

    def wake(self, now: float) -> Output:
        """The time has come, perhaps."""
        out = Output()
        for key in self._alarms.ring(now):
            known = self._clients.get(key)
            there = (known[0], known[1]) if known else self._servers.get(key)
            if there is not None:
                machine, place = there
                out.join(self._done(machine, machine.wake(now), place, now))
        return out

    def _done(self, machine: Transaction, step: Step, place: Hop, now: float) -> Output:
        out = Output([(each.to_bytes(), place) for each in step.send])
        client = isinstance(machine, (InviteClient, Client))
        key = client_key(machine.request) if client else key_of(machine.request)
        for each in step.happened:
            if client:
                known = self._clients.get(key)
                if known is not None and each.name == "response":
                    assert isinstance(each.message, Response)
                    out.join(known[2](each.message, now))
                elif known is not None and each.name == "timed-out":
                    out.join(known[2](None, now))
                elif each.name == "ended":
                    self._clients.pop(key, None)
            elif each.name == "ended":
                self._servers.pop(key, None)
        self._alarms.put(key, machine.due)
        return out


def refused(error: MalformedMessage, source: Hop) -> Output:
    """Say what is wrong with a request, where it can be answered (RFC 4475 §3.1.2)."""
    request = error.answerable
    if not isinstance(request, Request) or request.method == "ACK":
        return Output()
    needed = ("via", "from", "to", "call-id", "cseq")
    if any(request.fields.get(name) is None for name in needed):
        return Output()
    response = response_to(request, error.status, error.what if error.status == 400 else "")
    return Output([(response.to_bytes(), source)])


def _stamped(request: Request, source: Hop) -> Request:
    """The request with where it really came from in its top Via (§18.2.1, RFC 3581)."""
    first, *others = request.vias
    if first.host.strip("[]") != source[0] or first.parameter("rport") is not None:
        first = first.with_parameter("received", source[0])
    if first.parameter("rport") is not None:
        first = first.with_parameter("rport", str(source[1]))
    fields = request.fields.having("via", *(str(each) for each in (first, *others)))
    return Request(fields, request.body, request.method, request.uri)


def _back_to(message: Message, source: Hop) -> Hop:
    """Where answers to a request go (§18.2.2, RFC 3581 §4)."""
    top = message.vias[0]
    if top.parameter("rport"):
        return source
    if source.reliable:
        return source
    return Hop(top.parameter("received") or top.host.strip("[]"), top.port or 5060)
