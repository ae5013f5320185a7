"""What goes on within a call that was answered: media that change, transfer, keys, the timer that
shows whether the other side is still there."""

from __future__ import annotations

import re
from collections.abc import Sequence

from fond_echo.core.telephony.errors import MalformedValue, TelephonyError
from fond_echo.core.telephony.sip import calls, timers
from fond_echo.core.telephony.sip.call_leg import CallLeg, Describer
from fond_echo.core.telephony.sip.calls import Call
from fond_echo.core.telephony.sip.message import Request, Response, response_to
from fond_echo.core.telephony.sip.transaction_layer import IncomingRequest, Output
from fond_echo.core.telephony.sip.transactions import T1
from fond_echo.core.telephony.sip.values import parse_address

KEY_TYPES = ("application/dtmf-relay", "application/dtmf")
KEYS = "0123456789*#ABCD"
FRAGMENT = "message/sipfrag;version=2.0"
GLARE = (2.1, 4.0)
"""Seconds until the side that made the call asks again, where both asked at once (§14.1)."""


class InDialogRequests:
    """Requests within calls, of both sides.

    Args:
        describer: asked when the other side changes its media.

    Attributes:
        may_be_transferred: whether we call whom the other side wants us to.
    """

    def __init__(self, leg: CallLeg, describer: Describer) -> None:
        self._leg, self._describer = leg, describer
        self.may_be_transferred = False

    def change(self, call: Call, description: bytes, now: float) -> Output:
        """Tell the other side what our media are from now on: hold, resume."""
        call.changing, call.change_at = description, None

        def reported(response: Response | None, at: float) -> Output:
            if response is not None and response.status < 200:
                return Output()
            number = 0 if response is None else response.sequence[0]
            if response is not None and response.status < 300:
                call.local_sdp, call.remote_sdp, call.changing = description, response.body, b""
                expiry = timers.expiry_of(response)
                if expiry is not None:
                    timers.start(call, expiry, at, asked_by_us=True)
                self._leg.expect(call)
                out = self._leg.acknowledge(call, number)
                out.events.append(calls.Changed(call))
                return out
            return self._not_changed(call, response, at)

        return self._leg.ask(
            call, "INVITE", now, reported, self._leg.media_fields(call), description
        )

    def _not_changed(self, call: Call, response: Response | None, now: float) -> Output:
        if response is None or response.status in (408, 481):
            return self._leg.over(call, "vanished", "network", self._leg.bye(call, now))
        if response.status == 491:
            call.change_at = now + (
                self._leg.transactions.chance.uniform(*GLARE) if not call.incoming else 1.0
            )
            self._leg.expect(call)
        else:
            call.changing = b""
        return Output()

    def transfer(self, call: Call, to: str, now: float) -> Output:
        """Ask the other side to call somebody else; `Transferred` tells what came of it.

        Args:
            to: a SIP URI.
        """

        def reported(response: Response | None, at: float) -> Output:
            if response is not None and response.status < 300:
                return Output()
            status = response.status if response is not None else 408
            return Output(events=[calls.Transferred(call, status)])

        mine = str(call.dialog.local.uri) if call.dialog is not None else ""
        fields = [
            ("refer-to", f"<{to}>"), ("referred-by", f"<{mine}>"),
            ("contact", self._leg.transactions.contact(call.hop.transport)),
        ]  # fmt: skip
        return self._leg.ask(call, "REFER", now, reported, fields)

    def tell_transfer(self, call: Call, status: int, now: float) -> Output:
        """Tell the side that asked for a transfer how it goes (RFC 3515 §2.4.4)."""
        if call.state != "answered":
            return Output()
        state = "active;expires=60" if status < 200 else "terminated;reason=noresource"
        fields = [
            ("event", "refer"), ("subscription-state", state), ("content-type", FRAGMENT),
            ("contact", self._leg.transactions.contact(call.hop.transport)),
        ]  # fmt: skip
        reason = "OK" if status == 200 else "Trying" if status < 200 else "Failed"
        body = f"SIP/2.0 {status} {reason}\r\n".encode()
        return self._leg.ask(call, "NOTIFY", now, lambda *_: Output(), fields, body)

    def timer(self, call: Call, now: float) -> Output:
        """The session timer: say that we are here, or find that the other side is not."""
        call.timer_at = None
        if call.refresher == "them":
            return self._leg.over(call, "vanished", "network", self._leg.bye(call, now))

        def reported(response: Response | None, at: float) -> Output:
            if response is None or response.status in (408, 481):
                return self._leg.over(call, "vanished", "network", self._leg.bye(call, at))
            if response.status >= 200:
                expiry = timers.expiry_of(response) if response.status < 300 else None
                timers.start(
                    call, expiry or timers.Expiry(call.interval, "uac"), at, asked_by_us=True
                )
                self._leg.expect(call)
                if response.sequence[1] == "INVITE" and response.status < 300:
                    return self._leg.acknowledge(call, response.sequence[0])
            return Output()

        fields = [
            ("session-expires", f"{call.interval};refresher=uac"), ("supported", "timer"),
            ("contact", self._leg.transactions.contact(call.hop.transport)),
        ]  # fmt: skip
        if "UPDATE" in _allowed(call):
            return self._leg.ask(call, "UPDATE", now, reported, fields)
        fields.append(("content-type", "application/sdp"))
        return self._leg.ask(call, "INVITE", now, reported, fields, call.local_sdp)

    def take(self, requested: IncomingRequest, now: float) -> Output:
        """A request of the other side."""
        request = requested.request
        call = self._leg.call_of(request)
        if call is None or call.dialog is None:
            return self._leg.say(requested, 481, now)
        after = call.dialog.accepts(request)
        if after is None:
            return self._leg.say(requested, 500, now, reason="Out of Order")
        call.dialog = after
        match request.method:
            case "INVITE" | "UPDATE":
                return self._reinvited(call, requested, now)
            case "BYE":
                return self._leg.over(call, "hung-up", "them", self._leg.say(requested, 200, now))
            case "REFER":
                return self._referred(call, requested, now)
            case "NOTIFY":
                return self._notified(call, requested, now)
        out = self._leg.say(requested, 200, now)
        key = reported_key(request)
        if key:
            out.events.append(calls.KeyReported(call, key))
        return out

    def _reinvited(self, call: Call, requested: IncomingRequest, now: float) -> Output:
        request = requested.request
        ours_under_way = bool(call.changing) and call.change_at is None
        if call.retransmit_at is not None or call.state != "answered" or ours_under_way:
            return self._leg.say(requested, 491, now)
        if timers.too_short(request):
            return self._leg.say(requested, 422, now, [("min-se", str(timers.MIN_SESSION_SECONDS))])
        fields: list[tuple[str, str]] = []
        if timers.expiry_of(request) is not None:
            expiry, fields = timers.answered(request)
            timers.start(call, expiry, now, asked_by_us=False)
            self._leg.expect(call)
        fields.append(("contact", self._leg.transactions.contact(call.hop.transport)))
        if request.method == "UPDATE" and not request.body:
            return self._leg.say(requested, 200, now, fields)
        try:
            described = self._describer.describe(call, request.body)
        except TelephonyError as error:
            return self._leg.say(requested, 488, now, reason=error.what)
        call.remote_sdp, call.local_sdp = request.body or call.remote_sdp, described
        fields = [*fields[:-1], *self._leg.media_fields(call)]
        response = response_to(request, 200, fields=fields, body=described)
        call.hop = requested.place
        if request.method == "INVITE":
            call.answer, call.answered_at = response, now
            call.retransmit_after, call.retransmit_at = T1, now + T1
            self._leg.expect(call)
        out = self._leg.transactions.answer(requested, response, now)
        out.events.append(calls.Changed(call))
        return out

    def _referred(self, call: Call, requested: IncomingRequest, now: float) -> Output:
        """Who asked us to call somebody else is told by whoever uses us; see `TransferAsked`."""
        try:
            to = parse_address(requested.request.fields.get("refer-to") or "")
        except MalformedValue as error:
            return self._leg.say(requested, 400, now, reason=error.what)
        if not self.may_be_transferred:
            return self._leg.say(requested, 603, now)
        out = self._leg.say(
            requested, 202, now, [("contact", self._leg.transactions.contact(call.hop.transport))]
        )
        out.events.append(calls.TransferAsked(call, to.uri))
        return out

    def _notified(self, call: Call, requested: IncomingRequest, now: float) -> Output:
        out = self._leg.say(requested, 200, now)
        match = re.match(rb"SIP/2\.0 ([1-6]\d\d)", requested.request.body)
        if match:
            out.events.append(calls.Transferred(call, int(match[1])))
        return out


def _allowed(call: Call) -> Sequence[str]:
    """The methods that the other side said it knows."""
    reported = call.invite.fields.all("allow") if call.incoming else []
    return [each.strip().upper() for each in reported]


def reported_key(request: Request) -> str:
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
