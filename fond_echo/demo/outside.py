"""A scene of the tour: a provider hears, answers and speaks, and one of its parts fails."""

from __future__ import annotations

import re
from collections.abc import Callable
from typing import TYPE_CHECKING

import httpx

from fond_echo.contract.base import JsonObject
from fond_echo.contract.engine import EngineAsked
from fond_echo.core.audio.clip import join
from fond_echo.core.audio.containers import encode
from fond_echo.speech.material import synthesizer

if TYPE_CHECKING:
    from fond_echo.client import FondEcho
    from fond_echo.demo.run import World

CHANNEL = "talk"


def outside_engines(
    echo: FondEcho, world: World, say: Callable[[str], None], problem: Callable[[str], None]
) -> None:
    """Three questions to the assistant with outside engines, which are checked.

    Args:
        say: where lines go.
        problem: takes each thing that went wrong.
    """
    address = world.places.engines
    with httpx.Client(trust_env=False, timeout=60.0) as client:
        for question, fault, answer, asked in (
            ("When does the next boat to Pell sail?", "", r"The next boat to Pell leaves",
             ("far-ear", "timetable.next-sailing", "far-voice")),
            ("How many dogs sail on the Old Dunlin?", "", r"Two at most.*Dogs",
             ("far-ear", "harbour-mind", "far-voice")),
            ("Do you carry sheep and goats?", "/hearing", r"carried by arrangement",
             ("far-ear", "slow-ear", "harbour-mind", "far-voice")),
        ):  # fmt: skip
            if fault:
                given = {"path": fault, "fault": "broken"}
                client.put(f"{address}/faults", json=given).raise_for_status()
                say(f"   (now the provider fails at {fault})")
            try:
                found = asked_aloud(client, world, question)
            finally:
                client.put(f"{address}/faults", json={"path": "/hearing"}).raise_for_status()
            turn = echo.turn(found["turn"])
            say(f"   heard   {turn.text}")
            stages = turn.runs[0].stages
            there = [
                EngineAsked.model_validate(each)
                for stage in stages
                for each in (stage.output or {}).get("asked", [])
            ]
            for each in there:
                why = f", {each.why[:60]}" if each.why else ""
                say(f"   · {each.engine:<24} {each.outcome:<7} {1000 * each.seconds:>5.0f} ms"
                    f"  {each.cost:.5f}{why}")  # fmt: skip
            text = " ".join(delivery.text for delivery in turn.deliveries)
            say(f"   answer  {text}".replace("\n", " "))
            if not re.search(answer, text, re.DOTALL):
                problem(f"outside engines, {question!r}: the answer was {text!r}")
            if missing := [name for name in asked if name not in {each.engine for each in there}]:
                course = ", ".join(f"{stage.name} {stage.outcome}" for stage in stages)
                problem(
                    f"outside engines, {question!r}: {', '.join(missing)} not asked;"
                    f" it is {turn.state}: {course}"
                )


def call_with_engines(
    echo: FondEcho, say: Callable[[str], None], problem: Callable[[str], None]
) -> None:
    """What the engines of the call to the harbour talk did."""
    for found in echo.turns(channel="exchange").items:
        stages = {stage.name: stage.output for stage in echo.turn(found.id).runs[0].stages}
        heard = stages.get("transcribe", {})
        asked = [EngineAsked.model_validate(each) for each in heard.get("asked", [])]
        if not asked:
            continue
        partials = [each["text"] for each in heard.get("partials", [])]
        wait = ", ".join(f"{each.engine} {each.outcome}" for each in asked)
        say(
            f"   heard while it was spoken: {found.text} ({wait}; {len(partials)} times in between)"
        )
        if any(each.engine == "quick-ear" and each.outcome == "done" for each in asked):
            return
    problem("no turn of a call was heard by quick-ear")


def asked_aloud(client: httpx.Client, world: World, question: str, contact: str = "") -> JsonObject:
    """What the HTTP channel answers to a voice note, of somebody if that is said."""
    clip = join([part.clip for part in synthesizer().speak(question, "curlew")])
    answer = client.post(
        f"{world.settings.address}/ask/{CHANNEL}",
        params={"contact": contact} if contact else {},
        content=encode(clip, "ogg"),
        headers={"Authorization": f"Bearer {world.key}", "Content-Type": "audio/ogg"},
    )
    answer.raise_for_status()
    found: JsonObject = answer.json()
    return found
