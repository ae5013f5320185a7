"""Who may call: peers, registrars, callers who prove who they are; everybody else is refused, and
slowed down when they go on."""

from __future__ import annotations

from collections.abc import Callable, Mapping
from dataclasses import dataclass, field

from fond_echo.core.telephony.sip.calls import Call
from fond_echo.core.telephony.sip.digest import Challenger
from fond_echo.core.telephony.sip.rate_limiter import RateLimiter
from fond_echo.documents.phone import PhoneConnector

BEGINS = (b"INVITE", b"REGISTER", b"OPTIONS", b"SUBSCRIBE", b"MESSAGE")
"""Methods that begin something."""


@dataclass(frozen=True)
class Verdict:
    """The status that a call is refused with, 0 where it is let in; fields; seconds to wait."""

    status: int = 0
    fields: list[tuple[str, str]] = field(default_factory=list)
    wait: float = 0.0


class CallAdmission:
    """Judges calls.

    Args:
        known: passwords of callers by their names.
    """

    def __init__(
        self, connector: PhoneConnector, guard: RateLimiter, challenger: Challenger,
        known: Mapping[str, str],
    ) -> None:  # fmt: skip
        self._connector, self._guard = connector, guard
        self._challenger, self._known = challenger, known

    def hears(self, host: str, now: float) -> bool:
        """Whether a request that begins something is looked at."""
        return self._connector.may_call(host) or self._guard.hears(host, now)

    def takes(self, data: bytes, host: str, known: Callable[[str], bool], now: float) -> bool:
        """Whether a message is looked at: one that belongs to somebody's call always is, one that
        may be the first of its sender within a limit.

        Args:
            data: the beginning of a message, or its method; empty for a response.
            known: says whether a host has a call, or is one that we know.
        """
        begins = data.startswith(BEGINS) or (bool(data) and not known(host))
        return not begins or self.hears(host, now)

    def judge(self, call: Call, now: float) -> Verdict:
        """Whether a call is let in."""
        host = call.hop.host
        if not self._connector.may_call(host):
            refused = self._stranger(call, host, now)
            if refused is not None:
                return refused
        if not self._connector.leads_here(call.number):
            return Verdict(404)
        return Verdict()

    def _stranger(self, call: Call, host: str, now: float) -> Verdict | None:
        if not self._known:
            return Verdict(403, wait=self._guard.strike(host, now))
        given = call.invite.fields.get("authorization") or ""
        if not given:
            return self._challenged(now)
        user = self._challenger.user_of(given)
        found = self._challenger.judge(given, "INVITE", self._known.get(user), now)
        if found == "right":
            self._guard.right(host)
            return None
        if found == "stale":
            return self._challenged(now, stale=True)
        return Verdict(403, wait=self._guard.strike(host, now))

    def _challenged(self, now: float, *, stale: bool = False) -> Verdict:
        reported = self._challenger.challenges(now, stale=stale)
        return Verdict(401, [("www-authenticate", str(each)) for each in reported])
