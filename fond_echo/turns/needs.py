"""What each part of a turn's way needs of the world, and all of it for one turn.

Stages take the part that they use: what hears takes `HearingNeeds`, what answers `AnswerNeeds`,
what speaks `SpeakingNeeds`, what sends `SendingNeeds`. `Needs` is all of them; tries and replays
have an `AnswerNeeds` of their own that leaves nothing outside (`replays/nothing_outside.py`).
"""

from __future__ import annotations

import asyncio
from collections.abc import Awaitable, Callable
from dataclasses import dataclass, field
from datetime import datetime
from typing import Any, Protocol

from fond_echo.contract.clip import ClipRef
from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.reply import AnswerVerdict, Reply
from fond_echo.core.audio.clip import Clip
from fond_echo.turns.ports import (
    AblePort,
    AnswererPort,
    ChannelPort,
    Clips,
    Decoder,
    HelperPort,
    KeptAnswers,
    LiveHearings,
    LogicPort,
    Once,
    Recognizer,
    Synthesizer,
)
from fond_echo.turns.state import WishedCall
from fond_echo.turns.turn import Routed

PlayAloud = Callable[[Clip], Awaitable[None]]
SpeakSentence = Callable[[str], Awaitable[None]]
CostOfHearing = Callable[[float], tuple[float, str]]
LinkTo = Callable[[str], str]
TakeLate = Callable[[asyncio.Task[list[Reply]]], None]


@dataclass(frozen=True)
class AtHand:
    """In a call: what was said, as samples at 16 kHz, and the clip that it is kept as. Nothing is
    fetched or decoded."""

    clip: Clip
    kept: ClipRef


@dataclass
class Led:
    """Where an engine that answers freely led the turn, and which function it wants called that the
    person is asked about first; what its answer is worth; the briefs that it handed the talk
    to."""

    routed: Routed | None = None
    wished: WishedCall | None = None
    verdict: AnswerVerdict | None = None
    briefs: list[str] = field(default_factory=list)

    def taken(self) -> dict[str, Any]:
        """All of it, and nothing is left."""
        found = vars(self).copy()
        self.routed = self.wished = self.verdict = None
        self.briefs = []
        return found


class HearingNeeds(Protocol):
    """What fetch, decode and transcribe need."""

    @property
    def channel(self) -> ChannelPort: ...
    @property
    def clips(self) -> Clips: ...
    @property
    def decoder(self) -> Decoder: ...
    @property
    def recognizer(self) -> Recognizer: ...
    @property
    def at_hand(self) -> AtHand | None: ...
    @property
    def max_seconds(self) -> float: ...
    @property
    def link(self) -> LinkTo | None: ...


class AnswerNeeds(Protocol):
    """What answer needs, and whatever makes answers for it. Without `clips`, files are named and
    not stored."""

    @property
    def channel(self) -> AblePort: ...
    @property
    def clips(self) -> Clips | None: ...
    @property
    def logic(self) -> LogicPort: ...
    @property
    def answerer(self) -> AnswererPort | None: ...
    @property
    def helper(self) -> HelperPort | None: ...
    @property
    def kept(self) -> KeptAnswers | None: ...
    @property
    def sentence(self) -> SpeakSentence | None: ...
    @property
    def late(self) -> TakeLate | None: ...
    @property
    def once(self) -> Once | None: ...
    @property
    def called(self) -> list[EngineAsked]: ...
    @property
    def led(self) -> Led: ...


class SpeakingNeeds(Protocol):
    """What speak and encode need."""

    @property
    def synthesizer(self) -> Synthesizer: ...
    @property
    def decoder(self) -> Decoder: ...
    @property
    def clips(self) -> Clips: ...


class SendingNeeds(Protocol):
    """What deliver needs."""

    @property
    def channel(self) -> ChannelPort: ...
    @property
    def clips(self) -> Clips: ...


@dataclass(frozen=True)
class Needs:
    """All that the stages of one turn need."""

    channel: ChannelPort
    recognizer: Recognizer
    synthesizer: Synthesizer
    decoder: Decoder
    clips: Clips
    logic: LogicPort
    now: datetime
    aloud: PlayAloud | None = None
    """In a call: plays a part of the answer as soon as it is there."""
    at_hand: AtHand | None = None
    live: LiveHearings | None = None
    """In a call: hears an utterance while it is spoken."""
    hears_back: Recognizer | None = None
    """Hears replies again, after everything else."""
    max_seconds: float = 0.0
    """Of sound that is heard; 0 is what the channel takes as a voice note."""
    hears_early: bool = False
    """Whether sound may be heard before all is done that comes before: it costs nothing."""
    cost_of_hearing: CostOfHearing | None = None
    """What it costs to hear so many seconds, and in which currency."""
    outside_voice: bool = False
    """Whether the assistant names engines that speak for it."""
    answerer: AnswererPort | None = None
    helper: HelperPort | None = None
    kept: KeptAnswers | None = None
    sentence: SpeakSentence | None = None
    """Speaks a sentence of an answer that is still being written."""
    asked: Callable[[], list[EngineAsked]] = list
    """What engines were asked since this was called last."""
    late: TakeLate | None = None
    """Takes an answer that will come after its time: it is sent as a turn of its own."""
    once: Once | None = None
    link: LinkTo | None = None
    """Makes a link to a clip that needs no key for a day."""
    called: list[EngineAsked] = field(default_factory=list)
    led: Led = field(default_factory=Led)
    """Functions of business logic that engines had called."""
