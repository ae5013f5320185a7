"""Calls that come in: let in one after the other, or refused."""

from __future__ import annotations

import asyncio
import contextlib
from typing import TYPE_CHECKING

import structlog

from fond_echo.contract.base import new_id
from fond_echo.core.telephony.errors import TelephonyError
from fond_echo.core.telephony.sip.calls import Call
from fond_echo.core.telephony.sip.sdp import agree, answer, offer, read_description
from fond_echo.phone.admission import CallAdmission
from fond_echo.phone.errors import NoPorts
from fond_echo.phone.roles import CallContext
from fond_echo.phone.session import Session

if TYPE_CHECKING:
    from fond_echo.phone.server import PhoneServer

log = structlog.get_logger()

ROOM_SECONDS = 2.0
"""A call waits so long for room; then it is refused."""

BEGINNING_SECONDS = 0.5
"""The next call begins when this one was greeted, or after so long."""

RETRY_AFTER = ("retry-after", "10")


class IncomingCalls:
    """Of one channel."""

    def __init__(self, host: PhoneServer, admission: CallAdmission) -> None:
        self._host, self._admission = host, admission
        self._one = asyncio.Lock()

    async def admit(self, call: Call) -> None:
        """A call is never left without an answer, whatever goes wrong."""
        host = self._host
        try:
            await self._offered(call)
        except Exception:
            log.exception("a call could not be let in", channel=host.channel)
            if call.state not in ("answered", "ended"):
                host.done(host.endpoint.reject(call, 500, host.now()))

    async def _offered(self, call: Call) -> None:
        """Let a call in, or refuse it."""
        host = self._host
        call.account = host.registrations.account_at(call.hop.host)
        verdict = self._admission.judge(call, host.now())
        if verdict.wait:
            await asyncio.sleep(verdict.wait)
        if not verdict.status and host.backend.is_stalled:
            log.warning("a call is refused: the process with its turns is stalled",
                        channel=host.channel)  # fmt: skip
            host.done(host.endpoint.reject(call, 503, host.now(), [RETRY_AFTER]))
            return
        if verdict.status:
            log.info(
                "a call is refused", channel=host.channel, status=verdict.status,
                number=call.number, source=call.hop.host,
            )  # fmt: skip
            host.done(host.endpoint.reject(call, verdict.status, host.now(), verdict.fields))
            return
        # To begin a call is far more work than to have one: they begin one after the other.
        until = host.now() + ROOM_SECONDS
        async with self._one:
            await self._let_in(call, until)

    @property
    def _crowded(self) -> bool:
        host = self._host
        return len(host.sessions) >= host.connector.max_calls

    async def _let_in(self, call: Call, until: float) -> None:
        host = self._host
        while self._crowded or host.ticker.full:
            # The channel's own limit is no matter of a moment.
            if self._crowded or host.now() > until:
                host.done(host.endpoint.reject(call, 503, host.now(), [RETRY_AFTER]))
            if call.state == "ended":
                return
            await asyncio.sleep(0.1)
        try:
            session, described = await self._prepared(call)
        except (TelephonyError, NoPorts) as error:
            status = 503 if isinstance(error, NoPorts) else 488
            log.info("a call is refused", channel=host.channel, status=status, reason=str(error))
            host.connectors.forget(call)
            host.done(host.endpoint.reject(call, status, host.now()))
            return
        if call.state == "ended":
            # Its end was told before it was described.
            host.connectors.forget(call)
            session.sockets.close()
            return
        host.sessions[call.id] = session
        host.run(host.backend.rang(session.start, call.number))
        host.done(host.endpoint.ring(call, host.now()))
        host.done(host.endpoint.accept(call, described, host.now()))
        with contextlib.suppress(TimeoutError):
            await asyncio.wait_for(session.settled.wait(), BEGINNING_SECONDS)

    async def _prepared(self, call: Call) -> tuple[Session, bytes]:
        """The call's sockets, and what we say of our media."""
        host = self._host
        theirs = read_description(call.remote_sdp) if call.remote_sdp else None
        if theirs is not None:
            agree(theirs, host.connectors.first(1))
        sockets, attach = await host.open_media()
        if theirs is None:
            described, agreed = offer(host.connectors.following(call, sockets.port)), None
        else:
            terms = host.connectors.following(call, sockets.port)
            described, agreed = answer(theirs, terms)
        session = host.session(call, CallContext(new_id()), agreed, sockets)
        attach.append(session)
        return session, described
