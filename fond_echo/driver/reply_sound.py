"""A reply as sound while it is made: played in a call, encoded for a voice note."""

from __future__ import annotations

import asyncio
import zlib
from collections.abc import Awaitable, Callable

from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.driver.streamed_speech import SpeakingAhead
from fond_echo.records.claim import Claim
from fond_echo.records.journal import Journal
from fond_echo.stages.encode import EncodingAhead, VoiceNote
from fond_echo.stages.speak import spoken_whole
from fond_echo.turns.needs import Needs
from fond_echo.turns.ready import AnsweredTurn, RoutedTurn
from fond_echo.turns.turn import Spoken


class ReplySound:
    """Of one claimed turn."""

    def __init__(self, journal: Journal, claim: Claim, needs: Needs) -> None:
        self._journal, self._claim, self._aloud = journal, claim, needs.aloud
        self._encoding: EncodingAhead | None = None
        self._ahead: SpeakingAhead | None = None
        self._written: asyncio.Task[None] | None = None

    def sentences(self, turn: RoutedTurn, needs: Needs) -> Callable[[str], Awaitable[None]]:
        """What takes sentences of the answer while the rest of it is being written."""
        self._ahead = SpeakingAhead(turn, needs, self._use)
        return self._ahead.say

    async def speak(self, turn: AnsweredTurn, needs: Needs) -> Spoken:
        """The reply spoken; as a voice note, it is encoded while it is."""
        if self._aloud is not None:
            # What is said cannot be taken back: that it was answered is written before anything is
            # played, while it is made.
            self._written = asyncio.create_task(self._journal.flush(self._claim))
        try:
            if self._ahead is not None:
                await self._ahead.finish()
            return await spoken_whole(turn, needs, self._use, self._ahead)
        finally:
            if self._written is not None:
                await self._written

    async def encoded(self) -> VoiceNote | None:
        """What was encoded so far; None where nothing was."""
        return await self._encoding.finish() if self._encoding is not None else None

    def stop(self) -> None:
        """Speak no more."""
        if self._ahead is not None:
            self._ahead.stop()

    async def _use(self, part: SpokenSound) -> None:
        """Play a part in a call; encode it for a voice note."""
        if self._aloud is not None:
            if self._written is not None:
                await asyncio.shield(self._written)
            await self._aloud(part.clip)
            return
        if self._encoding is None:
            self._encoding = EncodingAhead(zlib.crc32(self._claim.turn.run_id.encode()))
        await self._encoding.add(part.clip)
