"""The turns of one call: worked by the same driver as all others, carried here."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, replace
from datetime import UTC, datetime
from typing import Any

import numpy as np
import numpy.typing as npt
from sqlalchemy import select, update

from fond_echo.channels.phone.channel import CallChannel
from fond_echo.channels.phone.dependencies import CallDependencies
from fond_echo.channels.phone.hearing import OwnDecoder, SpeculativeRecognizer, clip_of
from fond_echo.contract.base import new_id
from fond_echo.contract.channel import ChannelSettings, Inbound, SoundHandle
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import encode
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.assistant import AssistantFile
from fond_echo.stages.expected import expected_of
from fond_echo.stages.journal import Journal
from fond_echo.stages.ports import Needs, Recognizer, Synthesizer
from fond_echo.stages.queued import QueuedDriver, World
from fond_echo.stages.turn import TurnSoFar, known_assistant
from fond_echo.store.inbound import take_in_once
from fond_echo.store.records import Channel, Conversation, Run, Turn

UNTIL_THE_END = ("number", "digits", "spelled", "currency", "time", "duration")
"""Kinds of a slot whose value may go on after a pause."""

Taken = Callable[[str], Awaitable[None]]


class _CallWorld:
    """The world as a turn of this call finds it: its channel is the call, its recognizer may have
    read ahead, its voice is heard at once."""

    def __init__(
        self,
        world: World,
        channel: CallChannel,
        voice: Synthesizer,
        aloud: Callable[[Clip], Awaitable[None]],
    ) -> None:
        self._world, self._channel, self._voice, self._aloud = world, channel, voice, aloud
        self.recognizer: SpeculativeRecognizer | None = None

    async def needs(self, channel: Channel, now: datetime) -> Needs:
        needs = await self._world.needs(channel, now)
        return replace(
            needs, channel=self._channel, synthesizer=self._voice, aloud=self._aloud,
            recognizer=self.ahead(needs.recognizer), decoder=OwnDecoder(needs.decoder),
        )  # fmt: skip

    def ahead(self, recognizer: Recognizer) -> SpeculativeRecognizer:
        """The call's own recognizer, made when it is first known with what it hears."""
        self.recognizer = self.recognizer or SpeculativeRecognizer(recognizer)
        return self.recognizer


def _coming(assistant: AssistantFile, revision: str, state: dict[str, Any]) -> TurnSoFar:
    """The turn that comes next: something said, of which nothing else is known."""
    sound = SoundHandle(handle="next", kind="call")
    inbound = Inbound(id="next", conversation="next", contact="next", sound=sound)
    return TurnSoFar(
        id="", run_id="", run="live", number=1, channel="", conversation_id="", contact_id="",
        contact_name="", inbound=inbound, assistant=assistant, revision=revision,
        clock=datetime.now(UTC), seed=0, state=state,
    )  # fmt: skip


async def warm(needs: CallDependencies, channel: Channel, revision: str) -> None:
    """Make what the first call would wait for: what the assistant can be told, and the recognizer's
    way through it."""
    assistant = known_assistant(revision)
    if assistant is None:
        return
    expected = await asyncio.to_thread(expected_of, _coming(assistant, revision, {}))
    recognizer = (await needs.world.needs(channel, datetime.now(UTC))).recognizer
    murmur = Clip((0.02 * np.sin(np.arange(8_000) / 9.0)).astype(np.float32), 16_000)
    hears = recognizer.transcribe(murmur, expected, language=assistant.language, long=False)
    await asyncio.gather(hears, return_exceptions=True)


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
        heard: says whether there is still somebody to hear an answer.
        aloud: plays a part of an answer.
    """

    def __init__(
        self, needs: CallDependencies, channel: Channel, contact: str, name: str, conversation: str,
        call: str, begin: dict[str, Any], heard: Callable[[], bool],
        aloud: Callable[[Clip], Awaitable[None]],
    ) -> None:  # fmt: skip
        self._needs, self._channel = needs, channel
        self._contact, self._name = contact or "unknown", name
        self._conversation, self._call, self._begin = conversation, call, begin
        self._settings = ChannelSettings.model_validate(channel.settings)
        journal = Journal(needs.database, needs.queue)
        call_channel = CallChannel(needs.clips, heard)
        self._world = _CallWorld(needs.world, call_channel, needs.prompts.voice, aloud)
        self._driver = QueuedDriver(journal, self._world)
        self._next: TurnSoFar | None = None
        self._expected: Expected | None = None
        self._may_be_whole = False

    async def greet(self, taken: Taken) -> After | None:
        """The call was answered: the greeting."""
        cause = "answered-call" if self._begin else "greeting"
        return await self._take({"joined": True}, taken, cause=cause)

    async def hear(self, samples: npt.NDArray[np.int16], pause: int, taken: Taken) -> After | None:
        """Something was said: samples at 8 kHz, up to a pause."""
        if self._world.recognizer is not None:
            self._world.recognizer.pause = pause
        clip = clip_of(samples)
        data = await asyncio.to_thread(encode, clip, "flac")
        sound = SoundHandle(handle=new_id(), kind="call", seconds=clip.seconds)
        return await self._take({"sound": sound}, taken, sound=data)

    async def press(self, keys: str, taken: Taken) -> After | None:
        """Keys were pressed."""
        return await self._take({"text": keys, "key": keys}, taken)

    async def say(self, words: str, taken: Taken) -> After | None:
        """Words of ours, in nobody's answer."""
        return await self._take({"text": words}, taken, standing="operator", cause="operator")

    def guess(
        self, samples: npt.NDArray[np.int16], pause: int
    ) -> tuple[asyncio.Task[Heard], bool] | None:
        """Begin to read what was said so far; and whether it could be a whole by what it says.
        None where it is not known what is expected."""
        recognizer, turn = self._world.recognizer, self._next
        if recognizer is None or turn is None:
            return None
        expected = self._expected
        if expected is None:
            return None
        return recognizer.guess(
            samples, expected, turn.assistant.language, pause
        ), self._may_be_whole

    async def _take(
        self, what: dict[str, Any], taken: Taken, *, standing: str | None = None, cause: str = "",
        sound: bytes = b"",
    ) -> After | None:  # fmt: skip
        """One turn, from beginning to end; None where the other side is not to be answered."""
        message = Inbound.model_validate(
            {
                "id": new_id(), "conversation": self._conversation, "contact": self._contact,
                "name": self._name, "aloud": True, **what,
            }
        )  # fmt: skip
        found = await take_in_once(
            self._needs.database, self._needs.queue, self._channel.name, self._settings, message,
            {"call": self._call}, queued=False, standing=standing, cause=cause, sound=sound,
        )  # fmt: skip
        if not found.turn_id:
            return None
        if self._begin:
            await self._begin_with(found.turn_id)
        await taken(found.turn_id)
        await self._driver.work(found.turn_id)
        async with self._needs.database.reading() as session:
            mine = (
                select(Conversation, Run.revision)
                .join(Turn, Turn.conversation_id == Conversation.id)
                .join(Run, Run.id == Turn.run_id)
                .where(Turn.id == found.turn_id)
            )
            conversation, revision = (await session.execute(mine)).one()
        await self._expect(conversation.state, revision)
        return After(found.turn_id, conversation.state)

    async def _expect(self, state: dict[str, Any], revision: str) -> None:
        """What may be said next, so that it can be read ahead."""
        assistant = known_assistant(revision)
        if assistant is None or state.get("recording"):
            self._expected = None
            return
        self._next = _coming(assistant, revision, state)
        self._expected = await asyncio.to_thread(expected_of, self._next)
        open_ = state.get("open") or {}
        route = assistant.route(open_.get("route", ""))
        spec = route.slots.get(open_.get("asking", "")) if route is not None else None
        self._may_be_whole = spec is None or spec.kind not in UNTIL_THE_END

    async def _begin_with(self, turn_id: str) -> None:
        mine = select(Turn.conversation_id).where(Turn.id == turn_id).scalar_subquery()
        async with self._needs.database.writing() as session:
            await session.execute(
                update(Conversation).where(Conversation.id == mine).values(state=self._begin)
            )
        self._begin = {}
