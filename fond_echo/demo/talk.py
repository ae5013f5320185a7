"""A scene of the tour: an answer that takes long, words for a loudspeaker, and a report.

The report is for the deck log, whose sender is on its list.
"""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import TYPE_CHECKING, Any

import httpx

from fond_echo.contract.base import JsonObject
from fond_echo.core.audio.clip import join, silence
from fond_echo.core.audio.containers import encode
from fond_echo.demo.world import LOUDSPEAKER
from fond_echo.speech.material import synthesizer

if TYPE_CHECKING:
    from fond_echo.client import FondEcho
    from fond_echo.demo.run import World

CHANNEL = "deck"
REPORT = (
    "We left Ossel at seven with forty people on board.",
    "The engine ran hot on the way to Pell, so we went slower.",
    "A passenger left a green bag under the bench.",
    "At Pell we changed the water filter of the engine.",
    "It rained for most of the morning.",
    "The engine ran well after that, and we were back at noon.",
    "The green bag is in the harbour office.",
)
WAIT_SECONDS = 30.0


def talk(
    echo: FondEcho, world: World, client: httpx.Client, say: Callable[[str], None],
    problem: Callable[[str], None],
) -> None:  # fmt: skip
    """Play it.

    Args:
        client: of the stand-in network.
        say: where lines go; `problem` takes each thing that went wrong.
    """
    _looks_it_up(client, say, problem)
    _announces(echo, client, say, problem)
    _reports(echo, world, say, problem)


def _posts(client: httpx.Client, after: int, wanted: int) -> list[JsonObject]:
    """What the desk posted in Isla's room, once there is as much as is wanted."""
    until, found = time.monotonic() + WAIT_SECONDS, list[JsonObject]()
    while time.monotonic() < until:
        posts = client.get("/rooms/room-isla/posts", params={"after": after}).json()["posts"]
        found = [each for each in posts if each["sender"]["automated"]]
        if len(found) >= wanted:
            break
        time.sleep(0.2)
    return found


def _said(client: httpx.Client, words: str) -> int:
    found = client.post("/people/isla/say", json={"words": words})
    found.raise_for_status()
    return int(found.json()["number"])


def _looks_it_up(client: httpx.Client, say: Callable[[str], None], problem: Any) -> None:
    number = _said(client, "When is high water at Pell?")
    first = _posts(client, number, 1)
    waits = first[0]["words"] if first else ""
    say(f"   isla asks for high water; meanwhile: {waits}")
    until = time.monotonic() + WAIT_SECONDS
    while time.monotonic() < until:
        posts = [each["words"] for each in _posts(client, number, 1)]
        if any("19:05" in each for each in posts) and waits not in posts:
            say(f"   then, in its place: {posts[-1]}")
            return
        time.sleep(0.2)
    problem(f"high water: there is {posts}")


def _announces(
    echo: FondEcho, client: httpx.Client, say: Callable[[str], None], problem: Any
) -> None:
    number = _said(client, "!announce the boat is late")
    _posts(client, number, 1)
    _said(client, "undo")
    for each in _posts(client, number, 2):
        say(f"   {each['words']}")
    calls = [each for each in echo.calls("exchange").items if each.number == LOUDSPEAKER]
    if not any(each.cause == "taken-back" for each in calls):
        problem(f"the announcement was not taken back: {[each.cause for each in calls]}")
    number = _said(client, "!announce the tide is high")
    for each in _posts(client, number, 2):
        say(f"   {each['words']}")
    posts = [each["words"] for each in _posts(client, number, 2)]
    if not any(f"said in {LOUDSPEAKER}" in each for each in posts):
        problem(f"nothing was reported of the announcement: {posts}")


def _reports(
    echo: FondEcho, world: World, say: Callable[[str], None], problem: Callable[[str], None]
) -> None:
    parts = []
    for sentence in REPORT:
        parts += [part.clip for part in synthesizer().speak(sentence, "dunlin")]
        parts.append(silence(1.0, parts[-1].rate))
    sound = encode(join(parts), "ogg")
    with httpx.Client(trust_env=False, timeout=60.0) as client:

        def report() -> JsonObject:
            found = client.post(
                f"{world.settings.address}/ask/{CHANNEL}", content=sound,
                params={"contact": "tobin"},
                headers={"Authorization": f"Bearer {world.key}", "Content-Type": "audio/ogg"},
            )  # fmt: skip
            answer: JsonObject = found.json()
            return answer

        refused = report()
        say(f"   tobin reports to the deck log: {refused.get('answer', refused)}")
        for contact in echo.contacts(CHANNEL, "refused").items:
            echo.set_standing(CHANNEL, contact.id, "allowed")
        found = report()
    for line in str(found.get("answer", found)).splitlines()[:6]:
        say(f"   {line}")
    if "green bag" not in str(found.get("answer", "")).lower():
        problem(f"the deck log answered {found}")
