"""Calls that a channel places: when they are due, to whom they may go, what came of them, and
whether they are tried again."""

from __future__ import annotations

import asyncio
from collections import deque
from collections.abc import Coroutine
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Any, Protocol
from urllib.parse import quote

import structlog

from fond_echo.contract.call import CallIn, Outcome
from fond_echo.core.errors import FondEchoError
from fond_echo.core.telephony.errors import TelephonyError
from fond_echo.core.telephony.sip.calls import Account, Call, Cause, Ended
from fond_echo.core.telephony.sip.endpoint import Endpoint
from fond_echo.core.telephony.sip.sdp import Agreed, agree, offer, read_description
from fond_echo.core.telephony.sip.transaction_layer import Output
from fond_echo.core.telephony.sip.values import Hop, Uri, parse_address, parse_uri
from fond_echo.documents.phone import Outbound, PhoneConnector, RegistrarSpec
from fond_echo.phone.backend import Backend, Placing
from fond_echo.phone.describing import Descriptions
from fond_echo.phone.media import MediaSockets
from fond_echo.phone.roles import CallContext
from fond_echo.phone.session import Session

log = structlog.get_logger()

OUTCOMES: dict[str, Outcome] = {
    "busy": "busy", "no-answer": "no-answer", "rejected": "rejected", "forbidden": "rejected",
    "unreachable": "unreachable",
}  # fmt: skip


def hop(text: str) -> Hop:
    """HOST:PORT, with ;transport=tcp behind it, as where a message goes."""
    place, _, more = text.removeprefix("sip:").partition(";")
    host, _, port = place.rpartition(":") if ":" in place else (place, "", "5060")
    return Hop(host, int(port), "TCP" if "tcp" in more.lower() else "UDP")


@dataclass
class Placed:
    """A call under way to its answer. `gave_up` where we ended it ourselves, and why."""

    context: CallContext
    order: CallIn
    sockets: MediaSockets
    box: list[Session]
    call: Call
    ringing: asyncio.TimerHandle | None = None
    gave_up: str = ""


class CallHost(Protocol):
    """Whoever has the endpoint and the calls that are under way."""

    channel: str
    connector: PhoneConnector
    backend: Backend
    endpoint: Endpoint
    sessions: dict[str, Session]
    connectors: Descriptions

    def now(self) -> float: ...

    def done(self, output: Output) -> None: ...

    def run(self, work: Coroutine[Any, Any, Any]) -> None: ...

    def account(self, registrar: str) -> Account | None: ...

    def hang_up(self, session: Session, cause: Cause) -> None: ...

    async def open_media(self) -> tuple[MediaSockets, list[Session]]: ...

    def carry(
        self, call: Call, context: CallContext, agreed: Agreed, sockets: MediaSockets,
        box: list[Session],
    ) -> None: ...  # fmt: skip


class Placer:
    """Places a channel's calls."""

    def __init__(self, host: CallHost) -> None:
        self._host = host
        self._placed: dict[str, Placed] = {}
        self._lately: deque[float] = deque()

    def uri(self, number: str) -> Uri:
        """Where a number is reached: at the trunk."""
        place = self._trunk()
        more = ";transport=tcp" if place.reliable else ""
        return parse_uri(f"sip:{number}@{place.host}:{place.port}{more}")

    def _trunk(self) -> Hop:
        outbound = self._host.connector.outbound
        assert outbound is not None
        if outbound.via:
            return hop(outbound.via)
        spec = next(e for e in self._host.connector.registrars if e.registrar == outbound.by)
        return hop(spec.proxy or spec.uri)

    async def look(self) -> None:
        """Place what is due; end what is to be ended."""
        host, outbound = self._host, self._host.connector.outbound
        ending, due = await host.backend.waiting(host.channel)
        for record in ending:
            await self._end(record)
        if outbound is None or not due:
            return
        now = host.now()
        while self._lately and now - self._lately[0] > 60:
            self._lately.popleft()
        busy = len(self._placed) + sum(not s.call.incoming for s in host.sessions.values())
        free = min(outbound.max_concurrent - busy, outbound.per_minute - len(self._lately))
        if free <= 0:
            return
        for wanted in await host.backend.due(host.channel, free, outbound.minutes_per_day):
            self._lately.append(now)
            await self._place(wanted, outbound)

    async def _end(self, record: str) -> None:
        host = self._host
        for session in host.sessions.values():
            if session.context.record == record:
                host.hang_up(session, "hung-up")
                return
        for placed in self._placed.values():
            if placed.context.record == record:
                placed.gave_up = "cancelled"
                host.done(host.endpoint.hang_up(placed.call, host.now()))
                return
        # It was not placed yet, or its process is gone.
        about = {"cause": "cancelled", "by": "us", "status": 0}
        await host.backend.write(
            host.channel, record, "ended", None, about,
            state="ended", cause="cancelled", by="us", ended_at=datetime.now(UTC),
        )  # fmt: skip

    async def _place(self, wanted: Placing, outbound: Outbound) -> None:
        host = self._host
        context = CallContext(wanted.record, wanted.order, wanted.attempts)
        try:
            number = host.connector.may_be_called(wanted.number)
            sockets, box = await host.open_media()
        except FondEchoError as error:
            await self._came_of(context, wanted.order, "failed", 0, str(error))
            return
        spec = next((e for e in host.connector.registrars if e.registrar == outbound.by), None)
        caller = parse_address(_caller(spec, wanted.caller) if spec else self._own(wanted.caller))
        terms = host.connectors.first(sockets.port)
        call, output = host.endpoint.place(
            self.uri(number), caller, offer(terms), host.now(),
            hop=self._trunk(), account=host.account(spec.registrar) if spec else None,
        )  # fmt: skip
        host.connectors.keep(call, terms)
        placed = Placed(context, wanted.order, sockets, box, call)
        self._placed[call.id] = placed
        placed.ringing = asyncio.get_running_loop().call_later(
            outbound.ring_seconds, self._rang_out, placed
        )
        reported = {"number": number}
        host.run(host.backend.write(host.channel, context.record, "placed", None, reported))
        host.done(output)

    def _own(self, number: str) -> str:
        listen = self._host.connector.listen
        return f"<sip:{number}@{listen.public or listen.host}>"

    def _rang_out(self, placed: Placed) -> None:
        placed.gave_up = "no-answer"
        self._host.done(self._host.endpoint.hang_up(placed.call, self._host.now()))

    def rings(self, call: Call) -> None:
        """It rings at the other side."""
        placed, host = self._placed.get(call.id), self._host
        if placed is not None:
            record = placed.context.record
            host.run(host.backend.write(host.channel, record, "ringing", None, {}, state="ringing"))

    def answered(self, call: Call) -> None:
        """The other side picked up."""
        host, placed = self._host, self._placed.pop(call.id, None)
        if placed is None:
            host.done(host.endpoint.hang_up(call, host.now()))
            return
        if placed.ringing is not None:
            placed.ringing.cancel()
        try:
            terms = host.connectors.first(placed.sockets.port)
            agreed = agree(read_description(call.remote_sdp), terms)
        except TelephonyError as error:
            log.info("no common media", channel=host.channel, reason=str(error))
            placed.gave_up = "failed"
            self._placed[call.id] = placed
            host.done(host.endpoint.hang_up(call, host.now(), "failed"))
            return
        host.carry(call, placed.context, agreed, placed.sockets, placed.box)

    async def not_answered(self, event: Ended) -> None:
        """A call is over before anybody spoke."""
        placed = self._placed.pop(event.call.id, None)
        if placed is None:
            return
        if placed.ringing is not None:
            placed.ringing.cancel()
        placed.sockets.close()
        outcome = placed.gave_up or OUTCOMES.get(event.cause, "failed")
        await self._came_of(
            placed.context, placed.order, outcome, event.status, event.cause,
            by="us" if placed.gave_up == "cancelled" else event.by,
        )  # fmt: skip

    async def _came_of(
        self, context: CallContext, order: CallIn, outcome: str, status: int, why: str,
        by: str = "us",
    ) -> None:  # fmt: skip
        """What a try came to: another one later, or the end."""
        host = self._host
        tried = [*context.attempts, _attempt(outcome, status)]
        again = _again(order, outcome, len(tried))
        about = {"outcome": outcome, "status": status, "tries": len(tried)}
        if again is not None:
            await host.backend.write(
                host.channel, context.record, "tried", None,
                {**about, "again_at": again.isoformat()},
                state="requested", due_at=again, attempts=tried,
            )  # fmt: skip
            return
        await host.backend.write(
            host.channel, context.record, "ended", None,
            {"cause": outcome, "by": by, **about, "why": why},
            state="ended", cause=outcome, by=by, status=status, attempts=tried,
            ended_at=datetime.now(UTC),
        )  # fmt: skip


def after_answer(context: CallContext) -> dict[str, Any]:
    """What is known of a call that we placed once it was answered and is over."""
    if context.order is None:
        return {}
    return {"attempts": [*context.attempts, _attempt("answered", 200)]}


def _caller(spec: RegistrarSpec, number: str) -> str:
    """Who calls, through a registrar's trunk: the number that was asked for at the registrar's
    domain, or our address of record where none was."""
    own = parse_uri(spec.aor)
    if not number or number == own.number:
        return f"<{spec.aor}>"
    return f"<sip:{quote(number, safe='+')}@{own.host}>"


def _attempt(outcome: str, status: int) -> dict[str, Any]:
    return {"at": datetime.now(UTC).isoformat(), "outcome": outcome, "status": status}


def _again(order: CallIn, outcome: str, tries: int) -> datetime | None:
    """When a call is tried again; None where it is not."""
    plan = order.retry
    if plan is None or tries > plan.times or outcome not in plan.outcomes:
        return None
    return datetime.now(UTC) + timedelta(seconds=plan.after_seconds)
