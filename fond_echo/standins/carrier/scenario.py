"""Scenarios of calls: small files that say who calls whom, says and presses what, and what must be
heard.

    scenario: Piet asks for the fares
    numbers: {piet: "+441632960102"}
    steps:
      - piet: {dials: "+441632960200"}
      - piet: {hears: Tern Sound Ferries}
      - piet: {says: How much is a ticket?}
      - piet: {hears: [A crossing is four pounds, I am not sure]}
      - piet: {presses: "2"}
      - piet: {hangs_up: true}
"""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from difflib import Match, SequenceMatcher
from pathlib import Path
from typing import Any, Literal

from pydantic import BaseModel, ConfigDict, Field, ValidationError, model_validator
from ruamel.yaml import YAML
from ruamel.yaml.error import YAMLError

from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.containers import decode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.recognition.recognizer import Recognizer
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.synthesizer import Synthesizer
from fond_echo.core.telephony.sip.values import Hop
from fond_echo.softphone.handset import Handset, OnCall, handset
from fond_echo.softphone.impairments import Impairments
from fond_echo.standins.errors import InvalidScenario

ENOUGH = 0.6
"""So many of the words that are waited for must be heard: the recognizer is not always right in the
middle of something longer."""


class _Strict(BaseModel):
    model_config = ConfigDict(extra="forbid")


class Phone(_Strict):
    """A handset: its number, its owner's voice, what it does when it is called, what its sound
    suffers on the way."""

    number: str
    voice: str = ""
    when_called: OnCall = "answer"
    after: float = Field(default=0.3, ge=0.0, le=60.0)
    impairments: dict[str, float] = Field(default_factory=dict)

    @model_validator(mode="before")
    @classmethod
    def _from_number(cls, given: Any) -> Any:
        return {"number": given} if isinstance(given, str) else given


class Step(_Strict):
    """What somebody does; one of these.

    `hears` waits for words: all that is said up to a pause is read, and most of them must be in it;
    where several are given, of one of them. Where the words of the next `hears` came in the same
    breath, they are not waited for again. `picks_up` waits so many seconds for a call.
    """

    dials: str = ""
    picks_up: float = 0.0
    says: str = ""
    plays: str = ""
    presses: str = Field(default="", pattern=r"^[0-9*#A-D]*$")
    hears: str | list[str] = ""
    waits: float = 0.0
    holds: Literal[True] | None = None
    resumes: Literal[True] | None = None
    hangs_up: Literal[True] | None = None
    vanishes: Literal[True] | None = None
    is_over: float = 0.0
    ends_as: str = ""

    @model_validator(mode="after")
    def _one(self) -> Step:
        if len(self.model_fields_set) != 1:
            raise ValueError("a step is one thing that somebody does")
        return self


class Scenario(_Strict):
    """The whole of it."""

    scenario: str
    numbers: dict[str, Phone]
    steps: list[dict[str, Step]] = Field(min_length=1, max_length=500)

    @model_validator(mode="after")
    def _known(self) -> Scenario:
        for step in self.steps:
            if len(step) != 1 or not set(step) <= set(self.numbers):
                known = ", ".join(self.numbers)
                raise ValueError(f"a step is of one of: {known}; not {', '.join(step)}")
        return self


def read_scenario(path: Path) -> Scenario:
    """Raises InvalidScenario, with what is wrong where."""
    try:
        return Scenario.model_validate(YAML(typ="safe").load(path.read_text("utf-8")))
    except OSError as error:
        raise InvalidScenario(f"{path}: {error.strerror}") from error
    except (UnicodeDecodeError, YAMLError) as error:
        raise InvalidScenario(f"{path.name}: {error}") from error
    except ValidationError as error:
        found = [
            f"{'.'.join(str(part) for part in each['loc'])}: {each['msg']}"
            for each in error.errors()
        ]
        raise InvalidScenario(f"{path.name}: {'; '.join(found[:5])}") from error


@dataclass
class Play:
    """Plays a scenario through a carrier.

    Args:
        synthesis, engine: what the people of the scenario speak and hear with.
        tell: where lines go.
        folder: where sound files are looked for.
    """

    scenario: Scenario
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
            for name, spec in self.scenario.numbers.items():
                phones[name] = await stack.enter_async_context(
                    handset(
                        spec.number, on_call=spec.when_called, after=spec.after,
                        impairments=Impairments(**spec.impairments),
                    )
                )  # fmt: skip
                await phones[name].register(self.carrier, self.password)
            for number, step in enumerate(self.scenario.steps, 1):
                ((name, what),) = step.items()
                problem = await self._do(phones[name], self.scenario.numbers[name], name, what)
                if problem:
                    self.problems.append(f"step {number}: {problem}")
                    self.tell(f"   ✗ {problem}")
                    break
        return not self.problems

    async def _do(self, phone: Handset, spec: Phone, name: str, step: Step) -> str:
        """One step; what is wrong with what came of it, or ""."""
        who = name.title()
        (what,) = step.model_fields_set
        rest = self._rest.pop(name, [])
        match what:
            case "dials":
                self.tell(f"   {who} dials {step.dials}")
                await phone.dial(step.dials)
                if not phone.answered.is_set() and phone.ended is not None:
                    self.tell(f"   {who} is not answered: {phone.ended.cause}")
            case "picks_up":
                if not await phone.answer_or_end(step.picks_up):
                    return f"{who} was not called within {step.picks_up} s"
                self.tell(f"   {who} picks up")
            case "says" | "plays":
                self.tell(f"   {who} says: {step.says}" if step.says else f"   {who} plays a file")
                await phone.say(await self._sound(step, spec.voice or name))
            case "presses":
                self.tell(f"   {who} presses {step.presses}")
                phone.press(step.presses)
            case "hears":
                wanted = [step.hears] if isinstance(step.hears, str) else list(step.hears)
                if any(share_heard(each, rest) >= ENOUGH for each in wanted):
                    return ""
                return await self._hear(phone, name, wanted)
            case "waits":
                await asyncio.sleep(step.waits)
            case "holds":
                await phone.hold()
            case "resumes":
                await phone.resume()
            case "vanishes":
                phone.vanish()
            case "hangs_up":
                self.tell(f"   {who} hangs up")
                await phone.hang_up()
            case "is_over":
                try:
                    await asyncio.wait_for(phone.over.wait(), step.is_over)
                except TimeoutError:
                    return f"the call of {who} was not over after {step.is_over} s"
                self.tell(f"   {who}: the call is over")
            case "ends_as":
                cause = phone.ended.cause if phone.ended is not None else "still going on"
                if cause != step.ends_as:
                    return f"the call of {who} ended as {cause}, not {step.ends_as}"
        return ""

    async def _sound(self, step: Step, voice: str) -> Clip:
        if step.plays:
            data = (self.folder / step.plays).read_bytes()
            return (await asyncio.to_thread(decode, data)).clip
        known = voice if voice in self.synthesis.voices else "isla"
        parts = await asyncio.to_thread(lambda: list(self.synthesis.speak(step.says, known)))
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
