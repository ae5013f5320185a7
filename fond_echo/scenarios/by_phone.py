"""Scenarios of calls, played by telephones in software, in real time."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from difflib import Match, SequenceMatcher
from pathlib import Path

from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.containers import decode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.recognition.recognizer import Recognizer
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.synthesizer import Synthesizer
from fond_echo.core.telephony.sip.values import Hop
from fond_echo.documents.scenario import ScenarioFile, ScenarioPerson, ScenarioStep
from fond_echo.softphone.handset import Handset, handset
from fond_echo.softphone.impairments import Impairments

ENOUGH = 0.6
"""So many of the words that are waited for must be heard: the recognizer is not always right in the
middle of something longer."""


@dataclass
class PhonePlay:
    """Plays a scenario through a carrier.

    Args:
        synthesis, engine: what the people of the scenario speak and hear with.
        tell: where lines go.
        folder: where sound files are looked for.
    """

    scenario: ScenarioFile
    carrier: Hop
    password: str
    synthesis: Synthesizer
    engine: Recognizer
    tell: Callable[[str], None] = print
    folder: Path = field(default_factory=Path)
    problems: list[str] = field(default_factory=list)
    _rest: dict[str, list[str]] = field(default_factory=dict)
    """What somebody heard in one breath behind the words that were waited for."""

    async def run(self) -> bool:
        """Whether everything was as it must be."""
        self.tell(self.scenario.scenario)
        async with contextlib.AsyncExitStack() as stack:
            phones: dict[str, Handset] = {}
            for name, spec in self.scenario.people.items():
                phones[name] = await stack.enter_async_context(
                    handset(
                        spec.number, on_call=spec.when_called, after=spec.after,
                        impairments=Impairments(**spec.impairments.model_dump()),
                    )
                )  # fmt: skip
                await phones[name].register(self.carrier, self.password)
            for number, step in enumerate(self.scenario.steps, 1):
                name = self.scenario.doer(step)
                problem = await self._do(phones[name], self.scenario.people[name], name, step)
                if problem:
                    self.problems.append(f"step {number}: {problem}")
                    self.tell(f"   ✗ {problem}")
                    break
        return not self.problems

    async def _do(self, phone: Handset, spec: ScenarioPerson, name: str, step: ScenarioStep) -> str:
        """One step; what is wrong with what came of it, or ""."""
        who = name.title()
        rest = self._rest.pop(name, [])
        match step:
            case ScenarioStep(dials=str(number)):
                self.tell(f"   {who} dials {number}")
                await phone.dial(number)
                if not phone.answered.is_set() and phone.ended is not None:
                    self.tell(f"   {who} is not answered: {phone.ended.cause}")
            case ScenarioStep(picks_up=float(seconds)):
                if not await phone.answer_or_end(seconds):
                    return f"{who} was not called within {seconds:g} s"
                self.tell(f"   {who} picks up")
            case ScenarioStep(says=str(words)):
                self.tell(f"   {who} says: {words}")
                await phone.say(await self._spoken(words, spec.voice or name))
            case ScenarioStep(plays=str(file)):
                self.tell(f"   {who} plays {file}")
                data = (self.folder / file).read_bytes()
                await phone.say((await asyncio.to_thread(decode, data)).clip)
            case ScenarioStep(presses=str(keys)):
                self.tell(f"   {who} presses {keys}")
                phone.press(keys)
            case ScenarioStep(hears=str() | list() as phrases):
                wanted = [phrases] if isinstance(phrases, str) else phrases
                if any(share_heard(each, rest) >= ENOUGH for each in wanted):
                    return ""
                return await self._hear(phone, name, wanted)
            case ScenarioStep(waits=float(seconds)):
                await asyncio.sleep(seconds)
            case ScenarioStep(holds=True):
                await phone.hold()
            case ScenarioStep(resumes=True):
                await phone.resume()
            case ScenarioStep(vanishes=True):
                phone.vanish()
            case ScenarioStep(hangs_up=True):
                self.tell(f"   {who} hangs up")
                await phone.hang_up()
            case ScenarioStep(is_over=float(seconds)):
                try:
                    await asyncio.wait_for(phone.over.wait(), seconds)
                except TimeoutError:
                    return f"the call of {who} was not over after {seconds:g} s"
                self.tell(f"   {who}: the call is over")
            case ScenarioStep(ends_as=str(wanted_cause)):
                cause = phone.ended.cause if phone.ended is not None else "still going on"
                if cause != wanted_cause:
                    return f"the call of {who} ended as {cause}, not {wanted_cause}"
        return ""

    async def _spoken(self, words: str, voice: str) -> Clip:
        known = voice if voice in self.synthesis.voices else "isla"
        parts = await asyncio.to_thread(lambda: list(self.synthesis.speak(words, known)))
        return join([part.clip for part in parts])

    async def _hear(self, phone: Handset, name: str, wanted: Sequence[str]) -> str:
        who = name.title()
        clip = await phone.listen()
        if clip.seconds == 0.0:
            return f"{who} heard nothing at all"
        sound = at_rate(clip, RATE)
        found = await asyncio.to_thread(self.engine.transcribe, sound, Expected(tuple(wanted)))
        said = found.spoken.split()
        self.tell(
            f"   {who} hears: {language_of().writing.written_text(said) if said else '(nothing)'}"
        )
        best = max(wanted, key=lambda each: share_heard(each, said))
        self._rest[name] = words_behind(best, said)
        if share_heard(best, said) < ENOUGH:
            return f"{who} heard {' '.join(said)!r}, not {' or '.join(map(repr, wanted))}"
        return ""


def share_heard(wanted: str, said: Sequence[str]) -> float:
    """The share of some words that were heard, in their order."""
    return sum(block.size for block in _found(wanted, said)) / max(1, len(_tokens(wanted)))


def words_behind(wanted: str, said: Sequence[str]) -> list[str]:
    """What was said behind the last of some words."""
    return list(said[max((block.b + block.size for block in _found(wanted, said)), default=0) :])


def _tokens(text: str) -> list[str]:
    return list(language_of().writing.spoken_tokens(text))


def _found(wanted: str, said: Sequence[str]) -> list[Match]:
    """The runs of words that are in both, in their order."""
    found = SequenceMatcher(None, _tokens(wanted), list(said), autojunk=False)
    return [block for block in found.get_matching_blocks() if block.size]
