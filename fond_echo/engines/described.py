"""Engines that a connector file describes: outside services asked through the request machine."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Awaitable, Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any, get_args

from fond_echo.connectors.answers import taken
from fond_echo.connectors.errors import ConnectorError, WrongAnswer
from fond_echo.connectors.machine import Outcome, RequestMachine
from fond_echo.connectors.streaming import Listener
from fond_echo.connectors.wire import Payload
from fond_echo.contract.base import JsonObject
from fond_echo.contract.reply import AnswerVerdict
from fond_echo.contract.turn import Heard, HeardSegment
from fond_echo.core.audio.activity import pieces
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.errors import SoundError
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.dialogue.free import (
    FreeAnswer,
    FreeQuestion,
    Sentences,
    Source,
    in_window,
    marked,
)
from fond_echo.core.dialogue.functions import ROUTE, Wish, shape_of
from fond_echo.core.dialogue.verdict import VerdictKind
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.progress import reach
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.documents.engine import EngineConnector, rendered
from fond_echo.documents.media import picture_type
from fond_echo.engines.heard_outside import (
    heard_as,
    in_language,
    joined,
    listed,
    mono_speech,
    seconds_in,
)
from fond_echo.turns.ports import Decoder

MEDIA = {"wav": "audio/wav", "flac": "audio/flac", "ogg": "audio/ogg", "mp3": "audio/mpeg"}

TRUSTED = 0.85
"""How sure a transcript is taken to be whose engine does not say."""

PICTURES = "PNG, JPEG, WebP and GIF are"

MAX_HINTS, MAX_CHOICES = 200, 8


OnSentence = Callable[[str], Awaitable[None]]


NOT_TOLD: JsonObject = {
    "now": "", "name": "", "alternatives": [], "channel": "", "arrived_as": "text",
    "confidence": 1.0, "aloud": False,
}  # fmt: skip
"""What there is to know beside a question, where nothing is known."""


@dataclass
class Listening:
    """Hands on the sentences of a streamed answer (`Listener`)."""

    sentences: Sentences
    heard: OnSentence
    language: str = "en"

    async def piece(self, text: str) -> None:
        for sentence in self.sentences.add(text):
            in_language(sentence, self.language)
            await self.heard(sentence)


@dataclass
class Asking:
    """What one question to an engine came to, for the record.

    Attributes:
        parameters: what the assistant sets of the engine's.
        cost: in the currency of its prices.
        exchanges: as they were made, failed ones too.
    """

    parameters: Mapping[str, Any] = field(default_factory=dict)
    cost: float = 0.0
    exchanges: list[Any] = field(default_factory=list)


@dataclass(frozen=True)
class DescribedEngine:
    """An engine as its connector file describes it.

    Attributes:
        machine: makes its exchanges.
        decoder: reads the sound that it gives, where that can do no harm.
    """

    connector: EngineConnector
    machine: RequestMachine
    decoder: Decoder

    def parameters(self, asking: Asking) -> dict[str, Any]:
        """Its parameters as the assistant sets them, else as they are. Raises WrongAnswer for one
        that it has not, or that is out of bounds."""
        known = self.connector.parameters
        for wrong in self.connector.wrong_parameters(asking.parameters):
            raise WrongAnswer(
                f"its parameters are set wrong: {wrong}",
                remedy=f"its connector has {', '.join(known) or 'no parameters'}",
            )
        return {name: each.default for name, each in known.items()} | dict(asking.parameters)

    async def _run(
        self, facts: Mapping[str, Any], asking: Asking, listener: Listener | None = None
    ) -> Outcome:
        set_ = self.parameters(asking)
        try:
            found = await self.machine.run(self.connector.request, {**set_, **facts}, listener)
        except ConnectorError as error:
            asking.exchanges += error.exchanges
            raise
        asking.exchanges += found.exchanges
        # Whatever was taken becomes words that people hear and keys may read.
        return replace(found, facts=self.machine.struck(found.facts))

    def _result(self, name: str, facts: Mapping[str, Any]) -> Any:
        try:
            return rendered(getattr(self.connector.result, name), dict(facts))
        except TemplateFailed as error:
            raise WrongAnswer(
                f"result.{name} cannot be made of its answer: {error.what}"
            ) from error

    def _number(self, name: str, facts: Mapping[str, Any]) -> float:
        try:
            return float(self._result(name, facts) or 0)
        except (TypeError, ValueError):
            return 0.0

    async def transcribe(
        self, clip: Clip, expected: Expected, *, language: str, asking: Asking
    ) -> Heard:
        """Hear a clip; longer than the service takes it is cut at pauses.

        Raises:
            ConnectorError: it did not answer, or not with a transcript.
        """
        wanted = self.connector.sound
        clip = at_rate(clip, wanted.rate)
        hints = [*dict.fromkeys([*expected.names, *expected.hints, *expected.phrases])][:MAX_HINTS]
        parts = []
        for span in pieces(clip, wanted.seconds):
            part = clip.part(span.start, span.end)
            data = await asyncio.to_thread(encode, part, wanted.format)
            if len(data) > wanted.bytes:
                raise WrongAnswer(f"{span.seconds:.0f} s of sound are over {wanted.bytes:,} bytes",
                                  remedy="lower sound.seconds in the connector")  # fmt: skip
            sound = Payload(data, MEDIA[wanted.format], f"sound.{wanted.format}")
            facts = {"sound": sound, "seconds": span.seconds, "language": language, "hints": hints}
            found = await self._run(facts, asking)
            asking.cost += self._cost(seconds=span.seconds)
            parts.append(self._heard({**facts, **found.facts}, span.start, span.seconds, language))
            reach(span.end, clip.seconds)
        return joined(parts)

    def _heard(self, facts: JsonObject, start: float, seconds: float, language: str) -> Heard:
        segments = [
            HeardSegment(
                text=str(taken(each, wanted.text) or "").strip(),
                start=round(start + seconds_in(taken(each, wanted.start)), 2),
                end=round(start + min(seconds, seconds_in(taken(each, wanted.end))), 2),
            )
            for wanted in filter(None, [self.connector.result.segments])
            for each in listed(rendered(wanted.each, facts))
        ]
        text = str(self._result("text", facts)).strip()
        text = text or " ".join(each.text for each in segments)
        if not segments and text:
            end = round(start + seconds, 2)
            segments = [HeardSegment(text=text, start=round(start, 2), end=end)]
        sure = self._number("confidence", facts) if self.connector.result.confidence else TRUSTED
        return heard_as(text, sure, seconds, language, segments)

    async def speak(
        self, text: str, voice: str, *, language: str, asking: Asking
    ) -> AsyncIterator[SpokenSound]:
        """Speak a text, a sentence at a time, so that the first is heard while the next is made.

        Raises:
            ConnectorError: it did not answer, or not with sound.
        """
        voices = self.connector.voices
        theirs = voices.get(voice) or voices.get("default") or voice
        for sentence in self._cut(text, language):
            facts = {"text": sentence, "voice": theirs, "language": language}
            found = await self._run(facts, asking)
            asking.cost += self._cost(characters=len(sentence))
            if found.payload is None or not found.payload.data:
                raise WrongAnswer("it gave no sound")
            try:
                decoded = await self.decoder.decode(found.payload.data)
            except SoundError as error:
                raise WrongAnswer(f"what it gave is not sound: {error.what}") from error
            yield SpokenSound(await asyncio.to_thread(mono_speech, decoded.clip), sentence)

    def _cut(self, text: str, language: str) -> list[str]:
        """Its sentences, none longer than the service takes."""
        most = self.connector.limits.characters
        found = []
        for sentence in language_of(language).writing.sentences_of(text):
            rest = sentence.strip()
            while len(rest) > most:
                at = rest.rfind(" ", 0, most)
                at = at if at > 0 else most
                found.append(rest[:at])
                rest = rest[at:].strip()
            if rest:
                found.append(rest)
        return found

    async def answer(
        self, question: FreeQuestion, *, asking: Asking, heard: OnSentence | None = None
    ) -> FreeAnswer:
        """Answer a question in words, or say which functions have to be called first.

        Args:
            heard: is given each whole sentence of a streamed answer as it comes.

        Raises:
            ConnectorError: it did not answer, gave nothing, or stopped before its end.
        """
        limits = self.connector.limits
        turns = list(question.turns)[-limits.turns :] if limits.turns else []
        turns, passages = in_window(question, turns, limits.window)
        if passages is None:
            raise WrongAnswer("what it is asked is longer than its window",
                              remedy="raise limits.window, or shorten the brief")  # fmt: skip
        facts: JsonObject = {
            "text": question.text, "marked": marked(question.text), "brief": question.brief,
            "language": question.language, "turns": turns, "passages": passages,
            "memory": dict(question.memory),
            "functions": [shape_of(each) for each in question.functions],
            "calls": [dict(each) for each in question.calls], "characters": limits.characters,
            **NOT_TOLD, **question.facts,
        }  # fmt: skip
        split = language_of(question.language).writing.sentences_of
        listener = (
            Listening(Sentences(split, limits.characters), heard, question.language)
            if heard
            else None
        )
        found = await self._run(facts, asking, listener)
        facts |= found.facts
        text = str(self._result("text", facts) or "").strip()
        asking.cost += self._cost(
            characters=len(text), tokens=int(self._number("tokens", facts)), calls=1
        )
        result = self.connector.result
        wishes = () if result.calls is None else tuple(
            Wish(str(taken(each, result.calls.name)), taken(each, result.calls.arguments) or {},
                 str(taken(each, result.calls.id) or "") if result.calls.id else "")
            for each in listed(rendered(result.calls.each, facts))
        )  # fmt: skip
        if wishes:
            return FreeAnswer("", wishes=wishes)
        if str(self._result("cut_off", facts)).strip().lower() == "true":
            raise WrongAnswer("its answer stops before its end")
        chosen = str(self._result("route", facts) or "").strip()
        if chosen:
            slots = self._result("slots", facts)
            return FreeAnswer(
                "", wishes=(Wish(f"{ROUTE}.{chosen}", slots if isinstance(slots, dict) else {}),)
            )
        if not text:
            raise WrongAnswer("its answer is empty")
        in_language(text, question.language)
        sources = () if result.sources is None else tuple(
            Source(str(taken(each, result.sources.title) or ""),
                   str(taken(each, result.sources.address) or "") if result.sources.address else "")
            for each in listed(rendered(result.sources.each, facts))
        )  # fmt: skip
        choices = () if result.choices is None else tuple(
            str(taken(each, result.choices.label) or "")[:80]
            for each in listed(rendered(result.choices.each, facts))
        )  # fmt: skip
        remember = self._result("remember", facts)
        return FreeAnswer(
            self._fitting(text, question.language),
            str(self._result("spoken", facts) or "").strip(),
            sources,
            tuple(filter(None, choices))[:MAX_CHOICES],
            remember if isinstance(remember, dict) else {},
            result.remember_days,
            then=self._one_of("then", ("end", "operator", "transfer"), facts),
            to=str(self._result("to", facts) or "").strip(),
            file=str(self._result("file", facts) or "").strip(),
            voice=str(self._result("voice", facts) or "").strip(),
            rate=min(2.0, max(0.5, self._number("rate", facts))) if result.rate else 0.0,
        )

    def _one_of(self, name: str, known: Sequence[str], facts: Mapping[str, Any]) -> str:
        """A word of the result that is one of a few. Raises WrongAnswer where it is another."""
        found = str(self._result(name, facts) or "").strip().lower()
        if found and found not in known:
            raise WrongAnswer(f"its {name} is {found[:40]!r}, not one of {', '.join(known)}")
        return found

    async def summarize(self, text: str, language: str, sentences: int, asking: Asking) -> str:
        """A text in so many sentences. Raises ConnectorError."""
        most = self.connector.limits.characters
        facts = {"text": text, "language": language, "sentences": sentences, "characters": most}
        return self._fitting(await self._words(facts, asking), language)

    async def translate(self, text: str, language: str, to: str, asking: Asking) -> str:
        """A text in another language. Raises ConnectorError."""
        return await self._words({"text": text, "language": language, "to": to}, asking)

    async def _words(self, facts: JsonObject, asking: Asking) -> str:
        """What it makes of a text, in words."""
        found = await self._run(facts, asking)
        known = {**facts, **found.facts}
        text = str(self._result("text", known) or "").strip()
        tokens = int(self._number("tokens", known))
        asking.cost += self._cost(characters=len(facts["text"]), tokens=tokens)
        if str(self._result("cut_off", known)).strip().lower() == "true":
            raise WrongAnswer("its answer stops before its end")
        if not text:
            raise WrongAnswer("its answer is empty")
        return text

    async def review(
        self, question: str, answer: str, sources: Sequence[str], first: AnswerVerdict,
        language: str, asking: Asking, *, confidence: float = 1.0,
    ) -> AnswerVerdict:  # fmt: skip
        """A second opinion on an answer.

        Args:
            sources: what the answer may rest on.
            first: what words alone say.
            confidence: how surely the question was heard.

        Raises:
            ConnectorError: it did not answer, or with another word.
        """
        facts: JsonObject = {
            "question": question, "marked": marked(question), "answer": answer,
            "sources": list(sources), "language": language, "verdict": first.kind,
            "reason": first.reason, "confidence": confidence,
        }  # fmt: skip
        found = await self._run(facts, asking)
        known = {**facts, **found.facts}
        asking.cost += self._cost(characters=len(question) + len(answer))
        kind = self._one_of("verdict", get_args(VerdictKind), known)
        if not kind:
            raise WrongAnswer("it gave no verdict")
        reason = str(self._result("reason", known) or "").strip()[:500]
        return AnswerVerdict.model_validate({"kind": kind, "reason": reason})

    async def draw(self, text: str, language: str, asking: Asking) -> Payload:
        """A picture of what a text says.

        Raises:
            ConnectorError: it did not answer, or not with a picture.
        """
        found = await self._run({"text": text, "language": language}, asking)
        asking.cost += self._cost(characters=len(text))
        if found.payload is None or not found.payload.data:
            raise WrongAnswer("it gave no picture")
        kind = picture_type(found.payload.data)
        if kind is None:
            raise WrongAnswer("what it gave is not a picture", remedy=PICTURES)
        return Payload(found.payload.data, kind, f"picture.{kind.partition('/')[2]}")

    def _fitting(self, text: str, language: str) -> str:
        """As many of its first sentences as may be said, the first in any case."""
        most, end = self.connector.limits.characters, 0
        if len(text) <= most:
            return text
        for sentence in language_of(language).writing.sentences_of(text):
            after = text.index(sentence.strip(), end) + len(sentence.strip())
            if end and after > most:
                break
            end = after
        return text[:end]

    def _cost(
        self, *, seconds: float = 0.0, characters: int = 0, tokens: int = 0, calls: int = 1
    ) -> float:
        price = self.connector.price
        return (
            price.per_minute * seconds / 60 + price.per_character * characters
            + price.per_token * tokens + price.per_call * calls
        )  # fmt: skip
