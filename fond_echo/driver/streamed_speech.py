"""Speaking the sentences of an answer while the rest of it is still being written."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable

from fond_echo.core.dialogue.shaping import speakable
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.prosody import Prosody
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.turns.needs import Needs
from fond_echo.turns.turn import TurnSoFar

MAX_WAITING = 8
"""Sentences that wait to be spoken, before the answer waits for them."""


class SpeakingAhead:
    """Speaks sentences in order, beside whatever writes them.

    Args:
        use: is given each part as it is spoken: plays it, or encodes it.

    Attributes:
        sentences: all that were given and could be spoken.
        parts: what was spoken of them.
        error: why it stopped, where it did: the speak stage then says what is left.
    """

    def __init__(
        self, turn: TurnSoFar, needs: Needs, use: Callable[[SpokenSound], Awaitable[None]]
    ) -> None:
        self._turn, self._needs, self._use = turn, needs, use
        self._waiting: asyncio.Queue[str | None] = asyncio.Queue(MAX_WAITING)
        self._work: asyncio.Task[None] | None = None
        self.sentences: list[str] = []
        self.parts: list[SpokenSound] = []
        self.error: FondEchoError | None = None

    async def say(self, sentence: str) -> None:
        """Speak one more sentence."""
        if self.error is not None:
            return
        if self._work is None:
            self._work = asyncio.create_task(self._speak())
        self.sentences.append(sentence)
        await self._waiting.put(sentence)

    async def finish(self) -> None:
        """Wait until all that was given is spoken."""
        if self._work is not None:
            if not self._work.done():
                await self._waiting.put(None)
            await self._work

    def stop(self) -> None:
        """Speak no more."""
        if self._work is not None:
            self._work.cancel()

    def left_of(self, text: str) -> str:
        """What of a text follows the sentences that were spoken."""
        at = 0
        for sentence in self.sentences:
            found = text.find(sentence, at)
            if found < 0:
                break
            at = found + len(sentence)
        return text[at:].strip()

    async def _speak(self) -> None:
        spoken = 0
        while (sentence := await self._waiting.get()) is not None:
            words = speakable(sentence, self._turn.assistant.says.text("a-link"))
            try:
                async for part in self._parts(words):
                    await self._use(part)
                    self.parts.append(part)
            except FondEchoError as error:
                # What is left is said, or fails, as any answer does.
                self.error = error
                del self.sentences[spoken:]
                while not self._waiting.empty():
                    self._waiting.get_nowait()
                return
            spoken += 1

    def _parts(self, words: str) -> AsyncIterator[SpokenSound]:
        assistant = self._turn.assistant
        wanted = assistant.prosody
        prosody = Prosody(rate=wanted.rate, pitch=wanted.pitch, volume=wanted.volume)
        return self._needs.synthesizer.speak(
            words, assistant.voice, seed=self._turn.seed, sounds=assistant.pronounced,
            language=assistant.language, prosody=prosody,
        )  # fmt: skip
