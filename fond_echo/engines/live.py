"""Hearing with an outside service while somebody speaks, over a WebSocket."""

from __future__ import annotations

import asyncio
import base64
import json
import time
from collections.abc import AsyncIterator, Awaitable, Callable
from contextlib import suppress
from dataclasses import dataclass
from typing import Any

import numpy as np

from fond_echo.connectors.answers import taken
from fond_echo.connectors.errors import ConnectorError, WrongAnswer
from fond_echo.connectors.machine import Exchange
from fond_echo.connectors.sockets import messages
from fond_echo.contract.base import JsonObject
from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.turn import Heard, Partial
from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.templates import render_tree
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.engine import LiveSound
from fond_echo.documents.steps import filter_path
from fond_echo.engines.as_ports import DescribedRecognizer
from fond_echo.engines.described import MAX_HINTS, TRUSTED, Asking, DescribedEngine
from fond_echo.engines.heard_outside import heard_as
from fond_echo.engines.order import Connected, EngineOrder

OnPartial = Callable[[str], Awaitable[None]]
MAX_PARTIALS = 50
"""So many are kept with the turn."""

MAX_TEXT = 2**20
"""Bytes of all that comes back for one utterance."""

QUEUED_SECONDS = 30.0
"""So much sound waits at most for a service that takes it slowly."""


async def _nobody(text: str) -> None:
    """Partial words that nobody wants."""


async def listened(
    engine: DescribedEngine, sound: AsyncIterator[Clip], expected: Expected, language: str,
    asking: Asking, partial: OnPartial = _nobody,
) -> Heard:  # fmt: skip
    """What a service hears of sound while it comes.

    Args:
        sound: stretches that follow each other, of any rate and length.
        partial: is given the words so far, which may still change.

    Raises:
        ConnectorError: the socket did not open, broke, or gave what is no transcript.
    """
    live = engine.connector.live
    assert live is not None
    hints = [*dict.fromkeys([*expected.names, *expected.hints, *expected.phrases])][:MAX_HINTS]
    facts = {
        **engine.parameters(asking), "language": language, "hints": hints, "rate": live.rate
    }  # fmt: skip
    exchange = Exchange("SOCKET", live.socket)
    asking.exchanges.append(exchange)
    seconds = 0.0
    found = _Words(live, partial)
    try:
        async with engine.machine.socket(
            live.socket, live.headers, facts, live.timeout, exchange
        ) as socket:
            if live.first is not None:
                await socket.send(_document(live.first, facts))

            async def send() -> None:
                nonlocal seconds
                async for clip in sound:
                    seconds += clip.seconds
                    data = _samples(at_rate(clip, live.rate))
                    if live.message is None:
                        await socket.send(data)
                    else:
                        coded = {"sound": base64.b64encode(data).decode()}
                        await socket.send(_document(live.message, {**facts, **coded}))
                if live.last is not None:
                    await socket.send(_document(live.last, facts))
                found.all_sent()

            sending = asyncio.create_task(send())
            try:
                async for text in messages(socket, MAX_TEXT, engine.connector.limits.timeout):
                    if await found.add(text):
                        break
            finally:
                sending.cancel()
                with suppress(asyncio.CancelledError):
                    await sending
    except ConnectorError as error:
        exchange.error = str(error)
        raise
    finally:
        exchange.sent = f"{seconds:.2f} s of sound"
        exchange.received = {"messages": found.count, "text": found.text}
        engine.machine.record(exchange)
        price = engine.connector.price
        asking.cost += price.per_minute * seconds / 60 + price.per_call
    if not found.complete:
        raise WrongAnswer("the socket was closed before all was heard", where=exchange.url)
    return heard_as(found.text, found.confidence, seconds, language)


class _Words:
    """What the messages of a service say."""

    def __init__(self, live: LiveSound, partial: OnPartial) -> None:
        self._live, self._partial = live, partial
        self._texts: list[str] = []
        self._sent = self._done = False
        self.confidence, self.count = TRUSTED, 0

    @property
    def text(self) -> str:
        return " ".join(self._texts)

    @property
    def complete(self) -> bool:
        """Whether the service said all that it had to say."""
        return self._done if self._live.done else self._sent

    def all_sent(self) -> None:
        self._sent = True

    async def add(self, text: str) -> bool:
        """Take a message; whether it is the last."""
        try:
            document = json.loads(text)
        except (ValueError, RecursionError) as error:
            raise WrongAnswer("a message is not JSON") from error
        self.count += 1
        stays = taken(document, self._live.text)
        if isinstance(stays, str) and stays.strip():
            self._texts.append(stays.strip())
        may_change = taken(document, self._live.partial) if self._live.partial else None
        if isinstance(may_change, str) and may_change.strip():
            await self._partial(" ".join([*self._texts, may_change.strip()]))
        if self._live.confidence is not None:
            sure = taken(document, self._live.confidence)
            if isinstance(sure, int | float):
                self.confidence = max(0.0, min(1.0, float(sure)))
        if self._live.done is not None:
            self._done = taken([document], filter_path(self._live.done)) is not None
        return self._done


def _document(template: Any, facts: JsonObject) -> str:
    """A message as it is sent: JSON, or a text as it is."""
    made = render_tree(template, facts)
    return made if isinstance(made, str) else json.dumps(made)


def _samples(clip: Clip) -> bytes:
    scaled = np.clip(clip.samples * 32_768.0, -32_768, 32_767)
    return bytes(scaled.astype("<i2").tobytes())


async def in_stretches(clip: Clip, seconds: float) -> AsyncIterator[Clip]:
    """A clip in stretches of a length."""
    begun = 0.0
    while begun < clip.seconds:
        yield clip.part(begun, min(clip.seconds, begun + seconds))
        begun += seconds


@dataclass(frozen=True)
class LiveRecognizer:
    """One question to a described engine that hears by its socket alone (`Recognizer`)."""

    engine: DescribedEngine
    asking: Asking

    async def transcribe(
        self, clip: Clip, expected: Expected, *, language: str, long: bool
    ) -> Heard:
        assert self.engine.connector.live is not None
        sound = in_stretches(clip, self.engine.connector.live.every)
        return await listened(self.engine, sound, expected, language, self.asking)


def recognizer_of(engine: Any, asking: Asking) -> Any:
    """An engine as a recognizer."""
    if not isinstance(engine, DescribedEngine):
        return engine
    if engine.connector.request:
        return DescribedRecognizer(engine, asking)
    return LiveRecognizer(engine, asking)


class LiveHearing:
    """One utterance of a call, heard by a service while it is spoken (`stages.ports.Hearing`).

    Args:
        order: whose first engine hears; takes down how it went.
    """

    def __init__(
        self, name: str, one: Connected, order: EngineOrder, expected: Expected, language: str
    ) -> None:
        self._name, self._one, self._order = name, one, order
        self._asking = Asking(order.parameters.get(name, {}))
        self._begun = time.monotonic()
        self._queue: asyncio.Queue[Clip | None] = asyncio.Queue()
        self._fed = 0.0
        self.words = ""
        self._partials: list[Partial] = []
        self._task = asyncio.create_task(
            listened(one.engine, self._sound(), expected, language, self._asking, self._partial)
        )
        self._task.add_done_callback(lambda task: task.cancelled() or task.exception())

    async def _partial(self, text: str) -> None:
        if text != self.words and len(self._partials) < MAX_PARTIALS:
            seconds = round(time.monotonic() - self._begun, 2)
            self._partials.append(Partial(text=text, seconds=seconds))
        self.words = text

    async def _sound(self) -> AsyncIterator[Clip]:
        clip = await self._queue.get()
        while clip is not None:
            # What has come meanwhile goes along.
            waiting = [clip]
            while not self._queue.empty():
                after = self._queue.get_nowait()
                if after is None:
                    yield join(waiting)
                    return
                waiting.append(after)
            yield join(waiting)
            clip = await self._queue.get()

    def feed(self, clip: Clip) -> None:
        """What was said since the last time."""
        if self._queue.qsize() * clip.seconds < QUEUED_SECONDS:
            self._queue.put_nowait(clip)
            self._fed += clip.seconds

    async def finish(self, clip: Clip) -> Heard:
        """All was said: what was heard.

        Args:
            clip: the whole utterance; what of it was not fed is heard now.

        Raises:
            FondEchoError: the service failed; what it was asked stands in `asked`.
        """
        if self._fed < clip.seconds:
            self._queue.put_nowait(clip.part(self._fed, clip.seconds))
        self._queue.put_nowait(None)
        limit = self._one.engine.connector.limits.timeout
        try:
            async with asyncio.timeout(limit):
                heard = await self._task
        except (FondEchoError, OSError, TimeoutError) as error:
            self._task.cancel()
            self._order.failed(self._name, self._begun, self._asking, self._one, error)
            if isinstance(error, FondEchoError):
                raise
            raise WrongAnswer(f"{self._name} did not hear it in time") from error
        self._order.done(self._name, self._begun, self._asking, self._one)
        return heard.model_copy(update={"partials": self._partials})

    def asked(self) -> list[EngineAsked]:
        """How the service was asked, since this was called last."""
        return self._order.taken()

    def cancel(self) -> None:
        """Nobody wants to know any more."""
        self._task.cancel()
