"""Being known to a registrar (RFC 3261 §10): told where we are, again before it forgets, with
growing pauses while it does not answer."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

from fond_echo.core.telephony.sip.calls import Account, Registered, where
from fond_echo.core.telephony.sip.message import Fields, Request, Response
from fond_echo.core.telephony.sip.transaction_layer import Output, TransactionLayer
from fond_echo.core.telephony.sip.values import Address, Hop, Uri

FIRST_PAUSE, MAX_PAUSE = 2.0, 300.0
AHEAD = 0.8
"""We tell again after this share of the time it keeps us."""

State = Literal["not-registered", "registering", "registered", "failed"]


@dataclass(frozen=True)
class Registrar:
    """Where and as whom we register.

    Attributes:
        address: our address of record.
        seconds: for how long we ask to be kept.
        hop: a proxy that it is sent through.
    """

    name: str
    uri: Uri
    address: Address
    account: Account
    seconds: int = 600
    hop: Hop | None = None


class Registration:
    """One registration: its state, the reason for it, and when it is next to be told."""

    def __init__(self, registrar: Registrar, exchange: TransactionLayer) -> None:
        self.registrar = registrar
        self.state: State = "not-registered"
        self.reason = ""
        self.due: float | None = 0.0
        self._transactions = exchange
        self._call_id = f"{exchange.token()}@{exchange.host}"
        self._tag = exchange.token()
        self._number = 0
        self._seconds = registrar.seconds
        self._pause = FIRST_PAUSE

    def wake(self, now: float) -> Output:
        """Tell the registrar, where it is time."""
        if self.due is None or now < self.due:
            return Output()
        self.due = None
        if self.state != "registered":
            self.state = "registering"
        return self._ask(now, self._seconds, ())

    def leave(self, now: float) -> Output:
        """Tell it that we are gone."""
        self.due = None
        return self._ask(now, 0, ())

    def _ask(self, now: float, seconds: int, given: tuple[tuple[str, str], ...]) -> Output:
        registrar, exchange = self.registrar, self._transactions
        self._number += 1
        hop = registrar.hop or where(registrar.uri)
        pairs = (
            ("via", str(exchange.via(hop.transport))), ("max-forwards", "70"),
            ("from", str(registrar.address.with_tag(self._tag))), ("to", str(registrar.address)),
            ("call-id", self._call_id), ("cseq", f"{self._number} REGISTER"),
            ("contact", exchange.contact(hop.transport, registrar.address.uri.user)),
            ("expires", str(seconds)), *given,
        )  # fmt: skip
        request = Request(Fields(pairs), b"", "REGISTER", registrar.uri)

        def reported(response: Response | None, at: float) -> Output:
            if response is not None and response.status < 200:
                return Output()
            answer = exchange.answering(request, response, registrar.account)
            if answer is not None:
                return self._ask(at, seconds, (answer,))
            return self._came(request, response, seconds, at)

        return exchange.ask(request, hop, now, reported)

    def _came(
        self, request: Request, response: Response | None, seconds: int, now: float
    ) -> Output:
        name = self.registrar.name
        if seconds == 0:
            self.state, self.reason = "not-registered", ""
            return Output(events=[Registered(name, 0.0)])
        if response is not None and 200 <= response.status < 300:
            kept = self._kept(response, seconds)
            self.state, self.reason, self._pause = "registered", "", FIRST_PAUSE
            self.due = now + max(1.0, AHEAD * kept)
            return Output(events=[Registered(name, kept)])
        if response is not None and response.status == 423:
            least = response.fields.get("min-expires") or ""
            if least.isascii() and least.isdigit() and int(least) > seconds:
                self._seconds = min(int(least), 86_400)
                return self._ask(now, self._seconds, ())
        reported = (
            f"{response.status} {response.reason}" if response else "the registrar does not answer"
        )
        self.state, self.reason = "failed", reported
        self.due = now + self._pause
        self._pause = min(2 * self._pause, MAX_PAUSE)
        return Output(events=[Registered(name, 0.0, reported)])

    def _kept(self, response: Response, requested: int) -> float:
        """For how long it keeps us: our contact's own value before the message's."""
        text = response.fields.get("expires") or ""
        for contact in response.contacts:
            if (contact.uri.host, contact.uri.port) == (
                self._transactions.host,
                self._transactions.port,
            ):
                text = contact.parameter("expires") or text
        return float(text) if text.isascii() and text.isdigit() and int(text) else float(requested)
