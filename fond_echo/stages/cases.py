"""Running cases: what must come out of a kept turn, on a revision."""

from __future__ import annotations

import asyncio
import re
import time
from collections.abc import Awaitable, Callable, Sequence
from dataclasses import dataclass
from datetime import UTC, datetime
from typing import Any

from fond_echo.contract.base import new_id
from fond_echo.contract.channel import Inbound, SoundHandle
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.replay import CaseOut, TurnOutcome
from fond_echo.contract.reply import Reply
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.inspect import inspect
from fond_echo.core.audio.voicenote import encode_voice_note
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.case import CaseFile
from fond_echo.stages.ports import LogicPort
from fond_echo.stages.replaying import ReplayNeeds, take_again
from fond_echo.stages.state import ConversationState
from fond_echo.stages.turn import TurnSoFar

Hearing = Callable[[str, Expected], Awaitable[Heard]]
"""Hears a recording of the folder, by its name."""


@dataclass(frozen=True)
class Aloud:
    """Speaks a reply as an assistant does, and hears it again.

    Attributes:
        speak: words to sound, in an assistant's voice.
        hear: what is heard in a sound, freely, in spoken form.
    """

    speak: Callable[[str, AssistantFile], Awaitable[Clip]]
    hear: Callable[[Clip, str], Awaitable[str]]


@dataclass
class CaseAnswers:
    """What a case says that business logic answered.

    Attributes:
        asked: the business logic that was wanted.
    """

    case: CaseFile
    asked: list[str]

    def logic(self, name: str, asked: LogicRequest) -> Sequence[Reply] | None:
        """The answer that is kept for the same slots."""
        self.asked.append(name)
        for kept in self.case.logic:
            same = all(asked.slots.get(slot) == value for slot, value in kept.slots.items())
            if kept.asks == name and same:
                return kept.answers
        return None

    def free(self, turn: Any) -> Sequence[Reply] | None:
        return None


async def run_case(
    case: CaseFile, assistant: AssistantFile, revision: str, logic: LogicPort,
    hear: Hearing | None = None, aloud: Aloud | None = None,
) -> CaseOut:  # fmt: skip
    """Take a case's turn with a revision, and hold it against what must come out.

    Args:
        logic: asked where that is safe and the case keeps no answer.
        hear: needed for cases with a recording.
        aloud: needed for cases that say how the reply must sound.
    """
    begun = time.perf_counter()
    kept = CaseAnswers(case, [])
    turn = TurnSoFar(
        id=new_id(), run_id=new_id(), run="case", number=1, channel="case", conversation_id="case",
        contact_id="case", contact_name=case.contact, assistant=assistant, revision=revision,
        inbound=Inbound(
            id=new_id(), conversation="case", contact="case", name=case.contact, text=case.said,
            choice=case.choice or None, command=case.command,
            sound=SoundHandle(handle=case.sound) if case.sound else None,
        ),
        clock=case.now or datetime.now(UTC), seed=1, memory=case.memory,
        state=ConversationState.read(case.state),
    )  # fmt: skip
    if case.sound and hear is None:
        why = "its recording cannot be heard here: run it with speech"
        return CaseOut(case=case.case, passed=False, failures=[why])

    async def of_recording(expected: Expected) -> Heard:
        assert hear is not None
        return await hear(case.sound, expected)

    form = await take_again(turn, assistant, revision, ReplayNeeds(logic, kept),
                        of_recording if case.sound else None)  # fmt: skip
    failures = list(judged(case, form, kept.asked))
    if case.expect.of_sound:
        failures += await _sounds(case, form, assistant, aloud)
    seconds = round(time.perf_counter() - begun, 3)
    return CaseOut(
        case=case.case, passed=not failures, failures=failures, seconds=seconds, form=form
    )


async def _sounds(
    case: CaseFile, form: TurnOutcome, assistant: AssistantFile, aloud: Aloud | None
) -> list[str]:
    """What of the reply's sound is not as it must be."""
    if aloud is None:
        return ["the reply cannot be spoken here: run it with speech"]
    if not form.spoken:
        return ["nothing is spoken"]
    wanted, found = case.expect, []
    try:
        clip = await aloud.speak(form.spoken, assistant)
        if wanted.spoken_at_most and clip.seconds > wanted.spoken_at_most:
            found.append(f"it is spoken for {clip.seconds:.1f} s, not {wanted.spoken_at_most:g}")
        if wanted.voice_note:
            note = await asyncio.to_thread(encode_voice_note, clip, 1)
            problems = [each.what for each in (await asyncio.to_thread(inspect, note)).findings]
            found += [f"it is no proper voice note: {each}" for each in problems]
        if wanted.come_back:
            heard = f" {await aloud.hear(clip, assistant.language)} "
            tokens = assistant.its_language.writing.spoken_tokens
            found += [f"{each!r} does not come back: {heard.strip()!r}"
                      for each in wanted.come_back
                      if f" {' '.join(tokens(each))} " not in heard]  # fmt: skip
    except FondEchoError as error:
        found.append(f"its sound: {error}")
    return found


def judged(case: CaseFile, form: TurnOutcome, asked: Sequence[str]) -> list[str]:
    """What of a case does not hold, in words."""
    wanted, found = case.expect, []

    def must(name: str, want: Any, got: Any) -> None:
        if want and want != got:
            found.append(f"{name} is {got!r}, not {want!r}")

    must("heard", wanted.heard, form.text)
    must("route", wanted.route, form.route)
    must("outcome", wanted.outcome, form.outcome)
    for slot, value in wanted.slots.items():
        got = form.slots.get(slot)
        if str(got) != str(value):
            found.append(f"slot {slot} is {got!r}, not {value!r}")
    written, spoken = form.written.casefold(), form.spoken.casefold()
    found += [f"the text lacks {p!r}: {form.written!r}" for p in wanted.contains
              if p.casefold() not in written]  # fmt: skip
    found += [f"the text has {p!r}: {form.written!r}" for p in wanted.lacks
              if p.casefold() in written]  # fmt: skip
    found += [f"{p!r} is not spoken: {form.spoken!r}" for p in wanted.spoken
              if p.casefold() not in spoken]  # fmt: skip
    if wanted.matches and not re.search(wanted.matches, form.written):
        found.append(f"the text does not match {wanted.matches!r}: {form.written!r}")
    if wanted.choices and wanted.choices != form.choices:
        found.append(f"choices are {form.choices}, not {wanted.choices}")
    if wanted.asks == "none" and asked:
        found.append(f"{asked[0]} was asked")
    elif wanted.asks and wanted.asks != "none" and wanted.asks not in asked:
        found.append(f"{wanted.asks} was not asked")
    unasked = bool(form.not_run) and (wanted.contains or wanted.matches or wanted.spoken)
    if form.error:
        found.append(form.error)
    elif unasked:
        found.append(f"not run: {form.not_run}")
    return found
