"""Calls that we place, from the INVITE to its answer."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from fond_echo.core.telephony.errors import MalformedValue
from fond_echo.core.telephony.sip import calls, dialog, timers
from fond_echo.core.telephony.sip.call_leg import AGENT, CallLeg
from fond_echo.core.telephony.sip.calls import Account, Call, where
from fond_echo.core.telephony.sip.message import Fields, Request, Response
from fond_echo.core.telephony.sip.transaction_layer import Output
from fond_echo.core.telephony.sip.transactions import cancelled
from fond_echo.core.telephony.sip.values import Address, Hop, Uri


class OutboundCall:
    """Places calls."""

    def __init__(self, leg: CallLeg) -> None:
        self._leg = leg

    def place(
        self,
        number: Uri,
        caller: Address,
        description: bytes,
        now: float,
        *,
        hop: Hop | None = None,
        account: Account | None = None,
        fields: Sequence[tuple[str, str]] = (),
    ) -> tuple[Call, Output]:
        """Place a call.

        Args:
            hop: where it is sent, a proxy; where None, to what the URI says.
            fields: more header fields.
        """
        ex, to = self._leg.transactions, hop or where(number)
        call_id = f"{ex.token()}@{ex.host}"
        call = Call(
            call_id, False, number.number, caller.uri.number, Request(Fields(()), b"", "", number),
            to, local_sdp=description, account=account,
        )  # fmt: skip
        pairs = (
            ("via", str(ex.via(to.transport))), ("max-forwards", "70"),
            ("from", str(caller.with_tag(ex.token()))), ("to", f"<{number}>"), ("call-id", call_id),
            ("cseq", "1 INVITE"), ("user-agent", AGENT), *timers.asking(), *fields,
            *self._leg.media_fields(call),
        )  # fmt: skip
        call.invite = Request(Fields(pairs), description, "INVITE", number)
        self._leg.know(call)
        return call, self._invite(call, now)

    def _invite(self, call: Call, now: float) -> Output:
        def reported(response: Response | None, at: float) -> Output:
            return self._came_of(call, response, at)

        return self._leg.transactions.ask(call.invite, call.hop, now, reported)

    def _once_more(self, call: Call, now: float, change: Callable[[Fields], Fields]) -> Output:
        """The INVITE again, with what was missing in it."""
        number, _ = call.invite.sequence
        fields = call.invite.fields.having(
            "via", str(self._leg.transactions.via(call.hop.transport))
        )
        fields = change(fields.having("cseq", f"{number + 1} INVITE"))
        call.invite = Request(fields, call.invite.body, "INVITE", call.invite.uri)
        return self._invite(call, now)

    def _came_of(self, call: Call, response: Response | None, now: float) -> Output:
        if response is None:
            return self._leg.over(call, "unreachable", "network", Output())
        if response.status < 200:
            if response.status == 100 or call.state != "offered":
                return Output()
            call.state = "ringing"
            out = Output(events=[calls.Ringing(call)])
            return out.join(self.cancel(call, now)) if call.cancelling else out
        if response.status < 300:
            return self._picked_up(call, response, now)
        given = self._leg.transactions.answering(call.invite, response, call.account)
        if given is not None:
            return self._once_more(call, now, lambda fields: fields.having(*given))
        least = timers.least_of(response) if response.status == 422 else 0
        requested = timers.expiry_of(call.invite)
        if least and requested is not None and requested.seconds < least <= 86_400:
            return self._once_more(
                call, now, lambda fields: fields.having("session-expires", str(least))
            )
        return self._leg.over(
            call, calls.cause_of(response.status), "them", Output(), response.status
        )

    def _picked_up(self, call: Call, response: Response, now: float) -> Output:
        number, _ = call.invite.sequence
        if call.dialog is not None:
            # Our ACK was lost.
            return self._leg.acknowledge(call, number)
        try:
            call.dialog = dialog.as_uac(call.invite, response)
        except MalformedValue:
            return self._leg.over(call, "failed", "them", Output(), response.status)
        if call.state == "ended":
            # It was answered in the moment in which we gave up.
            return self._leg.acknowledge(call, number).join(self._leg.bye(call, now))
        self._leg.know(call)
        out = self._leg.acknowledge(call, number)
        call.state, call.remote_sdp, call.answered_at = "answered", response.body, now
        if call.cancelling:
            return self._leg.over(call, "cancelled", "us", out.join(self._leg.bye(call, now)))
        timers.start(call, timers.expiry_of(response), now, asked_by_us=True)
        self._leg.expect(call)
        out.events.append(calls.Answered(call))
        return out

    def cancel(self, call: Call, now: float) -> Output:
        """Take back a call that was not answered."""
        return self._leg.transactions.ask(
            cancelled(call.invite), call.hop, now, lambda *_: Output()
        )
