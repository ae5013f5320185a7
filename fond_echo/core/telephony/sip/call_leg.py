"""What both ways of a call share: its state, its requests and answers, its end."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from typing import Protocol

from fond_echo.core.telephony.randomness import RandomSource
from fond_echo.core.telephony.sip import calls
from fond_echo.core.telephony.sip.calls import Call, Side, where
from fond_echo.core.telephony.sip.message import Request, Response, response_to
from fond_echo.core.telephony.sip.timer_queue import TimerQueue
from fond_echo.core.telephony.sip.transaction_layer import (
    IncomingRequest,
    Output,
    ResponseHandler,
    TransactionLayer,
)
from fond_echo.core.telephony.sip.values import Hop

ALLOW = "INVITE, ACK, CANCEL, BYE, OPTIONS, INFO, UPDATE, REFER, NOTIFY"
SDP = "application/sdp"
AGENT = "Fond Echo"


class Describer(Protocol):
    """Says what our media are."""

    def describe(self, call: Call, offer: bytes) -> bytes:
        """Our answer to an offer; our own offer where there is none. Raises a TelephonyError where
        nothing fits."""


class CallLeg:
    """Calls from one address, by what tells them apart.

    Args:
        host, port: where others reach us.
        requested: takes requests that come.
        chance: makes unguessable names.
    """

    def __init__(
        self,
        host: str,
        port: int,
        requested: Callable[[IncomingRequest, float], Output],
        chance: RandomSource,
    ) -> None:
        self.transactions = TransactionLayer(host, port, requested, chance)
        self.calls: dict[str, Call] = {}
        self._dialogs: dict[tuple[str, str, str], Call] = {}
        self.alarms: TimerQueue[str] = TimerQueue()

    @property
    def open_calls(self) -> list[Call]:
        """Those that are not over."""
        return list(self.calls.values())

    def know(self, call: Call) -> None:
        """Keep a call, and its dialog as soon as there is one."""
        self.calls[call.id] = call
        if call.dialog is not None:
            self._dialogs[call.dialog.key] = call

    def expect(self, call: Call) -> None:
        """See to a call when it is due."""
        self.alarms.put(call.id, None if call.state == "ended" else call.due)

    def call_of(self, request: Request) -> Call | None:
        """The call that a request within one belongs to."""
        return self._dialogs.get((request.call_id, request.target.tag, request.origin.tag))

    def media_fields(self, call: Call | None = None) -> list[tuple[str, str]]:
        """The header fields that go with a description of media."""
        transport = call.hop.transport if call is not None else "UDP"
        contact = self.transactions.contact(transport)
        return [("contact", contact), ("allow", ALLOW), ("content-type", SDP)]

    def say(
        self,
        requested: IncomingRequest,
        status: int,
        now: float,
        fields: Sequence[tuple[str, str]] = (),
        *,
        reason: str = "",
        body: bytes = b"",
    ) -> Output:
        """An answer to a request."""
        response = response_to(
            requested.request,
            status,
            reason,
            tag=self.transactions.token(),
            fields=fields,
            body=body,
        )
        return self.transactions.answer(requested, response, now)

    def hop_of(self, call: Call) -> Hop:
        """Where requests of ours within a call go."""
        assert call.dialog is not None
        if call.dialog.route:
            return where(call.dialog.route[0].uri)
        if call.incoming:
            return call.hop
        return where(call.dialog.target)._replace(transport=call.hop.transport)

    def ask(
        self, call: Call, method: str, now: float, reported: ResponseHandler,
        fields: Sequence[tuple[str, str]] = (), body: bytes = b"",
    ) -> Output:  # fmt: skip
        """A request of ours within a call; once more with credentials where it is challenged."""
        assert call.dialog is not None
        hop = self.hop_of(call)
        via = self.transactions.via(hop.transport)
        request, call.dialog = call.dialog.request(method, via, fields=fields, body=body)

        def answered(response: Response | None, at: float) -> Output:
            given = self.transactions.answering(request, response, call.account)
            if given is None:
                return reported(response, at)
            return self.ask(call, method, at, reported, [*fields, given], body)

        return self.transactions.ask(request, hop, now, answered)

    def acknowledge(self, call: Call, number: int) -> Output:
        """The ACK of a 2xx to our INVITE of that number."""
        assert call.dialog is not None
        hop = self.hop_of(call)
        ack, _ = call.dialog.request("ACK", self.transactions.via(hop.transport), number=number)
        return Output([(ack.to_bytes(), hop)])

    def bye(self, call: Call, now: float) -> Output:
        """Hang up on the other side."""
        if call.dialog is None:
            return Output()
        return self.ask(call, "BYE", now, lambda *_: Output())

    def over(
        self, call: Call, cause: calls.Cause, by: Side, out: Output, status: int = 0
    ) -> Output:
        """Forget a call that is over, and report its end once."""
        if call.state != "ended":
            call.state = "ended"
            call.retransmit_at = call.timer_at = call.change_at = None
            self.calls.pop(call.id, None)
            if call.dialog is not None:
                self._dialogs.pop(call.dialog.key, None)
            self.expect(call)
            out.events.append(calls.Ended(call, cause, by, status))
        return out
