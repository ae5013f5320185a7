"""Asking engines in the order that an assistant gives: the first that works answers.

An engine that failed several times in a row, asked for a pause, or has cost what it may today
is passed over; the record says so.
"""

from __future__ import annotations

import asyncio
import time
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable, Mapping, Sequence
from contextlib import aclosing
from dataclasses import dataclass, field
from typing import Any, TypeVar

from fond_echo.connectors.breaker import Breaker
from fond_echo.connectors.errors import Refused
from fond_echo.contract.engine import EngineAsked, EngineKind
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.language.ssml import is_ssml, plain_of
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.engines.as_ports import DescribedSynthesizer
from fond_echo.engines.described import Asking, DescribedEngine
from fond_echo.engines.errors import AllEnginesFailed
from fond_echo.turns.errors import AnswerCutShort
from fond_echo.turns.ports import Synthesizer

Answer = TypeVar("Answer")


FAILURES = (
    FondEchoError, OSError, ValueError, TypeError, LookupError, ArithmeticError, AttributeError,
    RuntimeError, AssertionError,
)  # fmt: skip
"""What makes an engine give way to the next: its own mistakes among them, where it is written in
Python."""


@dataclass(frozen=True)
class Connected:
    """A connected engine, as a turn finds it.

    Attributes:
        breaker: shared by all turns of this process.
        spent: what it cost today.
    """

    engine: DescribedEngine
    breaker: Breaker
    spent: float = 0.0

    @property
    def over_budget(self) -> bool:
        most = self.engine.connector.limits.daily_budget
        return most is not None and self.spent >= most


@dataclass
class EngineOrder:
    """The engines of one turn, and what came of asking them.

    Attributes:
        names: by kind, in the order in which they are to be asked.
        connected: engines by connector file, by name.
        built_in: other engines, by kind and name.
        long: those that hear long sound, where it is others.
        parameters: what the assistant sets of engines' parameters, by engine.
        second: our own recognizer reads what is expected as well.
        asked: the record.
    """

    names: Mapping[EngineKind, Sequence[str]] = field(default_factory=dict)
    connected: Mapping[str, Connected] = field(default_factory=dict)
    built_in: Callable[[EngineKind, str], Any] = lambda kind, name: None
    long: Sequence[str] = ()
    second: bool = False
    parameters: Mapping[str, Mapping[str, Any]] = field(default_factory=dict)
    asked: list[EngineAsked] = field(default_factory=list)

    @property
    def first_answered(self) -> bool:
        """Whether nobody had to stand in for another since the record was taken last."""
        return all(each.outcome == "done" for each in self.asked)

    def files(self, kind: EngineKind) -> tuple[str, ...]:
        """How the engines of a kind are asked: what they give changes with it."""
        return tuple(
            self.connected[name].engine.connector.model_dump_json()
            + repr(sorted(self.parameters.get(name, {}).items()))
            if name in self.connected
            else name
            for name in self.names.get(kind, ())
        )

    def taken(self) -> list[EngineAsked]:
        """What was asked since this was called last."""
        found, self.asked = self.asked, []
        return found

    def _able(
        self, kind: EngineKind, language: str, names: Sequence[str] = ()
    ) -> list[tuple[str, Connected | None]]:
        found: list[tuple[str, Connected | None]] = []
        for name in names or self.names.get(kind, ()):
            one = self.connected.get(name)
            if one is None and self.built_in(kind, name) is None:
                self._note(name, "failed", why=f"there is no engine {name!r} that can {kind}")
            elif one is None:
                found.append((name, None))
            elif one.engine.connector.does != kind:
                self._note(name, "failed", why=f"it cannot {kind}")
            elif one.engine.connector.languages and (
                language not in one.engine.connector.languages
            ):
                self._note(name, "failed", why=f"it does not know the language {language}")
            elif (left := one.breaker.left) > 0:
                why = f"it failed lately, and is paused for {left:.0f} s more"
                self._note(name, "paused", why=why)
            elif one.over_budget:
                self._note(name, "over-budget", why="it has cost what it may today")
            else:
                found.append((name, one))
        return found

    def _note(self, name: str, outcome: Any, **fields: Any) -> None:
        self.asked.append(EngineAsked(engine=name, outcome=outcome, **fields))

    def done(self, name: str, begun: float, asking: Asking, one: Connected | None) -> None:
        if one is not None:
            one.breaker.note(True)
        self._note(
            name, "done", seconds=round(time.monotonic() - begun, 3), cost=asking.cost,
            exchanges=[vars(each) for each in asking.exchanges],
        )  # fmt: skip

    def failed(
        self, name: str, begun: float, asking: Asking, one: Connected | None, error: Exception
    ) -> None:
        if one is not None:
            one.breaker.note(False)
            if isinstance(error, Refused) and error.retry_after:
                one.breaker.leave_alone(error.retry_after)
        rest = round(one.breaker.left, 1) if one is not None else 0.0
        why = "no answer in time" if isinstance(error, TimeoutError) else str(error)
        self._note(
            name, "failed", seconds=round(time.monotonic() - begun, 3), cost=asking.cost, why=why,
            pause_seconds=rest,
            exchanges=[vars(each) for each in asking.exchanges],
        )  # fmt: skip

    def _gone(self, kind: EngineKind) -> AllEnginesFailed:
        why = "; ".join(f"{each.engine}: {each.why}" for each in self.asked if each.why)
        return AllEnginesFailed(f"no engine could {kind}: {why}"[:600])

    def live(self, language: str) -> tuple[str, Connected] | None:
        """The engine that hears calls while they are spoken: the first that is to be asked, where
        it can."""
        before = list(self.asked)
        able = self._able("transcribe", language)
        # Why others cannot be asked is noted when they are to be.
        self.asked = before
        for name, one in able:
            can = one is not None and one.engine.connector.live is not None
            return (name, one) if one is not None and can else None
        return None

    async def first(
        self, kind: EngineKind, language: str, ask: Callable[[Any, Asking], Awaitable[Answer]],
        *, parts: int = 1, begun_already: Callable[[], bool] = lambda: False,
        names: Sequence[str] = (),
    ) -> Answer:  # fmt: skip
        """What the first engine that works answers.

        Args:
            ask: asks an engine: a `DescribedEngine`, or a built-in one.
            parts: how many questions it takes, of which each may last as long as its limit.
            names: those that are asked in place of the usual ones.
            begun_already: whether a part of an answer has gone out: then nobody else is asked.

        Raises:
            AnswerCutShort: a part had gone out when it failed.
            AllEnginesFailed: each failed; what stands in `asked` says how.
        """
        for name, one in self._able(kind, language, names):
            asking, begun = Asking(self.parameters.get(name, {})), time.monotonic()
            seconds = one.engine.connector.limits.timeout * parts if one is not None else None
            engine = one.engine if one is not None else self.built_in(kind, name)
            try:
                async with asyncio.timeout(seconds):
                    found = await ask(engine, asking)
            except FAILURES as error:
                self.failed(name, begun, asking, one, error)
                if begun_already():
                    raise AnswerCutShort(f"{name} broke off: {error}") from error
            else:
                self.done(name, begun, asking, one)
                return found
        raise self._gone(kind)

    async def speak(
        self, text: str, voice: str, language: str, fields: Mapping[str, Any]
    ) -> AsyncIterator[SpokenSound]:
        """Speak a text; where an engine fails on the way, the next one says what is left.

        Args:
            fields: what a synthesizer is given beside text, voice and language.

        Raises:
            AllEnginesFailed: each failed before all was said.
        """
        left = text
        for name, one in self._able("speak", language):
            asking, begun = Asking(self.parameters.get(name, {})), time.monotonic()
            engine: Synthesizer = self.built_in("speak", name)
            if one is not None:
                engine = DescribedSynthesizer(one.engine, asking, _plain)
            spoken: list[str] = []
            try:
                parts = engine.speak(left, voice, language=language, **fields)
                async with aclosing(_in_time(parts, one)) as in_time:
                    async for part in in_time:
                        spoken.append(part.text)
                        yield part
            except FAILURES as error:
                self.failed(name, begun, asking, one, error)
                if spoken:
                    left = _after(_plain(left), " ".join(spoken), language)
            else:
                self.done(name, begun, asking, one)
                return
        raise self._gone("speak")


async def _in_time(
    parts: AsyncIterator[SpokenSound], one: Connected | None
) -> AsyncGenerator[SpokenSound]:
    """Each part within the time that the engine has for a question."""
    seconds = one.engine.connector.limits.timeout if one is not None else None
    while True:
        try:
            async with asyncio.timeout(seconds):
                part = await anext(parts)
        except StopAsyncIteration:
            return
        yield part


def _plain(text: str) -> str:
    """A text without markup, which outside engines are not sent."""
    return plain_of(text) if is_ssml(text) else text


def _after(text: str, spoken: str, language: str) -> str:
    """What of a text was not spoken yet: it begins with the word in which that broke off."""
    spoken_tokens = language_of(language).writing.spoken_tokens
    count = len(spoken_tokens(spoken))
    words = text.split()
    for place, word in enumerate(words):
        tokens = len(spoken_tokens(word))
        if tokens > count or not count:
            return " ".join(words[place:])
        count -= tokens
    return ""
