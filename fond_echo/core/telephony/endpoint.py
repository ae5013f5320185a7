"""An endpoint of calls: it rings, answers, places and ends them. Datagrams and the time go in;
datagrams and events come out. Media are described by whoever uses it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Literal, Protocol

from fond_echo.core.telephony import calls, dialog
from fond_echo.core.telephony.calls import Account, Call, where
from fond_echo.core.telephony.errors import MalformedValue, TelephonyError
from fond_echo.core.telephony.exchange import Asked, Exchange, Output, Place
from fond_echo.core.telephony.message import Fields, Request, Response, response_to
from fond_echo.core.telephony.transactions import T1, T2, cancelled
from fond_echo.core.telephony.values import Address, Uri

ALLOW = "INVITE, ACK, CANCEL, BYE, OPTIONS, INFO"
KNOWN = frozenset(
    "REGISTER SUBSCRIBE MESSAGE UPDATE REFER NOTIFY PUBLISH PRACK INVITE BYE INFO".split()
)
SDP = "application/sdp"
KEY_TYPES = ("application/dtmf-relay", "application/dtmf")
KEYS = "0123456789*#ABCD"
AGENT = "Fond Echo"


class Describer(Protocol):
    """Says what our media are."""

    def describe(self, call: Call, offer: bytes) -> bytes:
        """Our answer to an offer; our own offer where there is none. Raises a TelephonyError where
        nothing fits."""


class Endpoint:
    """Speaks SIP over datagrams from one address.

    Args:
        host, port: where others reach us.
        describer: asked when the other side changes its media.
        token: makes unguessable names.
    """

    def __init__(
        self, host: str, port: int, describer: Describer, token: Callable[[], str] | None = None
    ) -> None:
        more = {"token": token} if token is not None else {}
        self.exchange = Exchange(host, port, self._asked, **more)
        self._describer = describer
        self._calls: dict[str, Call] = {}

    @property
    def open_calls(self) -> list[Call]:
        """Those that are not over."""
        return list(self._calls.values())

    def receive(self, data: bytes, source: Place, now: float) -> Output:
        """A datagram that came."""
        return self.exchange.receive(data, source, now)

    @property
    def due(self) -> float | None:
        """When it wants to be woken."""
        times = [call.again_at for call in self._calls.values()]
        return min((each for each in [*times, self.exchange.due] if each is not None), default=None)

    def wake(self, now: float) -> Output:
        """The time has come, perhaps."""
        out = self.exchange.wake(now)
        for call in self.open_calls:
            if call.again_at is not None and call.again_at <= now:
                out.join(self._again(call, now))
        return out

    def ring(self, call: Call, now: float) -> Output:
        """Tell the caller that it rings."""
        call.state = "ringing"
        return self._respond(call, 180, now)

    def accept(self, call: Call, description: bytes, now: float) -> Output:
        """Answer a call that came in."""
        call.state, call.described, call.answered_at = "answered", description, now
        call.again_after, call.again_at = T1, now + T1
        return self._respond(call, 200, now, self._media_fields(), description)

    def reject(
        self, call: Call, status: int, now: float, fields: Sequence[tuple[str, str]] = ()
    ) -> Output:
        """Refuse a call that came in and was not answered."""
        out = self._respond(call, status, now, fields)
        return self._over(call, calls.cause_of(status), "us", out, status)

    def hang_up(self, call: Call, now: float) -> Output:
        """End a call in whatever state it is."""
        if call.state == "ended":
            return Output()
        if call.state == "answered":
            return self._over(call, "hung-up", "us", self._bye(call, now))
        if call.incoming:
            return self.reject(call, 480, now)
        # Ours, and not answered: it is cancelled once something has come back (§9.1).
        call.cancelling = True
        return self._cancel(call, now) if call.state == "ringing" else Output()

    def place(
        self,
        number: Uri,
        caller: Address,
        description: bytes,
        now: float,
        *,
        hop: Place | None = None,
        account: Account | None = None,
    ) -> tuple[Call, Output]:
        """Place a call.

        Args:
            hop: where it is sent, a proxy; where None, to what the URI says.
        """
        ex = self.exchange
        call_id = f"{ex.token()}@{ex.host}"
        pairs = (
            ("via", str(ex.via())), ("max-forwards", "70"),
            ("from", str(caller.with_tag(ex.token()))), ("to", f"<{number}>"), ("call-id", call_id),
            ("cseq", "1 INVITE"), ("user-agent", AGENT), *self._media_fields(),
        )  # fmt: skip
        invite = Request(Fields(pairs), description, "INVITE", number)
        call = Call(
            call_id, False, number.number, caller.uri.number, invite, hop or where(number),
            described=description, account=account,
        )  # fmt: skip
        self._calls[call_id] = call
        return call, self._invite(call, now)

    def _invite(self, call: Call, now: float) -> Output:
        def told(response: Response | None, at: float) -> Output:
            return self._came_of(call, response, at)

        return self.exchange.ask(call.invite, call.hop, now, told)

    def _again(self, call: Call, now: float) -> Output:
        """Send the 2xx again until its ACK comes; after 32 s the call is given up (§13.3.1.4)."""
        if now - call.answered_at >= 64 * T1:
            return self._over(call, "no-ack", "network", self._bye(call, now))
        call.again_after = min(2 * call.again_after, T2)
        call.again_at = now + call.again_after
        assert call.answer is not None
        return Output([(call.answer.to_bytes(), call.hop)])

    # Requests that came

    def _asked(self, asked: Asked, now: float) -> Output:
        request = asked.request
        inside = bool(request.target.tag)
        match request.method:
            case "ACK":
                return self._acknowledged(request)
            case "INVITE" if not inside:
                return self._invited(asked, now)
            case "CANCEL":
                return self._cancelled(asked, now)
            case "OPTIONS":
                fields = [("allow", ALLOW), ("accept", SDP)]
                return self._say(asked, 200, now, fields)
            case "INVITE" | "BYE" | "INFO" if inside:
                return self._within(asked, now)
        status = 405 if request.method in KNOWN else 501
        return self._say(asked, status, now, [("allow", ALLOW)])

    def _say(
        self,
        asked: Asked,
        status: int,
        now: float,
        fields: Sequence[tuple[str, str]] = (),
        *,
        reason: str = "",
        body: bytes = b"",
    ) -> Output:
        response = response_to(
            asked.request, status, reason, tag=self.exchange.token(), fields=fields, body=body
        )
        return self.exchange.answer(asked, response, now)

    def _acknowledged(self, request: Request) -> Output:
        call = self._call_of(request)
        if call is None or call.again_at is None:
            return Output()
        call.again_at = None
        if request.body and not call.theirs:
            call.theirs = request.body
        if call.acknowledged:
            return Output()
        call.acknowledged = True
        return Output(events=[calls.Answered(call)])

    def _invited(self, asked: Asked, now: float) -> Output:
        request = asked.request
        wanted = request.fields.all("require")
        if wanted:
            return self._say(asked, 420, now, [("unsupported", ", ".join(wanted))])
        if request.body and request.media_type != SDP:
            return self._say(asked, 415, now, [("accept", SDP)])
        try:
            made = dialog.of_callee(request, self.exchange.token())
        except MalformedValue as error:
            return self._say(asked, 400, now, reason=error.what)
        call = Call(
            f"{request.call_id};{made.remote.tag}", True, request.uri.number,
            request.origin.uri.number, request, asked.place,
            dialog=made, theirs=request.body, asked=asked,
        )  # fmt: skip
        self._calls[call.id] = call
        out = self.exchange.answer(asked, response_to(request, 100), now)
        out.events.append(calls.Offered(call))
        return out

    def _cancelled(self, asked: Asked, now: float) -> Output:
        branch = asked.request.vias[0].branch
        for call in self.open_calls:
            if call.incoming and call.invite.vias[0].branch == branch:
                out = self._say(asked, 200, now)
                if call.state in ("offered", "ringing"):
                    out.join(self._respond(call, 487, now))
                    self._over(call, "cancelled", "them", out, 487)
                return out
        return self._say(asked, 481, now)

    def _within(self, asked: Asked, now: float) -> Output:
        request = asked.request
        call = self._call_of(request)
        if call is None or call.dialog is None:
            return self._say(asked, 481, now)
        after = call.dialog.accepts(request)
        if after is None:
            return self._say(asked, 500, now, reason="Out of Order")
        call.dialog = after
        if request.method == "INVITE":
            return self._reinvited(call, asked, now)
        out = self._say(asked, 200, now)
        if request.method == "BYE":
            return self._over(call, "hung-up", "them", out)
        key = told_key(request)
        if key:
            out.events.append(calls.KeyTold(call, key))
        return out

    def _reinvited(self, call: Call, asked: Asked, now: float) -> Output:
        if call.again_at is not None or call.state != "answered":
            return self._say(asked, 491, now)
        request = asked.request
        try:
            described = self._describer.describe(call, request.body)
        except TelephonyError as error:
            return self._say(asked, 488, now, reason=error.what)
        call.theirs, call.described = request.body or call.theirs, described
        fields = self._media_fields()
        call.answer = response_to(request, 200, fields=fields, body=described)
        call.answered_at, call.hop = now, asked.place
        call.again_after, call.again_at = T1, now + T1
        out = self.exchange.answer(asked, call.answer, now)
        out.events.append(calls.Changed(call))
        return out

    def _call_of(self, request: Request) -> Call | None:
        key = request.call_id, request.target.tag, request.origin.tag
        found = (
            call for call in self.open_calls if call.dialog is not None and call.dialog.key == key
        )
        return next(found, None)

    # What came of our requests

    def _came_of(self, call: Call, response: Response | None, now: float) -> Output:
        if response is None:
            return self._over(call, "unreachable", "network", Output())
        if response.status < 200:
            if response.status == 100 or call.state != "offered":
                return Output()
            call.state = "ringing"
            out = Output(events=[calls.Ringing(call)])
            return out.join(self._cancel(call, now)) if call.cancelling else out
        if response.status < 300:
            return self._picked_up(call, response, now)
        if response.status in (401, 407) and not call.tried and call.account is not None:
            given = self.exchange.answering(call.invite, response, call.account)
            if given is not None:
                call.tried = True
                number, _ = call.invite.sequence
                fields = call.invite.fields.having("via", str(self.exchange.via()))
                fields = fields.having("cseq", f"{number + 1} INVITE").having(*given)
                call.invite = Request(fields, call.invite.body, "INVITE", call.invite.uri)
                return self._invite(call, now)
        return self._over(call, calls.cause_of(response.status), "them", Output(), response.status)

    def _picked_up(self, call: Call, response: Response, now: float) -> Output:
        first = call.dialog is None
        try:
            call.dialog = call.dialog or dialog.of_caller(call.invite, response)
        except MalformedValue:
            return self._over(call, "failed", "them", Output(), response.status)
        number, _ = call.invite.sequence
        ack, _ = call.dialog.request("ACK", self.exchange.via(), number=number)
        out = Output([(ack.to_bytes(), self._next_hop(call, ack))])
        if not first:
            return out
        call.state, call.theirs, call.answered_at = "answered", response.body, now
        if call.cancelling:
            return self._over(call, "cancelled", "us", out.join(self._bye(call, now)))
        out.events.append(calls.Answered(call))
        return out

    # Parts of all of these

    def _media_fields(self) -> list[tuple[str, str]]:
        return [("contact", self.exchange.contact), ("allow", ALLOW), ("content-type", SDP)]

    def _next_hop(self, call: Call, request: Request) -> Place:
        assert call.dialog is not None
        if call.dialog.route:
            return where(call.dialog.route[0].uri)
        return call.hop if call.incoming else where(request.uri)

    def _cancel(self, call: Call, now: float) -> Output:
        return self.exchange.ask(cancelled(call.invite), call.hop, now, lambda *_: Output())

    def _bye(self, call: Call, now: float) -> Output:
        if call.dialog is None:
            return Output()
        bye, call.dialog = call.dialog.request("BYE", self.exchange.via())
        return self.exchange.ask(bye, self._next_hop(call, bye), now, lambda *_: Output())

    def _respond(
        self,
        call: Call,
        status: int,
        now: float,
        fields: Sequence[tuple[str, str]] = (),
        body: bytes = b"",
    ) -> Output:
        assert call.dialog is not None and isinstance(call.asked, Asked)
        tag = call.dialog.local.tag
        response = response_to(call.invite, status, tag=tag, fields=fields, body=body)
        if 200 <= status < 300:
            call.answer = response
        return self.exchange.answer(call.asked, response, now)

    def _over(
        self,
        call: Call,
        cause: calls.Cause,
        by: Literal["us", "them", "network"],
        out: Output,
        status: int = 0,
    ) -> Output:
        if call.state != "ended":
            call.state, call.again_at = "ended", None
            self._calls.pop(call.id, None)
            out.events.append(calls.Ended(call, cause, by, status))
        return out


def told_key(request: Request) -> str:
    """The key in an INFO: "Signal=5" among its lines, or the key alone; "" where there is none."""
    if request.media_type not in KEY_TYPES:
        return ""
    for line in request.body.decode("ascii", "replace").splitlines():
        name, equals, value = line.partition("=")
        if equals and name.strip().lower() != "signal":
            continue
        key = (value if equals else name).strip().upper()
        if len(key) == 1 and key in KEYS:
            return key
    return ""
