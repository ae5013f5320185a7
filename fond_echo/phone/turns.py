"""The turns of one call: worked by the same driver as all others, carried here."""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable, Mapping
from dataclasses import replace
from datetime import UTC, datetime
from functools import partial
from typing import Any

import numpy as np
import numpy.typing as npt
import structlog
from sqlalchemy import select, update
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.channels.call import CallChannel
from fond_echo.contract.base import new_id
from fond_echo.contract.channel import ChannelSettings, Inbound, SoundHandle
from fond_echo.contract.clip import ClipRef
from fond_echo.contract.engine import EngineAsked
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.level import from_first_sound
from fond_echo.core.audio.waveform import heights
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.telephony.conversation.course import After
from fond_echo.core.telephony.media import g711
from fond_echo.core.telephony.media.g711 import Law, in_law
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.phone import read_phone
from fond_echo.driver.queued import QueuedDriver, World
from fond_echo.phone.backend import CallStart, Play, Work
from fond_echo.phone.call_log import CallLog
from fond_echo.phone.dependencies import CallDependencies
from fond_echo.phone.hearing import Shaped, SpeculativeRecognizer, shaped
from fond_echo.records.claim import Claim, Failure
from fond_echo.records.journal import Journal
from fond_echo.store.database import AWAY, patiently
from fond_echo.store.inbound import NOTHING, take_in
from fond_echo.store.records import Channel, Conversation, Run, Turn
from fond_echo.store.records import Inbound as Arrived
from fond_echo.turns.expected import expected_of
from fond_echo.turns.needs import AtHand, Needs
from fond_echo.turns.ports import LiveHearings, Recognizer, Synthesizer
from fond_echo.turns.state import ConversationState
from fond_echo.turns.turn import TurnSoFar, known_assistant

log = structlog.get_logger()

UNTIL_THE_END = ("number", "digits", "spelled", "currency", "time", "duration")
"""Kinds of a slot whose value may go on after a pause."""


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
        self.at_hand: AtHand | None = None
        self.live: LiveHearings | None = None

    async def needs(
        self, channel: Channel, now: datetime, assistant: AssistantFile | None = None
    ) -> Needs:
        needs = await self._world.needs(channel, now, assistant)
        self.live = needs.live
        recognizer = self.ahead(needs.recognizer)

        def asked() -> list[EngineAsked]:
            return [*recognizer.asked(), *needs.asked()]

        voice = needs.synthesizer if needs.outside_voice else self._voice
        return replace(
            needs, channel=self._channel, synthesizer=voice, aloud=self._aloud,
            recognizer=recognizer, at_hand=self.at_hand, asked=asked,
        )  # fmt: skip

    def ahead(self, recognizer: Recognizer) -> SpeculativeRecognizer:
        """The call's own recognizer, in front of the one that hears this turn."""
        if self.recognizer is None:
            self.recognizer = SpeculativeRecognizer(recognizer)
        self.recognizer.recognizer = recognizer
        return self.recognizer


def _coming(assistant: AssistantFile, revision: str, state: ConversationState) -> TurnSoFar:
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
    expected = await asyncio.to_thread(
        expected_of, _coming(assistant, revision, ConversationState())
    )
    recognizer = (await needs.world.needs(channel, datetime.now(UTC))).recognizer
    murmur = Clip((0.02 * np.sin(np.arange(8_000) / 9.0)).astype(np.float32), 16_000)
    hears = recognizer.transcribe(murmur, expected, language=assistant.language, long=False)
    await asyncio.gather(hears, return_exceptions=True)


class CallTurns:
    """Makes turns of what comes in a call.

    Args:
        call_log: where its events are written down.
        play: plays a part of an answer.
    """

    def __init__(
        self, needs: CallDependencies, channel: Channel, start: CallStart, call_log: CallLog,
        play: Play,
    ) -> None:  # fmt: skip
        self._needs, self._channel, self._start = needs, channel, start
        self._log, self._play = call_log, play
        order = start.order
        self._begin: ConversationState | None = None
        if order is not None:
            variables = dict(order.variables)
            self._begin = ConversationState(
                variables=variables, assistant=order.opening.assistant or ""
            )
        elif start.dialed:
            # What it was called by is a fact for templates and business logic; a number may lead to
            # an assistant of its own.
            assistants = read_phone(channel.connector, f"{channel.name}.yaml").assistants
            self._begin = ConversationState(
                variables={"dialed": start.dialed}, assistant=assistants.get(start.dialed, "")
            )
        self._name = order.name if order is not None else ""
        self._settings = ChannelSettings.model_validate(channel.settings)
        self._law: Law = "PCMU"
        self.heard = True
        self._journal = Journal(needs.database, needs.queue)
        call_channel = CallChannel(needs.clips, lambda: self.heard)
        self._world = _CallWorld(needs.world, call_channel, needs.synthesizer, self._aloud)
        self._driver = QueuedDriver(self._journal, self._world)
        self._next: TurnSoFar | None = None
        self._expected: Expected | None = None
        self._may_be_whole = self._waits = False

    async def turn(self, work: Work) -> After | None:
        """Make a turn of something, and carry it to its end; None where the other side is not to
        be answered."""
        self._law, self._waits = work.law, True
        match work.kind:
            case "greet":
                cause = "answered-call" if self._start.order is not None else "greeting"
                return await self._take(work, "greeted", {"joined": True}, cause=cause)
            case "press":
                what = {"text": work.text, "key": work.text}
                return await self._take(work, "key", what, keys=work.text)
            case "say":
                what = {"text": work.text}
                return await self._take(work, "opened", what, standing="operator", cause="operator")
            case "hear":
                return await self._hear(work)

    async def _hear(self, work: Work) -> After | None:
        assert work.samples is not None
        said: Shaped | None = None
        if self._world.recognizer is not None:
            self._world.recognizer.pause = work.pause
            said = await self._world.recognizer.shaped()
        if said is None:
            said = await asyncio.to_thread(shaped, work.samples)
        clip, data = said.clip, said.data
        sound = SoundHandle(handle=new_id(), kind="call", seconds=clip.seconds)
        kept = ClipRef(
            id=sound.handle, media_type="audio/flac", size=len(data), seconds=clip.seconds,
            rate=g711.RATE, waveform=heights(clip),
        )  # fmt: skip
        self._world.at_hand = AtHand(clip, kept)
        try:
            return await self._take(work, "said", {"sound": sound}, along={sound.handle: data})
        finally:
            self._world.at_hand = None

    async def _aloud(self, clip: Clip) -> None:
        if self._waits:
            # Somebody waits for it: an answer does not begin with silence.
            clip, self._waits = from_first_sound(clip), False
        self._play(await asyncio.to_thread(in_law, clip, self._law))

    def hear(self, samples: npt.NDArray[np.int16], begins: bool) -> None:
        """Hand on what is being said, where a service hears it while it is spoken."""
        recognizer, turn, expected = self._world.recognizer, self._next, self._expected
        if recognizer is None or turn is None or expected is None or self._world.live is None:
            return
        recognizer.hear(samples, self._world.live, expected, turn.assistant.language, begins=begins)

    def over(self) -> None:
        """Nobody hears an answer any more."""
        self.heard = False
        if self._world.recognizer is not None:
            self._world.recognizer.drop()

    async def guess(self, samples: npt.NDArray[np.int16], pause: int) -> bool:
        """Begin to read what was said so far, where it is known what is expected; whether it is a
        whole that was."""
        recognizer, turn, expected = self._world.recognizer, self._next, self._expected
        if recognizer is None or turn is None or expected is None:
            return False
        task = recognizer.guess(samples, expected, turn.assistant.language, pause)
        if task is None:
            words = turn.assistant.its_language.writing.spoken_tokens
            so_far = words(recognizer.words_so_far)
            known = bool(so_far) and any(words(each) == so_far for each in expected.phrases)
            return known and self._may_be_whole
        await asyncio.wait([task])
        if task.cancelled() or isinstance(task.exception(), FondEchoError):
            return False
        heard = task.result()
        return heard.source == "expected" and self._may_be_whole

    async def _take(
        self, work: Work, kind: str, what: dict[str, Any], *, standing: str | None = None,
        cause: str = "", along: Mapping[str, bytes] = NOTHING, **facts: Any,
    ) -> After | None:  # fmt: skip
        """One turn, from beginning to end; None where the other side is not to be answered."""
        message = Inbound.model_validate(
            {
                "id": new_id(), "conversation": self._start.conversation,
                "contact": self._start.contact, "name": self._name, "spoken_reply": True, **what,
            }
        )  # fmt: skip

        tried = False

        async def taken() -> tuple[str, Claim | None]:
            """It is stored, stands in the call's log and is claimed in one transaction: for what
            comes then, somebody waits."""
            nonlocal tried
            again, tried = tried, True
            async with self._log.writing(self._start.record) as session:
                if again and (kept := await self._kept(session, message)) is not None:
                    # Nobody else knows its id: it was kept, though we were not told so.
                    return kept
                found = await take_in(
                    session, self._channel.name, self._settings, message,
                    {"call": self._start.record}, queued=False, standing=standing, cause=cause,
                    along=along,
                )  # fmt: skip
                if not found.turn_id:
                    return "", None
                if self._begin is not None:
                    await self._begin_with(session, found.turn_id)
                claim = await self._journal.claim_in(session, found.turn_id, heard=True)
                about = {"turn": found.turn_id, **facts}
                await self._log.happened(session, self._start.record, kind, work.at, about)
                return found.turn_id, claim

        turn_id, claim = await patiently(taken)
        if not turn_id:
            return None
        self._begin = None
        if claim is not None:
            await self._carried(claim)
        conversation, revision = await patiently(partial(self._left_by, turn_id))
        state = ConversationState.read(conversation.state)
        await self._expect(state, revision)
        seconds = state.recording.seconds if state.recording is not None else 0.0
        return After(state.ended, state.transfer, seconds)

    async def _kept(
        self, session: AsyncSession, message: Inbound
    ) -> tuple[str, Claim | None] | None:
        """The turn that a message made, claimed again; None where it made none."""
        made = select(Arrived.turn_id).where(
            Arrived.channel == self._channel.name, Arrived.external_id == message.id
        )
        turn_id = (await session.execute(made)).scalar_one_or_none()
        if turn_id is None:
            return None
        return turn_id, await self._journal.claim_in(session, turn_id, heard=True)

    async def _carried(self, claim: Claim) -> None:
        """Carry a turn to its end, again where the database was away: one that was left open would
        bar all that is said after it."""
        try:
            await self._driver.carry(claim)
        except AWAY as error:
            log.warning("a turn is taken up again", reason=str(error).splitlines()[0])
            await patiently(partial(self._driver.work, claim.turn.id))
        except Exception as error:
            log.exception("turn given up", turn=claim.turn.id)
            failure = Failure.of("receive", error)
            await patiently(partial(self._driver.give_up, claim.turn.id, failure))

    async def _left_by(self, turn_id: str) -> tuple[Conversation, str]:
        """The conversation as a turn left it, and the revision that it was answered by."""
        mine = (
            select(Conversation, Run.revision)
            .join(Turn, Turn.conversation_id == Conversation.id)
            .join(Run, Run.id == Turn.run_id)
            .where(Turn.id == turn_id)
        )
        async with self._needs.database.reading() as session:
            conversation, revision = (await session.execute(mine)).one()
        return conversation, revision

    async def _expect(self, state: ConversationState, revision: str) -> None:
        """What may be said next, so that it can be read ahead."""
        assistant = known_assistant(revision)
        if assistant is None or state.recording is not None:
            self._expected = None
            return
        self._next = _coming(assistant, revision, state)
        self._expected = await asyncio.to_thread(expected_of, self._next)
        open_ = state.open
        route = assistant.route(open_.route) if open_ is not None else None
        spec = route.slots.get(open_.asking) if route is not None and open_ is not None else None
        self._may_be_whole = spec is None or spec.kind not in UNTIL_THE_END

    async def _begin_with(self, session: AsyncSession, turn_id: str) -> None:
        mine = select(Turn.conversation_id).where(Turn.id == turn_id).scalar_subquery()
        assert self._begin is not None
        state = self._begin.stored()
        await session.execute(
            update(Conversation).where(Conversation.id == mine).values(state=state)
        )
