"""A phone line on its socket: calls come in, are let in or refused, and carried."""

from __future__ import annotations

import asyncio
import secrets
import time
from collections.abc import Mapping
from typing import Any

import structlog

from fond_echo.core.telephony.calls import (
    Account,
    Answered,
    Call,
    CallEvent,
    Changed,
    Ended,
    KeyTold,
    Offered,
    Registered,
)
from fond_echo.core.telephony.endpoint import Endpoint
from fond_echo.core.telephony.errors import TelephonyError
from fond_echo.core.telephony.exchange import Output, Place
from fond_echo.core.telephony.registering import Registrar, Registration
from fond_echo.core.telephony.sdp import Terms, agree, answer, offer, read_description
from fond_echo.core.telephony.values import parse_address, parse_uri
from fond_echo.documents.phone import PhoneDescription
from fond_echo.lines.phone.media import NoPorts, Receiver, open_media
from fond_echo.lines.phone.session import House, Session
from fond_echo.store.events import emit
from fond_echo.store.records import Line

log = structlog.get_logger()

TICK = 0.02
RETRY_AFTER = "10"


class PhoneServer:
    """One phone line, listening.

    Args:
        voice: of the line's assistant.
        passwords: by the names of the registrars' secrets.
    """

    def __init__(
        self, line: Line, description: PhoneDescription, house: House, voice: str,
        passwords: Mapping[str, str],
    ) -> None:  # fmt: skip
        self.line, self.description = line, description
        self._house, self._voice = house, voice
        listen = description.listen
        self._public = listen.public or listen.host
        self._endpoint = Endpoint(self._public, listen.port, self)
        self._registrations = [
            Registration(
                Registrar(
                    each.registrar, parse_uri(each.uri), parse_address(f"<{each.address}>"),
                    Account(each.user, passwords.get(each.secret, "")), each.seconds,
                    _place(each.proxy) if each.proxy else None,
                ),
                self._endpoint.exchange,
            )
            for each in description.registrars
        ]  # fmt: skip
        self._sessions: dict[str, Session] = {}
        self._tasks: set[asyncio.Task[Any]] = set()
        self._transport: asyncio.DatagramTransport | None = None
        self._timer: asyncio.TimerHandle | None = None
        self._ticking: asyncio.Task[None] | None = None
        self._media_place = secrets.randbits(10)

    @property
    def calls(self) -> int:
        """How many there are now."""
        return len(self._sessions)

    @property
    def standing(self) -> tuple[str, str]:
        """The line's state, and the reason for it."""
        failing = [each for each in self._registrations if each.state == "failing"]
        if failing:
            told = "; ".join(f"{each.registrar.name}: {each.reason}" for each in failing)
            return "not-connected", told
        waiting = [each for each in self._registrations if each.state != "registered"]
        if waiting:
            return "waiting", f"asking {', '.join(each.registrar.name for each in waiting)}"
        return "connected" if self._registrations else "open", ""

    async def start(self) -> None:
        """Listen. Raises OSError where the port is taken."""
        listen = self.description.listen
        loop = asyncio.get_running_loop()
        self._transport, _ = await loop.create_datagram_endpoint(
            lambda: Receiver(self._received), local_addr=(listen.host, listen.port)
        )
        self._ticking = asyncio.create_task(self._tick())
        self._schedule()

    async def stop(self) -> None:
        """Hang up all calls, say goodbye to registrars, and listen no more."""
        now = self._now()
        for call in self._endpoint.open_calls:
            self._done(self._endpoint.hang_up(call, now))
        for each in self._registrations:
            if each.state == "registered":
                self._done(each.leave(now))
        await asyncio.sleep(0.2 if self._registrations else 0.05)
        if self._ticking is not None:
            self._ticking.cancel()
        if self._timer is not None:
            self._timer.cancel()
        if self._transport is not None:
            self._transport.close()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    def describe(self, call: Call, offered: bytes) -> bytes:
        """What we answer when the other side changes its media."""
        session = self._sessions.get(call.id)
        port = session.sockets.port if session is not None else 0
        terms = self._terms(port)
        if not offered:
            return offer(terms)
        described, agreed = answer(read_description(offered), terms)
        if session is not None:
            session.stream.changed(agreed)
        return described

    def _terms(self, port: int) -> Terms:
        return Terms(self._public, port, int(time.time()), version=int(time.time() * 10))

    def _now(self) -> float:
        return asyncio.get_running_loop().time()

    # What comes in and goes out

    def _received(self, data: bytes, place: Place) -> None:
        self._done(self._endpoint.receive(data, place, self._now()))

    def _done(self, output: Output) -> None:
        """Send what is to be sent, and see to what happened."""
        for data, place in output.send:
            if self._transport is not None and not self._transport.is_closing():
                self._transport.sendto(data, place)
        for event in output.events:
            self._happened(event)
        self._schedule()

    def _schedule(self) -> None:
        """Be woken when a machine wants to be."""
        if self._timer is not None:
            self._timer.cancel()
        times = [self._endpoint.due, *(each.due for each in self._registrations)]
        due = min((each for each in times if each is not None), default=None)
        if due is not None and self._transport is not None and not self._transport.is_closing():
            loop = asyncio.get_running_loop()
            self._timer = loop.call_at(max(due, loop.time()), self._wake)

    def _wake(self) -> None:
        now = self._now()
        output = self._endpoint.wake(now)
        for each in self._registrations:
            output.join(each.wake(now))
        self._done(output)

    async def _tick(self) -> None:
        """Every 20 ms, for all calls one after the other; time that was lost is caught up."""
        due = self._now()
        while True:
            due += TICK
            await asyncio.sleep(max(0.0, due - self._now()))
            now, wall = self._now(), time.time()
            if now - due > 1.0:
                due = now
            for session in list(self._sessions.values()):
                session.tick(now, wall)

    # What happened

    def _happened(self, event: CallEvent) -> None:
        match event:
            case Offered(call):
                self._run(self._offered(call))
            case Answered(call) if call.id in self._sessions:
                self._sessions[call.id].begin(self._now())
                self._tell(call, "answered")
            case Changed(call) if call.id in self._sessions:
                self._tell(
                    call, "changed", direction=self._sessions[call.id].stream.agreed.direction
                )
            case KeyTold(call, key) if call.id in self._sessions:
                self._sessions[call.id].key(key, self._now())
            case Ended(call):
                self._ended(event)
            case Registered(name, seconds, problem):
                log.info(
                    "registrar", line=self.line.name, registrar=name, kept=seconds, problem=problem
                )

    def _ended(self, event: Ended) -> None:
        session = self._sessions.pop(event.call.id, None)
        told: dict[str, Any] = {"cause": event.cause, "by": event.by, "status": event.status}
        if session is not None:
            quality = session.end()
            told |= {
                "rating": quality.rating, "opinion": quality.opinion,
                "loss": round(quality.loss, 4), "jitter_ms": round(quality.jitter_ms, 2),
                "delay_ms": round(quality.delay_ms, 1), "strangers": session.stream.strangers,
            }  # fmt: skip
        self._tell(event.call, "ended", **told)

    async def _offered(self, call: Call) -> None:
        """Let a call in, or refuse it."""
        now = self._now()
        if not self.description.may_call(call.hop[0]):
            self._done(self._endpoint.reject(call, 403, now))
            return
        if not self.description.leads_here(call.number):
            self._done(self._endpoint.reject(call, 404, now))
            return
        if len(self._sessions) >= self.description.calls:
            self._done(self._endpoint.reject(call, 503, now, [("retry-after", RETRY_AFTER)]))
            return
        try:
            session, described = await self._prepared(call)
        except (TelephonyError, NoPorts) as error:
            status = 503 if isinstance(error, NoPorts) else 488
            log.info("a call is refused", line=self.line.name, status=status, reason=str(error))
            self._done(self._endpoint.reject(call, status, self._now()))
            return
        if call.state == "ended":
            session.sockets.close()
            return
        self._sessions[call.id] = session
        self._tell(call, "ringing", number=call.number, caller=call.caller)
        self._done(self._endpoint.ring(call, self._now()))
        self._done(self._endpoint.accept(call, described, self._now()))

    async def _prepared(self, call: Call) -> tuple[Session, bytes]:
        """The call's sockets, and what we say of our media."""
        theirs = read_description(call.theirs)
        agree(theirs, self._terms(1))
        listen = self.description.listen
        self._media_place += 1
        box: list[Session] = []

        def sound(data: bytes, place: Place) -> None:
            if box:
                box[0].received(data, place, self._now())

        def reports(data: bytes, place: Place) -> None:
            if box:
                box[0].stream.receive_report(data, self._now(), time.time())

        sockets = await open_media(
            listen.host, listen.media, sound, reports, first=self._media_place
        )
        described, agreed = answer(theirs, self._terms(sockets.port))

        def hang_up() -> None:
            self._done(self._endpoint.hang_up(call, self._now()))

        async def tell(kind: str, data: dict[str, Any]) -> None:
            await self._told(call, kind, data)

        session = Session(
            call, self.line, agreed, sockets, self._house, self.description.manners, self._voice,
            hang_up, tell,
        )  # fmt: skip
        box.append(session)
        return session, described

    def _tell(self, call: Call, kind: str, **data: Any) -> None:
        self._run(self._told(call, kind, data))

    async def _told(self, call: Call, kind: str, data: dict[str, Any]) -> None:
        """Write down an event of a call."""
        async with self._house.database.writing() as session:
            subject = call.invite.call_id
            await emit(session, f"call.{kind}", subject, line=self.line.name, **data)

    def _run(self, work: Any) -> None:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)


def _place(text: str) -> Place:
    host, _, port = text.rpartition(":") if ":" in text else (text, "", "5060")
    return host, int(port)
