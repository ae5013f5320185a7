"""Calls that a channel places: when they are due, to whom they may go, what came of them, and
whether they are tried again."""

from __future__ import annotations

import asyncio
from collections import deque
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING, Any
from urllib.parse import quote

import structlog

from fond_echo.channels.phone.media import MediaSockets, NoPorts
from fond_echo.channels.phone.roles import CallContext
from fond_echo.channels.phone.session import Session
from fond_echo.contract.call import CallIn, Outcome
from fond_echo.core.errors import FondEchoError
from fond_echo.core.telephony.errors import TelephonyError
from fond_echo.core.telephony.sip.calls import Call, Ended
from fond_echo.core.telephony.sip.sdp import agree, offer, read_description
from fond_echo.core.telephony.sip.values import Hop, Uri, parse_address, parse_uri
from fond_echo.documents.phone import Outbound, RegistrarSpec
from fond_echo.store import calls as records

if TYPE_CHECKING:
    from fond_echo.channels.phone.server import PhoneServer

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

    record: str
    order: CallIn
    attempts: list[Any]
    sockets: MediaSockets
    box: list[Session]
    call: Call
    ringing: asyncio.TimerHandle | None = None
    gave_up: str = ""


class Placer:
    """Places a channel's calls."""

    def __init__(self, server: PhoneServer) -> None:
        self._server = server
        self._placed: dict[str, Placed] = {}
        self._lately: deque[float] = deque()

    def uri(self, number: str) -> Uri:
        """Where a number is reached: at the trunk."""
        outbound = self._server.description.outbound
        assert outbound is not None
        place = self._trunk(outbound)
        more = ";transport=tcp" if place.reliable else ""
        return parse_uri(f"sip:{number}@{place.host}:{place.port}{more}")

    def _trunk(self, outbound: Outbound) -> Hop:
        if outbound.via:
            return hop(outbound.via)
        spec = next(e for e in self._server.description.registrars if e.registrar == outbound.by)
        return hop(spec.proxy or spec.uri)

    async def look(self) -> None:
        """Place what is due; end what is to be ended."""
        server, outbound = self._server, self._server.description.outbound
        database, name = server.needs.database, server.channel.name
        async with database.reading() as session:
            ending, due = await records.waiting(session, name)
        for record in ending:
            await self._end(record)
        if outbound is None or not due:
            return
        now = server.now()
        while self._lately and now - self._lately[0] > 60:
            self._lately.popleft()
        busy = len(self._placed) + sum(not s.call.incoming for s in server.sessions.values())
        free = min(outbound.at_once - busy, outbound.a_minute - len(self._lately))
        if free <= 0:
            return
        async with database.writing() as session:
            if await records.minutes_today(session, name) >= outbound.minutes_a_day:
                return
            rows = await records.due_calls(session, name, free)
        for row in rows:
            self._lately.append(now)
            await self._place(row, outbound)

    async def _end(self, record: str) -> None:
        server = self._server
        for session in server.sessions.values():
            if session.ours.record == record:
                server.hang_up(session, "hung-up")
                return
        for placed in self._placed.values():
            if placed.record == record:
                placed.gave_up = "cancelled"
                server.done(server.endpoint.hang_up(placed.call, server.now()))
                return
        # It was not placed yet, or its process is gone.
        about = {"cause": "cancelled", "by": "us", "status": 0}
        await server.call_log.write(
            record, "ended", None, about,
            state="ended", cause="cancelled", by="us", ended_at=datetime.now(UTC),
        )  # fmt: skip

    async def _place(self, row: records.Call, outbound: Outbound) -> None:
        server = self._server
        order = CallIn.model_validate(row.order)
        try:
            number = server.description.may_be_called(row.number)
            sockets, box = await server.open_media()
        except (FondEchoError, NoPorts) as error:
            await self._came_of(row.id, order, list(row.attempts), "failed", 0, str(error))
            return
        spec = next((e for e in server.description.registrars if e.registrar == outbound.by), None)
        account = None
        if spec is not None:
            found = next(r for r in server.registrations if r.registrar.name == spec.registrar)
            account = found.registrar.account
        caller = parse_address(_caller(spec, row.caller) if spec else self._own(row.caller))
        call, output = server.endpoint.place(
            self.uri(number), caller, offer(server.terms(sockets.port)), server.now(),
            hop=self._trunk(outbound), account=account,
        )  # fmt: skip
        placed = Placed(row.id, order, list(row.attempts), sockets, box, call)
        self._placed[call.id] = placed
        placed.ringing = asyncio.get_running_loop().call_later(
            outbound.ring_seconds, self._rang_out, placed
        )
        server.run(server.call_log.write(row.id, "placed", None, {"number": number}))
        server.done(output)

    def _own(self, number: str) -> str:
        listen = self._server.description.listen
        return f"<sip:{number}@{listen.public or listen.host}>"

    def _rang_out(self, placed: Placed) -> None:
        server = self._server
        placed.gave_up = "no-answer"
        server.done(server.endpoint.hang_up(placed.call, server.now()))

    def rings(self, call: Call) -> None:
        """It rings at the other side."""
        placed = self._placed.get(call.id)
        if placed is not None:
            server = self._server
            server.run(server.call_log.write(placed.record, "ringing", None, {}, state="ringing"))

    def answered(self, call: Call) -> None:
        """The other side picked up."""
        server, placed = self._server, self._placed.pop(call.id, None)
        if placed is None:
            server.done(server.endpoint.hang_up(call, server.now()))
            return
        if placed.ringing is not None:
            placed.ringing.cancel()
        try:
            agreed = agree(read_description(call.remote_sdp), server.terms(placed.sockets.port))
        except TelephonyError as error:
            log.info("no common media", channel=server.channel.name, reason=str(error))
            placed.gave_up = "failed"
            self._placed[call.id] = placed
            server.done(server.endpoint.hang_up(call, server.now(), "failed"))
            return
        session = Session(
            call, CallContext(placed.record, placed.order, tuple(placed.attempts)), server.channel,
            agreed, placed.sockets, server.needs, server.description.call_handling,
            server.speaking, server,
        )  # fmt: skip
        placed.box.append(session)
        server.sessions[call.id] = session
        server.begin(session)

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
            placed.record, placed.order, placed.attempts, outcome, event.status, event.cause,
            by="us" if placed.gave_up == "cancelled" else event.by,
        )  # fmt: skip

    async def _came_of(
        self, record: str, order: CallIn, attempts: list[Any], outcome: str, status: int, why: str,
        by: str = "us",
    ) -> None:  # fmt: skip
        """What a try came to: another one later, or the end."""
        tried = [*attempts, _attempt(outcome, status)]
        again = _again(order, outcome, len(tried))
        about = {"outcome": outcome, "status": status, "tries": len(tried)}
        if again is not None:
            await self._server.call_log.write(
                record, "tried", None, {**about, "again_at": again.isoformat()},
                state="requested", due_at=again, attempts=tried,
            )  # fmt: skip
            return
        await self._server.call_log.write(
            record, "ended", None, {"cause": outcome, "by": by, **about, "why": why},
            state="ended", cause=outcome, by=by, status=status, attempts=tried,
            ended_at=datetime.now(UTC),
        )  # fmt: skip

    def after(self, event: Ended, session: Session) -> dict[str, Any]:
        """What is known of a call that we placed once it was answered and is over."""
        if session.ours.order is None:
            return {}
        return {"attempts": [*session.ours.attempts, _attempt("answered", 200)]}


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
