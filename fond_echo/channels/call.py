"""A call as stages see it: a channel whose sound is played to the caller as it is made."""

from __future__ import annotations

from collections.abc import Callable

from fond_echo.channels.direct import DirectChannel
from fond_echo.channels.errors import CallOver
from fond_echo.turns.ports import Abilities, Clips, Outgoing, Sent

MAX_SECONDS = 3_600.0
IN_A_CALL = Abilities(frozenset(("voice",)), 20_000, MAX_SECONDS, 50_000_000)


class NoCall(DirectChannel):
    """A phone channel outside of a call: nothing can be said on it."""

    def __init__(self, clips: Clips) -> None:
        super().__init__(clips, MAX_SECONDS)
        self.abilities = IN_A_CALL

    async def send(self, outgoing: Outgoing) -> Sent:
        raise CallOver("the call is over")


class CallChannel(NoCall):
    """A call that is going on.

    Args:
        heard: says whether there is somebody who hears.
    """

    def __init__(self, clips: Clips, heard: Callable[[], bool]) -> None:
        super().__init__(clips)
        self._heard = heard

    async def send(self, outgoing: Outgoing) -> Sent:
        """Say that a voice note was heard: it was played as it was made. Raises CallOver."""
        if not self._heard():
            raise CallOver("the call is over")
        return Sent("", [])
