"""A phone channel on its sockets: calls come in, are let in or refused, and carried to their
end."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import time
from collections.abc import Coroutine, Mapping
from datetime import UTC, datetime
from typing import Any

import structlog

from fond_echo.core.errors import FondEchoError
from fond_echo.core.telephony.errors import TelephonyError
from fond_echo.core.telephony.media.stream import Place
from fond_echo.core.telephony.sip.calls import (
    Account,
    Answered,
    Call,
    CallEvent,
    Cause,
    Changed,
    Ended,
    KeyReported,
    Offered,
    Registered,
    Ringing,
    Transferred,
)
from fond_echo.core.telephony.sip.digest import Challenger
from fond_echo.core.telephony.sip.endpoint import Endpoint
from fond_echo.core.telephony.sip.message import Request, Response
from fond_echo.core.telephony.sip.rate_limiter import RateLimiter
from fond_echo.core.telephony.sip.saved_dialog import farewell, kept
from fond_echo.core.telephony.sip.sdp import Agreed, agree, answer, offer, read_description
from fond_echo.core.telephony.sip.transaction_layer import Output
from fond_echo.core.telephony.sip.values import Hop
from fond_echo.documents.call_handling import Speaking
from fond_echo.documents.phone import PhoneConnector
from fond_echo.phone.admission import CallAdmission
from fond_echo.phone.backend import Backend, CallEnd
from fond_echo.phone.describing import Descriptions
from fond_echo.phone.incoming import IncomingCalls
from fond_echo.phone.media import MediaSockets, open_media
from fond_echo.phone.placing import Placer, after_answer
from fond_echo.phone.prompts import Prompts
from fond_echo.phone.registrations import Registrations, places
from fond_echo.phone.roles import CallContext
from fond_echo.phone.session import CHANCE, Session
from fond_echo.phone.ticking import Ticker
from fond_echo.phone.transport import Transport

log = structlog.get_logger()

SPEECH_SECONDS = 60.0
"""So long may speech take to start before somebody is told that prompts are not ready."""

AFTER_ERROR = 0.1
"""Seconds until timers go on, where one of them failed."""


class PhoneServer:
    """One phone channel, listening.

    Args:
        speaking: how the channel's assistant speaks.
        passwords: by the names of secrets: the registrars' and the callers'.
    """

    def __init__(
        self, channel: str, connector: PhoneConnector, backend: Backend, speaking: Speaking,
        passwords: Mapping[str, str],
    ) -> None:  # fmt: skip
        self.channel, self.connector, self.speaking = channel, connector, speaking
        self.backend, self.prompts = backend, Prompts(backend.prompt)
        listen = connector.listen
        self._public = listen.public or listen.host
        self.any_source = listen.sound_from == "anywhere"
        self.endpoint = Endpoint(self._public, listen.port, self, CHANCE)
        self.registrations = Registrations(connector, passwords, self.endpoint.transactions)
        self.sessions: dict[str, Session] = {}
        self._guard = RateLimiter()
        challenger = Challenger(channel, secrets.token_bytes(32))
        known = {each.user: passwords.get(each.password.secret, "") for each in connector.callers}
        self._admission = CallAdmission(connector, self._guard, challenger, known)
        self._placer = Placer(self)
        self._hosts = frozenset(places(connector))
        self._tasks: set[asyncio.Task[Any]] = set()
        self._transport = Transport(self._received, self._took)
        self._timer: asyncio.TimerHandle | None = None
        self._not_before = 0.0
        self.connectors = Descriptions(self._public)
        self.ticker = Ticker(self._broke)
        self._incoming = IncomingCalls(self, self._admission)
        self._media_place = secrets.randbits(10)

    async def start(self) -> None:
        """End what another process left, and listen. Raises OSError where the port is taken."""
        listen = self.connector.listen
        await self._transport.open(listen.host, listen.port)
        await self._leave_behind()
        self.ticker.start()
        await self.speak_as(self.speaking)
        self._schedule()

    async def _leave_behind(self) -> None:
        """Calls that were under way when their process stopped: their far ends are told."""
        for dialog in await self.backend.left_behind(self.channel):
            account = self.registrations.account_at(str(dialog.get("hop", [""])[0]))
            self.done(farewell(self.endpoint.transactions, dialog, self.now(), account))

    def account(self, registrar: str) -> Account | None:
        """Who we are at a registrar."""
        return self.registrations.account(registrar)

    async def speak_as(self, speaking: Speaking) -> None:
        """From the next call on, the assistant speaks so; what it always says is rendered."""
        self.speaking = speaking
        handling = self.connector.call_handling
        for each in speaking.everyone():
            own = each.words(handling)
            words = [each.greeting, *own.reminders, own.goodbye, own.not_connected]
            if handling.record:
                words.insert(0, own.recorded)
            self.run(self._prepare([text for text in words if text], each))

    async def _prepare(self, words: list[str], speaking: Speaking) -> None:
        """Render prompts, and warm up; speech may still be starting."""
        until = self.now() + SPEECH_SECONDS
        for each in words:
            for law in ("PCMU", "PCMA"):
                while self._transport.is_open:
                    try:
                        await self.prompts.spoken(
                            each, speaking.voice, law, speaking.language, speaking.engines
                        )
                        break
                    except FondEchoError as error:
                        if self.now() > until:
                            log.warning(
                                "prompts are not ready: they are rendered when they are needed",
                                channel=self.channel, reason=str(error),
                            )  # fmt: skip
                            return
                        await asyncio.sleep(1.0)
        with contextlib.suppress(FondEchoError):
            await self.backend.warm(self.channel, speaking.revision)

    async def stop(self) -> None:
        """Hang up all calls, say goodbye to registrars, and listen no more."""
        now = self.now()
        for call in self.endpoint.open_calls:
            self.done(self.endpoint.hang_up(call, now))
        self.done(self.registrations.leave(now))
        await asyncio.sleep(0.2 if self.connector.registrars else 0.05)
        self.ticker.stop()
        if self._timer is not None:
            self._timer.cancel()
        await self._transport.close()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    def describe(self, call: Call, offered: bytes) -> bytes:
        """What we answer when the other side changes its media."""
        session = self.sessions.get(call.id)
        terms = self.connectors.following(call, session.sockets.port if session else 0)
        if not offered:
            return offer(terms)
        described, agreed = answer(read_description(offered), terms)
        if session is not None:
            session.stream.changed(agreed)
        return described

    def now(self) -> float:
        return asyncio.get_running_loop().time()

    # What comes in and goes out

    def _received(self, data: bytes, source: Hop) -> None:
        # Whoever has a call may send what belongs to it; all others have a limit, whatever they
        # send: a BYE for no call costs as much as an INVITE.
        if not self._admission.takes(data, source.host, self._known, self.now()):
            return
        self.done(self.endpoint.receive(data, source, self.now()))

    def _took(self, message: Request | Response, source: Hop) -> None:
        method = message.method.encode() if isinstance(message, Request) else b""
        if not self._admission.takes(method, source.host, self._known, self.now()):
            return
        self.done(self.endpoint.take(message, source, self.now()))

    def _known(self, host: str) -> bool:
        """Whether a host has a call that was let in, or is in the channel's description. A call
        that is still being refused makes nobody known."""
        let_in = (session.call for session in self.sessions.values())
        return host in self._hosts or any(call.hop.host == host for call in let_in)

    def done(self, output: Output) -> None:
        """Send what is to be sent, and see to what happened."""
        self._transport.done(output)
        for event in output.events:
            try:
                self._happened(event)
            except Exception:
                # Whatever one call comes to is no matter of the others.
                log.exception("a call broke", channel=self.channel, kind=type(event).__name__)
                if not isinstance(event, Registered | Ended):
                    self._broke(event.call.id)
        self._schedule()

    def _broke(self, call_id: str) -> None:
        """End a call in which something of ours failed."""
        session = self.sessions.get(call_id)
        if session is not None:
            self.run(self._hung_up(session))

    async def _hung_up(self, session: Session) -> None:
        self.hang_up(session, "failed")

    def _schedule(self) -> None:
        """Be woken when a machine wants to be."""
        if self._timer is not None:
            self._timer.cancel()
        times = [self.endpoint.due, *self.registrations.due]
        due = min((each for each in times if each is not None), default=None)
        if due is not None and self._transport.is_open:
            loop = asyncio.get_running_loop()
            self._timer = loop.call_at(max(due, loop.time(), self._not_before), self._wake)

    def _wake(self) -> None:
        now = self.now()
        try:
            output = self.endpoint.wake(now)
            output.join(self.registrations.wake(now))
        except Exception:
            # Its timers go on: those of one call must not stop all the others.
            log.exception("a timer broke", channel=self.channel)
            output = Output()
            self._not_before = now + AFTER_ERROR
        self.done(output)

    @property
    def facts(self) -> dict[str, float]:
        """How its loop does, and how calls begin."""
        return {**self.ticker.facts, **self._incoming.facts}

    async def look(self) -> None:
        """Place calls that are due, and end those that somebody wants to be over."""
        await self._placer.look()

    # What happened

    def _happened(self, event: CallEvent) -> None:
        session = self.sessions.get(event.call.id) if not isinstance(event, Registered) else None
        match event:
            case Offered(call):
                self.run(self._incoming.admit(call))
            case Ringing(call):
                self._placer.rings(call)
            case Answered(call) if call.incoming and session is not None:
                self._begin(session)
            case Answered(call):
                self._placer.answered(call)
            case Changed(call) if session is not None:
                way = session.stream.agreed.direction
                self.run(self.tell(session, "changed", direction=way))
            case KeyReported(call, key) if session is not None:
                session.key(key, self.now())
            case Transferred(call, status) if session is not None:
                session.transferred(status)
            case Ended(call):
                self.run(self._ended(event, self.sessions.pop(call.id, None)))
            case Registered(name, seconds, problem):
                log.info(
                    "registrar",
                    channel=self.channel,
                    registrar=name,
                    kept=seconds,
                    problem=problem,
                )

    def _begin(self, session: Session) -> None:
        """Both sides may speak."""
        if not session.agreed:
            try:
                described = read_description(session.call.remote_sdp)
                session.stream.changed(
                    agree(described, self.connectors.first(session.sockets.port))
                )
            except TelephonyError as error:
                log.info("no common media", channel=self.channel, reason=str(error))
                self.done(self.endpoint.hang_up(session.call, self.now(), "failed"))
                return
        self.begin(session)

    def begin(self, session: Session) -> None:
        """A call was answered, by us or by the other side."""
        dialog, start = kept(session.call, self.endpoint.hop_of(session.call)), session.start
        # Before the greeting: what happens is written down in the order in which it begins.
        self.run(
            self.backend.write(
                self.channel, start.record, "answered", 0.0,
                {"caller": start.contact, "number": start.dialed},
                state="answered", answered_at=datetime.now(UTC), dialog=dialog,
                conversation=start.conversation,
            )
        )  # fmt: skip
        session.begin(self.now())
        self.ticker.add(session.call.id, session.tick)

    def carry(
        self, call: Call, context: CallContext, agreed: Agreed, sockets: MediaSockets,
        box: list[Session],
    ) -> None:  # fmt: skip
        """Take over a call that we placed: it was answered."""
        session = self.session(call, context, agreed, sockets)
        box.append(session)
        self.sessions[call.id] = session
        self.begin(session)

    def session(
        self, call: Call, context: CallContext, agreed: Agreed | None, sockets: MediaSockets
    ) -> Session:
        """A call with its media, which has not begun."""
        dialed, other = (call.number, call.caller) if call.incoming else ("", call.number)
        return Session(
            call, context, self.channel, agreed, sockets, self.backend, self.prompts,
            self.connector.call_handling, self.speaking.to(dialed, other), self,
        )  # fmt: skip

    async def _ended(self, event: Ended, session: Session | None) -> None:
        ended_at = datetime.now(UTC)
        self.ticker.remove(event.call.id)
        self.connectors.forget(event.call)
        if session is None:
            await self._placer.not_answered(event)
            return
        at = self.now() - session.begun_at if session.begun_at else None
        quality = await session.end()
        about = {"cause": event.cause, "by": event.by, "status": event.status}
        measured: dict[str, Any] = {"unknown_source_packets": session.stream.unknown_source_packets}
        measured |= quality.facts if quality is not None else {}
        end = CallEnd(about, ended_at, at, measured, after_answer(session.context))
        await session.backend.ended(end)

    async def open_media(self) -> tuple[MediaSockets, list[Session]]:
        """Sockets for a call, and where its session is put as soon as there is one. Raises
        NoPorts."""
        listen = self.connector.listen
        self._media_place += 1
        box: list[Session] = []

        def sound(data: bytes, place: Place) -> None:
            if box:
                box[0].received(data, place, self.now())

        def reports(data: bytes, place: Place) -> None:
            if box:
                box[0].stream.receive_report(data, self.now(), time.time())

        sockets = await open_media(
            listen.host, listen.media, sound, reports, first=self._media_place
        )
        return sockets, box

    # What a session asks for

    def hang_up(self, session: Session, cause: Cause) -> None:
        """End a call."""
        self.done(self.endpoint.hang_up(session.call, self.now(), cause))

    def transfer(self, session: Session, to: str) -> bool:
        """Ask the other side to call somebody; False where that may not be called."""
        try:
            number = self.connector.may_be_called(to)
        except Exception as error:
            log.warning("no transfer", channel=self.channel, reason=str(error))
            return False
        uri = self._placer.uri(number)
        self.done(self.endpoint.inside.transfer(session.call, str(uri), self.now()))
        return True

    async def tell(self, session: Session, kind: str, **data: Any) -> None:
        """Write down an event of a call."""
        at = self.now() - session.begun_at if session.begun_at else None
        values = {"answered_by": data["who"]} if kind == "answered_by" else {}
        await self.backend.write(self.channel, session.start.record, kind, at, data, **values)

    def run(self, work: Coroutine[Any, Any, Any]) -> None:
        """Do something beside everything else."""
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._finished)

    def _finished(self, task: asyncio.Task[Any]) -> None:
        self._tasks.discard(task)
        if not task.cancelled() and (error := task.exception()) is not None:
            log.error("work of a call broke", channel=self.channel, exc_info=error)
