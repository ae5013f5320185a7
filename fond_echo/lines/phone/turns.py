"""The turns of one call: worked by the same driver as all others, carried here."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, replace
from datetime import datetime
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy import select, update

from fond_echo.contract.base import new_id
from fond_echo.contract.line import Inbound, LineSettings, SoundHandle
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import encode
from fond_echo.core.telephony.g711 import RATE
from fond_echo.lines.phone.house import House
from fond_echo.lines.phone.line import CallLine
from fond_echo.stages.journal import Journal
from fond_echo.stages.ports import Needs, Voice
from fond_echo.stages.queued import QueuedDriver, World
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import Conversation, Line, Turn


class _CallWorld:
    """The world as a turn of this call finds it: its line is the call."""

    def __init__(self, world: World, line: CallLine, voice: Voice) -> None:
        self._world, self._line, self._voice = world, line, voice

    async def needs(self, line: Line, now: datetime) -> Needs:
        needs = await self._world.needs(line, now)
        return replace(needs, line=self._line, voice=self._voice)


@dataclass(frozen=True)
class After:
    """What a turn left behind: the conversation's state."""

    turn_id: str
    state: dict[str, Any]


class CallTurns:
    """Makes turns of what comes in a call.

    Args:
        contact: the number of the other side; `name` of whoever has it, where it is known.
        conversation: where the turns stand.
        call: written down with each, so that it is known where it came from.
        begin: the state that the conversation begins with.
        play: plays a voice note; says whether there was one to hear it.
    """

    def __init__(
        self, house: House, line: Line, contact: str, name: str, conversation: str, call: str,
        begin: dict[str, Any], play: Callable[[bytes], Awaitable[bool]],
    ) -> None:  # fmt: skip
        self._house, self._line = house, line
        self._contact, self._name = contact or "unknown", name
        self._conversation, self._call, self._begin = conversation, call, begin
        self._settings = LineSettings.model_validate(line.settings)
        journal = Journal(house.database, house.queue)
        world = _CallWorld(house.world, CallLine(house.clips, play), house.prompts.voice)
        self._driver = QueuedDriver(journal, world)

    async def greet(self, taken: Callable[[str], Awaitable[None]]) -> After | None:
        """The call was answered: the greeting."""
        cause = "answered-call" if self._begin else "greeting"
        return await self._take({"joined": True}, taken, cause=cause)

    async def hear(
        self, samples: npt.NDArray[np.int16], taken: Callable[[str], Awaitable[None]]
    ) -> After | None:
        """Something was said: samples at 8 kHz."""
        clip = Clip(samples.astype(np.float32) / np.float32(32_768), RATE)
        data = await asyncio.to_thread(encode, clip, "flac")
        kept = await self._house.clips.keep(
            data, "audio/flac", "received", seconds=clip.seconds, rate=RATE
        )
        sound = SoundHandle(handle=kept.id, kind="call", seconds=clip.seconds)
        return await self._take({"sound": sound}, taken)

    async def press(self, keys: str, taken: Callable[[str], Awaitable[None]]) -> After | None:
        """Keys were pressed."""
        return await self._take({"text": keys, "key": keys}, taken)

    async def say(self, words: str, taken: Callable[[str], Awaitable[None]]) -> After | None:
        """Words of ours, in nobody's answer."""
        return await self._take({"text": words}, taken, standing="operator", cause="operator")

    async def _take(
        self, what: dict[str, Any], taken: Callable[[str], Awaitable[None]], *,
        standing: str | None = None, cause: str = "",
    ) -> After | None:  # fmt: skip
        """One turn, from beginning to end; None where the other side is not to be answered."""
        message = Inbound.model_validate(
            {
                "id": new_id(), "conversation": self._conversation, "contact": self._contact,
                "name": self._name, "aloud": True, **what,
            }
        )  # fmt: skip
        found = await take_in_once(
            self._house.database, self._house.queue, self._line.name, self._settings, message,
            {"call": self._call}, queued=False, standing=standing, cause=cause,
        )  # fmt: skip
        if not found.turn_id:
            return None
        if self._begin:
            await self._begin_with(found.turn_id)
        await taken(found.turn_id)
        await self._driver.work(found.turn_id)
        async with self._house.database.reading() as session:
            mine = select(Conversation).join(Turn).where(Turn.id == found.turn_id)
            conversation = (await session.execute(mine)).scalar_one()
        return After(found.turn_id, conversation.state)

    async def _begin_with(self, turn_id: str) -> None:
        mine = select(Turn.conversation_id).where(Turn.id == turn_id).scalar_subquery()
        async with self._house.database.writing() as session:
            await session.execute(
                update(Conversation).where(Conversation.id == mine).values(state=self._begin)
            )
        self._begin = {}
