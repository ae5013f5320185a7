"""How a channel describes its side of calls: one session a call, each description of it with the
next version (RFC 3264 §8)."""

from __future__ import annotations

import time

from fond_echo.core.telephony.sip.calls import Call
from fond_echo.core.telephony.sip.sdp import Terms


class Descriptions:
    """Of all calls of a channel.

    Args:
        host: where we listen, as others reach it.
    """

    def __init__(self, host: str) -> None:
        self._host = host
        self._last: dict[str, Terms] = {}

    def first(self, port: int) -> Terms:
        """What we offer and take, for sound at a port, before there is a call."""
        return Terms(self._host, port, int(time.time()))

    def keep(self, call: Call, terms: Terms) -> None:
        """That is how the session of a call began."""
        self._last[call.id] = terms

    def following(self, call: Call, port: int) -> Terms:
        """What we offer and take in a call from now on."""
        last = self._last.get(call.id)
        session, version = (last.session, last.version + 1) if last else (int(time.time()), 0)
        self._last[call.id] = Terms(self._host, port, session, version=version)
        return self._last[call.id]

    def forget(self, call: Call) -> None:
        """A call is over."""
        self._last.pop(call.id, None)
