"""A phone channel on its sockets: calls come in, are let in or refused, and carried to their
end."""

from __future__ import annotations

import asyncio
import contextlib
import secrets
import time
from collections.abc import Iterator, Mapping
from typing import Any

import structlog

from fond_echo.channels.phone import placing
from fond_echo.channels.phone.admission import CallAdmission
from fond_echo.channels.phone.call_log import CallLog
from fond_echo.channels.phone.dependencies import CallDependencies
from fond_echo.channels.phone.media import MediaSockets, NoPorts, open_media
from fond_echo.channels.phone.roles import CallContext, Speaking
from fond_echo.channels.phone.session import CHANCE, Session
from fond_echo.channels.phone.ticking import Ticker
from fond_echo.channels.phone.transport import Transport
from fond_echo.channels.phone.turns import warm
from fond_echo.contract.base import new_id
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
    KeyTold,
    Offered,
    Registered,
    Ringing,
    Transferred,
    where,
)
from fond_echo.core.telephony.sip.digest import Challenger
from fond_echo.core.telephony.sip.endpoint import Endpoint
from fond_echo.core.telephony.sip.message import Request, Response
from fond_echo.core.telephony.sip.rate_limiter import RateLimiter
from fond_echo.core.telephony.sip.registration import Registrar, Registration
from fond_echo.core.telephony.sip.saved_dialog import farewell, kept
from fond_echo.core.telephony.sip.sdp import Terms, agree, answer, offer, read_description
from fond_echo.core.telephony.sip.transaction_layer import Output
from fond_echo.core.telephony.sip.values import Hop, parse_address, parse_uri
from fond_echo.documents.phone import PhoneDescription
from fond_echo.store.records import Channel

log = structlog.get_logger()

ROOM_SECONDS = 2.0
"""A call waits so long for room; then it is refused."""

BEGINNING_SECONDS = 0.5
"""The next call begins when this one was greeted, or after so long."""

RETRY_AFTER = ("retry-after", "10")
BEGINS = (b"INVITE", b"REGISTER", b"OPTIONS", b"SUBSCRIBE", b"MESSAGE")


class PhoneServer:
    """One phone channel, listening.

    Args:
        speaking: how the channel's assistant speaks.
        passwords: by the names of secrets: the registrars' and the callers'.
    """

    def __init__(
        self, channel: Channel, description: PhoneDescription, needs: CallDependencies,
        speaking: Speaking, passwords: Mapping[str, str],
    ) -> None:  # fmt: skip
        self.channel, self.description, self.speaking = channel, description, speaking
        self.needs = needs
        listen = description.listen
        self._public = listen.public or listen.host
        self.any_source = listen.sound_from == "anywhere"
        self.endpoint = Endpoint(self._public, listen.port, self, CHANCE)
        self.registrations = [
            Registration(
                Registrar(
                    each.registrar, parse_uri(each.uri), parse_address(f"<{each.aor}>"),
                    Account(each.user, passwords.get(each.secret, "")), each.expires,
                    placing.hop(each.proxy) if each.proxy else None,
                ),
                self.endpoint.transactions,
            )
            for each in description.registrars
        ]  # fmt: skip
        self.sessions: dict[str, Session] = {}
        self.call_log = CallLog(needs, channel.name)
        self._guard = RateLimiter()
        challenger = Challenger(channel.name, secrets.token_bytes(32))
        known = {each.user: passwords.get(each.secret, "") for each in description.callers}
        self._admission = CallAdmission(description, self._guard, challenger, known)
        self._placer = placing.Placer(self)
        self._hosts = frozenset(_places(description))
        self._tasks: set[asyncio.Task[Any]] = set()
        self._transport = Transport(self._received, self._took)
        self._timer: asyncio.TimerHandle | None = None
        self.ticker = Ticker()
        self._beginning = asyncio.Lock()
        self._media_place = secrets.randbits(10)

    @property
    def calls(self) -> int:
        """How many there are now."""
        return len(self.sessions)

    @property
    def registered(self) -> list[dict[str, str]]:
        """How each registration stands."""
        return [
            {"registrar": each.registrar.name, "state": each.state, "reason": each.reason}
            for each in self.registrations
        ]

    @property
    def standing(self) -> tuple[str, str]:
        """The channel's state, and the reason for it."""
        failing = [each for each in self.registrations if each.state == "failed"]
        if failing:
            told = "; ".join(f"{each.registrar.name}: {each.reason}" for each in failing)
            return "not-connected", told
        waiting = [each for each in self.registrations if each.state != "registered"]
        if waiting:
            return (
                "waiting",
                f"registering with {', '.join(each.registrar.name for each in waiting)}",
            )
        return "connected" if self.registrations else "open", ""

    async def start(self) -> None:
        """End what another process left, and listen. Raises OSError where the port is taken."""
        listen = self.description.listen
        await self._transport.open(listen.host, listen.port)
        await self._leave_behind()
        self.ticker.start()
        await self.speak_as(self.speaking)
        self._schedule()

    async def _leave_behind(self) -> None:
        """Calls that were under way when their process stopped: their far ends are told."""
        for dialog in await self.call_log.left_behind():
            account = self._account_at(str(dialog.get("hop", [""])[0]))
            self.done(farewell(self.endpoint.transactions, dialog, self.now(), account))

    def _account_at(self, host: str) -> Account | None:
        """Who we are for what a host asks, where it is a registrar or its proxy."""
        for each in self.registrations:
            registrar = each.registrar
            hops = [where(registrar.uri), *([registrar.hop] if registrar.hop else [])]
            if any(hop.host == host for hop in hops):
                return registrar.account
        return None

    async def speak_as(self, speaking: Speaking) -> None:
        """From the next call on, the assistant speaks so; what it always says is rendered."""
        self.speaking = speaking
        handling = self.description.call_handling
        words = [
            speaking.greeting,
            *handling.reminders,
            handling.no_input_goodbye,
            handling.not_connected,
        ]
        if handling.record:
            words.insert(0, handling.record_words)
        self.run(self._render([each for each in words if each], speaking.voice))
        self.run(warm(self.needs, self.channel, speaking.revision))

    async def _render(self, words: list[str], voice: str) -> None:
        for each in words:
            for law in ("PCMU", "PCMA"):
                try:
                    await self.needs.prompts.spoken(each, voice, law)
                except Exception as error:
                    log.info("a prompt is not ready", channel=self.channel.name, reason=str(error))

    async def stop(self) -> None:
        """Hang up all calls, say goodbye to registrars, and listen no more."""
        now = self.now()
        for call in self.endpoint.open_calls:
            self.done(self.endpoint.hang_up(call, now))
        for each in self.registrations:
            if each.state == "registered":
                self.done(each.leave(now))
        await asyncio.sleep(0.2 if self.registrations else 0.05)
        self.ticker.stop()
        if self._timer is not None:
            self._timer.cancel()
        await self._transport.close()
        await asyncio.gather(*self._tasks, return_exceptions=True)

    def describe(self, call: Call, offered: bytes) -> bytes:
        """What we answer when the other side changes its media."""
        session = self.sessions.get(call.id)
        terms = self.terms(session.sockets.port if session is not None else 0)
        if not offered:
            return offer(terms)
        described, agreed = answer(read_description(offered), terms)
        if session is not None:
            session.stream.changed(agreed)
        return described

    def terms(self, port: int) -> Terms:
        """What we offer and take, for sound at a port."""
        return Terms(self._public, port, int(time.time()), version=int(time.time() * 10))

    def now(self) -> float:
        return asyncio.get_running_loop().time()

    # What comes in and goes out

    def _received(self, data: bytes, source: Hop) -> None:
        # Whoever has a call may send what belongs to it; all others have a limit, whatever they
        # send: a BYE for no call costs as much as an INVITE.
        if self._begins(data, source) and not self._admission.hears(source.host, self.now()):
            return
        self.done(self.endpoint.receive(data, source, self.now()))

    def _took(self, message: Request | Response, source: Hop) -> None:
        begins = isinstance(message, Request) and self._begins(message.method.encode(), source)
        if begins and not self._admission.hears(source.host, self.now()):
            return
        self.done(self.endpoint.take(message, source, self.now()))

    def _begins(self, data: bytes, source: Hop) -> bool:
        """Whether a message may be the first that its sender has to do with us."""
        if data.startswith(BEGINS):
            return True
        known = source.host in self._hosts or any(
            call.hop.host == source.host for call in self.endpoint.open_calls
        )
        return not known

    def done(self, output: Output) -> None:
        """Send what is to be sent, and see to what happened."""
        self._transport.done(output)
        for event in output.events:
            self._happened(event)
        self._schedule()

    def _schedule(self) -> None:
        """Be woken when a machine wants to be."""
        if self._timer is not None:
            self._timer.cancel()
        times = [self.endpoint.due, *(each.due for each in self.registrations)]
        due = min((each for each in times if each is not None), default=None)
        if due is not None and self._transport.is_open:
            loop = asyncio.get_running_loop()
            self._timer = loop.call_at(max(due, loop.time()), self._wake)

    def _wake(self) -> None:
        now = self.now()
        output = self.endpoint.wake(now)
        for each in self.registrations:
            output.join(each.wake(now))
        self.done(output)

    async def look(self) -> None:
        """Place calls that are due, and end those that somebody wants to be over."""
        await self._placer.look()

    # What happened

    def _happened(self, event: CallEvent) -> None:
        session = self.sessions.get(event.call.id) if not isinstance(event, Registered) else None
        match event:
            case Offered(call):
                self.run(self._offered(call))
            case Ringing(call):
                self._placer.rings(call)
            case Answered(call) if call.incoming and session is not None:
                self._begin(session)
            case Answered(call):
                self._placer.answered(call)
            case Changed(call) if session is not None:
                way = session.stream.agreed.direction
                self.run(self.tell(session, "changed", direction=way))
            case KeyTold(call, key) if session is not None:
                session.key(key, self.now())
            case Transferred(call, status) if session is not None:
                session.transferred(status)
            case Ended(call):
                self.run(self._ended(event, self.sessions.pop(call.id, None)))
            case Registered(name, seconds, problem):
                log.info(
                    "registrar",
                    channel=self.channel.name,
                    registrar=name,
                    kept=seconds,
                    problem=problem,
                )

    def _begin(self, session: Session) -> None:
        """Both sides may speak."""
        if not session.agreed:
            try:
                described = read_description(session.call.remote_sdp)
                session.stream.changed(agree(described, self.terms(session.sockets.port)))
            except TelephonyError as error:
                log.info("no common media", channel=self.channel.name, reason=str(error))
                self.done(self.endpoint.hang_up(session.call, self.now(), "failed"))
                return
        self.begin(session)

    def begin(self, session: Session) -> None:
        """A call was answered, by us or by the other side."""
        session.begin(self.now())
        self.ticker.add(session.call.id, session.tick)
        dialog = kept(session.call, self.endpoint.hop_of(session.call))
        self.run(self.call_log.answered(session, dialog))

    async def _ended(self, event: Ended, session: Session | None) -> None:
        self.ticker.remove(event.call.id)
        if session is None:
            await self._placer.not_answered(event)
            return
        at = self.now() - session.begun_at if session.begun_at else None
        quality = await session.end()
        await self.call_log.ended(session, event, at, quality, self._placer.after(event, session))

    async def _offered(self, call: Call) -> None:
        """Let a call in, or refuse it."""
        call.account = self._account_at(call.hop.host)
        verdict = self._admission.judge(call, self.now())
        if verdict.wait:
            await asyncio.sleep(verdict.wait)
        if verdict.status:
            log.info(
                "a call is refused", channel=self.channel.name, status=verdict.status,
                number=call.number, source=call.hop.host,
            )  # fmt: skip
            self.done(self.endpoint.reject(call, verdict.status, self.now(), verdict.fields))
            return
        # To begin a call is far more work than to have one: they begin one after the other.
        until = self.now() + ROOM_SECONDS
        async with self._beginning:
            await self._let_in(call, until)

    @property
    def _crowded(self) -> bool:
        return len(self.sessions) >= self.description.calls

    async def _let_in(self, call: Call, until: float) -> None:
        while self._crowded or self.ticker.full:
            # The channel's own limit is no matter of a moment.
            if self._crowded or self.now() > until:
                self.done(self.endpoint.reject(call, 503, self.now(), [RETRY_AFTER]))
            if call.state == "ended":
                return
            await asyncio.sleep(0.1)
        try:
            session, described = await self._prepared(call)
        except (TelephonyError, NoPorts) as error:
            status = 503 if isinstance(error, NoPorts) else 488
            log.info(
                "a call is refused", channel=self.channel.name, status=status, reason=str(error)
            )
            self.done(self.endpoint.reject(call, status, self.now()))
            return
        if call.state == "ended":
            session.sockets.close()
            return
        self.sessions[call.id] = session
        self.run(self.call_log.rang(session))
        self.done(self.endpoint.ring(call, self.now()))
        self.done(self.endpoint.accept(call, described, self.now()))
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(session.settled.wait(), BEGINNING_SECONDS)

    async def _prepared(self, call: Call) -> tuple[Session, bytes]:
        """The call's sockets, and what we say of our media."""
        theirs = read_description(call.remote_sdp) if call.remote_sdp else None
        if theirs is not None:
            agree(theirs, self.terms(1))
        sockets, attach = await self.open_media()
        if theirs is None:
            described, agreed = offer(self.terms(sockets.port)), None
        else:
            described, agreed = answer(theirs, self.terms(sockets.port))
        session = Session(
            call, CallContext(new_id()), self.channel, agreed, sockets, self.needs,
            self.description.call_handling, self.speaking, self,
        )  # fmt: skip
        attach.append(session)
        return session, described

    async def open_media(self) -> tuple[MediaSockets, list[Session]]:
        """Sockets for a call, and where its session is put as soon as there is one. Raises
        NoPorts."""
        listen = self.description.listen
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
            number = self.description.may_be_called(to)
        except Exception as error:
            log.warning("no transfer", channel=self.channel.name, reason=str(error))
            return False
        uri = self._placer.uri(number)
        self.done(self.endpoint.transfer(session.call, str(uri), self.now()))
        return True

    async def tell(self, session: Session, kind: str, **data: Any) -> None:
        """Write down an event of a call."""
        at = self.now() - session.begun_at if session.begun_at else None
        values = {"answerer": data["who"]} if kind == "answerer" else {}
        await self.call_log.write(session.ours.record, kind, at, data, **values)

    def run(self, work: Any) -> None:
        """Do something beside everything else."""
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)


def _places(description: PhoneDescription) -> Iterator[str]:
    """The hosts that the channel's description names: registrars, their proxies, the trunk."""
    for each in description.registrars:
        yield where(parse_uri(each.uri)).host
        if each.proxy:
            yield placing.hop(each.proxy).host
    if description.outbound is not None and description.outbound.via:
        yield placing.hop(description.outbound.via).host
