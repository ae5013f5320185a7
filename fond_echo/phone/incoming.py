"""Calls that come in: let in or refused, at once: whoever is refused in time can be called
elsewhere by their carrier."""

from __future__ import annotations

import asyncio
from collections import Counter, deque
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

SETUPS_A_SECOND, SETUPS_AT_ONCE = 45.0, 20.0
"""So many calls of a channel may begin: to begin a call is far more work than to have one."""

MOST_HALF_OPEN = 24
"""Calls of one host that were answered and not acknowledged."""

SETUPS_MEASURED = 200

RETRY_AFTER = ("retry-after", "10")


class IncomingCalls:
    """Of one channel.

    Attributes:
        refused: how many were, by reason.
    """

    def __init__(self, host: PhoneServer, admission: CallAdmission) -> None:
        self._host, self._admission = host, admission
        self._begun, self._begun_at = 0.0, 0.0
        self._preparing: Counter[str] = Counter()
        self._took: deque[float] = deque(maxlen=SETUPS_MEASURED)
        self.refused: Counter[str] = Counter()

    @property
    def facts(self) -> dict[str, float]:
        """How many calls were refused, by reason, and by how many milliseconds set-ups lasted from
        the INVITE to its answer: 95 % not longer."""
        ordered = sorted(self._took)
        found: dict[str, float] = {f"refused_{why}": n for why, n in self.refused.items()}
        if ordered:
            found["set_up_ms_p95"] = round(1_000 * ordered[int(0.95 * (len(ordered) - 1))], 1)
        return found

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
        host, began = self._host, self._host.now()
        call.account = host.registrations.account_at(call.hop.host)
        verdict = self._admission.judge(call, host.now())
        if verdict.wait:
            await asyncio.sleep(verdict.wait)
        if verdict.status:
            log.info(
                "a call is refused", channel=host.channel, status=verdict.status,
                number=call.number, source=call.hop.host,
            )  # fmt: skip
            if verdict.status != 401:
                self.refused[str(verdict.status)] += 1
            host.done(host.endpoint.reject(call, verdict.status, host.now(), verdict.fields))
            return
        if call.state == "ended":
            return
        if why := self._no_room(call):
            log.info("a call is refused", channel=host.channel, status=503, reason=why,
                     source=call.hop.host)  # fmt: skip
            self.refused[why] += 1
            host.done(host.endpoint.reject(call, 503, host.now(), [RETRY_AFTER]))
            return
        self._preparing[call.hop.host] += 1
        try:
            await self._let_in(call)
        finally:
            self._preparing[call.hop.host] -= 1
            self._preparing += Counter()  # hosts with none are forgotten
        self._took.append(host.now() - began)

    def _no_room(self, call: Call) -> str:
        """Why a call cannot be taken now; "" where it can."""
        host, now = self._host, self._host.now()
        if host.backend.is_stalled:
            return "stalled"
        if len(host.sessions) + self._preparing.total() >= host.connector.max_calls:
            return "max_calls"
        if host.ticker.full:
            return "busy"
        waiting = sum(
            each.call.incoming and not each.begun_at and each.call.hop.host == call.hop.host
            for each in host.sessions.values()
        )
        if waiting + self._preparing[call.hop.host] >= MOST_HALF_OPEN:
            return "half_open"
        self._begun = max(0.0, self._begun - (now - self._begun_at) * SETUPS_A_SECOND)
        self._begun_at = now
        if self._begun + 1 > SETUPS_AT_ONCE:
            return "too_fast"
        self._begun += 1
        return ""

    async def _let_in(self, call: Call) -> None:
        host = self._host
        try:
            session, described = await self._prepared(call)
        except (TelephonyError, NoPorts) as error:
            status = 503 if isinstance(error, NoPorts) else 488
            self.refused["no_ports" if status == 503 else "488"] += 1
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
