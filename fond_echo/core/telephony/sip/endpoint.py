"""An endpoint of calls: it rings, answers, places and ends them. Messages and the time go in;
messages and events come out. Media are described by whoever uses it."""

from __future__ import annotations

from collections.abc import Sequence

from fond_echo.core.caching import Recent
from fond_echo.core.telephony.errors import MalformedValue
from fond_echo.core.telephony.randomness import RandomSource
from fond_echo.core.telephony.sip import calls, dialog, timers
from fond_echo.core.telephony.sip.call_leg import ALLOW, SDP, CallLeg, Describer
from fond_echo.core.telephony.sip.calls import Call
from fond_echo.core.telephony.sip.in_dialog import InDialogRequests
from fond_echo.core.telephony.sip.message import Request, Response, response_to
from fond_echo.core.telephony.sip.outbound_call import OutboundCall
from fond_echo.core.telephony.sip.transaction_layer import IncomingRequest, Output
from fond_echo.core.telephony.sip.transactions import T1, T2
from fond_echo.core.telephony.sip.values import Hop

KNOWN = frozenset("REGISTER SUBSCRIBE MESSAGE PUBLISH PRACK".split()) | frozenset(ALLOW.split(", "))
WITHIN = ("INVITE", "BYE", "INFO", "UPDATE", "REFER", "NOTIFY")
MERGED = 20_000
"""INVITEs that are remembered, to know another copy of one."""

SUPPORTED = frozenset(("timer",))


class Endpoint:
    """Speaks SIP from one address.

    Args:
        host, port: where others reach us.
        describer: asked when the other side changes its media.
        chance: makes unguessable names.

    Attributes:
        inside: what goes on within calls that were answered.
    """

    def __init__(self, host: str, port: int, describer: Describer, chance: RandomSource) -> None:
        self._leg = CallLeg(host, port, self._requested, chance)
        self._outbound = OutboundCall(self._leg)
        self.inside = InDialogRequests(self._leg, describer)
        self.transactions = self._leg.transactions
        self.hop_of, self.place = self._leg.hop_of, self._outbound.place
        self._branches: dict[str, Call] = {}
        self._invites: Recent[tuple[str, str, int], str] = Recent(MERGED)

    def receive(self, data: bytes, source: Hop, now: float) -> Output:
        """A datagram that came."""
        return self.transactions.receive(data, source, now)

    def take(self, message: Request | Response, source: Hop, now: float) -> Output:
        """A message that came over a connection."""
        return self._leg.transactions.take(message, source, now)

    @property
    def open_calls(self) -> list[Call]:
        """Those that are not over."""
        return self._leg.open_calls

    @property
    def due(self) -> float | None:
        """When it wants to be woken."""
        times = (self._leg.alarms.due, self._leg.transactions.due)
        return min((each for each in times if each is not None), default=None)

    def wake(self, now: float) -> Output:
        """The time has come, perhaps."""
        out = self._leg.transactions.wake(now)
        for name in self._leg.alarms.ring(now):
            call = self._leg.calls.get(name)
            if call is None:
                continue
            if call.retransmit_at is not None and call.retransmit_at <= now:
                out.join(self._again(call, now))
            if call.timer_at is not None and call.timer_at <= now:
                out.join(self.inside.timer(call, now))
            if call.change_at is not None and call.change_at <= now:
                out.join(self.inside.change(call, call.changing, now))
            self._leg.expect(call)
        return out

    def ring(self, call: Call, now: float) -> Output:
        """Tell the caller that it rings."""
        call.state = "ringing"
        return self._respond(call, 180, now)

    def accept(self, call: Call, description: bytes, now: float) -> Output:
        """Answer a call that came in."""
        call.state, call.local_sdp, call.answered_at = "answered", description, now
        call.retransmit_after, call.retransmit_at = T1, now + T1
        expiry, fields = timers.answered(call.invite)
        timers.start(call, expiry, now, asked_by_us=False)
        self._leg.expect(call)
        return self._respond(call, 200, now, [*self._leg.media_fields(call), *fields], description)

    def reject(
        self, call: Call, status: int, now: float, fields: Sequence[tuple[str, str]] = ()
    ) -> Output:
        """Refuse a call that came in and was not answered."""
        out = self._respond(call, status, now, fields)
        return self._leg.over(call, calls.cause_of(status), "us", out, status)

    def hang_up(self, call: Call, now: float, cause: calls.Cause = "hung-up") -> Output:
        """End a call in whatever state it is."""
        if call.state == "ended":
            return Output()
        if call.state == "answered":
            return self._leg.over(call, cause, "us", self._leg.bye(call, now))
        if call.incoming:
            return self.reject(call, 480, now)
        # The call is not answered yet: it is cancelled once a response has come back (§9.1).
        call.cancelling = True
        return self._outbound.cancel(call, now) if call.state == "ringing" else Output()

    def _again(self, call: Call, now: float) -> Output:
        """Send the 2xx again until its ACK comes; after 32 s the call is given up (§13.3.1.4)."""
        if now - call.answered_at >= 64 * T1:
            return self._leg.over(call, "no-ack", "network", self._leg.bye(call, now))
        call.retransmit_after = min(2 * call.retransmit_after, T2)
        call.retransmit_at = now + call.retransmit_after
        assert call.answer is not None
        return Output([(call.answer.to_bytes(), call.hop)])

    # Requests that came

    def _requested(self, requested: IncomingRequest, now: float) -> Output:
        request = requested.request
        inside = bool(request.target.tag)
        match request.method:
            case "ACK":
                return self._acknowledged(request)
            case "INVITE" if not inside:
                return self._invited(requested, now)
            case "CANCEL":
                return self._cancelled(requested, now)
            case "OPTIONS":
                fields = [("allow", ALLOW), ("accept", SDP)]
                return self._leg.say(requested, 200, now, fields)
        if inside and request.method in WITHIN:
            return self.inside.take(requested, now)
        status = 405 if request.method in KNOWN else 501
        return self._leg.say(requested, status, now, [("allow", ALLOW)])

    def _acknowledged(self, request: Request) -> Output:
        call = self._leg.call_of(request)
        if call is None or call.retransmit_at is None:
            return Output()
        call.retransmit_at = None
        self._leg.expect(call)
        if request.body and not call.remote_sdp:
            call.remote_sdp = request.body
        if call.acknowledged:
            return Output()
        call.acknowledged = True
        return Output(events=[calls.Answered(call)])

    def _invited(self, requested: IncomingRequest, now: float) -> Output:
        request = requested.request
        branch = request.vias[0].branch
        asked = (request.call_id, request.origin.tag, request.sequence[0])
        if self._invites.get(asked, branch) != branch:
            # The same request on another way (§8.2.2.2).
            return self._leg.say(requested, 482, now)
        self._invites.keep(asked, branch)
        needed = [each.strip().lower() for each in request.fields.all("require")]
        unknown = [each for each in needed if each not in SUPPORTED]
        if unknown:
            return self._leg.say(requested, 420, now, [("unsupported", ", ".join(unknown))])
        if request.uri.scheme == "sips":
            # A call that must be secret all the way: there is no TLS here (§26.2.2).
            return self._leg.say(requested, 416, now)
        if request.body and request.media_type != SDP:
            return self._leg.say(requested, 415, now, [("accept", SDP)])
        if timers.too_short(request):
            return self._leg.say(requested, 422, now, [("min-se", str(timers.MIN_SESSION_SECONDS))])
        try:
            made = dialog.as_uas(request, self._leg.transactions.token())
        except MalformedValue as error:
            return self._leg.say(requested, 400, now, reason=error.what)
        call = Call(
            f"{request.call_id};{made.remote.tag}", True, request.uri.number,
            request.origin.uri.number, request, requested.place,
            dialog=made, remote_sdp=request.body, requested=requested,
        )  # fmt: skip
        self._leg.know(call)
        self._branches[request.vias[0].branch] = call
        out = self._leg.transactions.answer(requested, response_to(request, 100), now)
        out.events.append(calls.Offered(call))
        return out

    def _cancelled(self, requested: IncomingRequest, now: float) -> Output:
        call = self._branches.get(requested.request.vias[0].branch)
        if call is None or call.id not in self._leg.calls:
            return self._leg.say(requested, 481, now)
        out = self._leg.say(requested, 200, now)
        if call.state in ("offered", "ringing"):
            out.join(self._respond(call, 487, now))
            self._leg.over(call, "cancelled", "them", out, 487)
        return out

    def _respond(
        self,
        call: Call,
        status: int,
        now: float,
        fields: Sequence[tuple[str, str]] = (),
        body: bytes = b"",
    ) -> Output:
        assert call.dialog is not None and isinstance(call.requested, IncomingRequest)
        tag = call.dialog.local.tag
        response = response_to(call.invite, status, tag=tag, fields=fields, body=body)
        if 200 <= status < 300:
            call.answer = response
        if status >= 200:
            self._branches.pop(call.invite.vias[0].branch, None)
        return self._leg.transactions.answer(call.requested, response, now)
