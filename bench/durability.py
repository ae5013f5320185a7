"""What becomes of voice notes and texts while everything is killed at random.

Passengers send voice notes through the stand-in network to the demo, which runs with two work
processes; after every third, its sender writes two texts at once, which have to wait for it.
Meanwhile, every few seconds, one of these is killed (SIGKILL): a worker, the web process, the
speech process; or PostgreSQL is restarted. At the end every message must have been answered once,
and in the order of its room.

    python -m bench.durability --notes 1000

The network takes an idempotency key, and the channel resends what is in doubt. With `--keyless 1`
the network is given no key: then what is in doubt is held for a person to decide, and is counted.
"""

from __future__ import annotations

import random
import threading
import time
from collections import Counter
from itertools import pairwise
from pathlib import Path

import httpx

from bench.passengers import (
    QUESTIONS,
    Running,
    answers,
    open_accounts,
    running,
    tell,
    voice_notes,
    wait_for,
)
from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.contract.api import ChannelIn, TurnOut

PEOPLE = 40
EVERY_SECONDS = (6.0, 18.0)


class Killer(threading.Thread):
    """Breaks something every few seconds until it is stopped."""

    def __init__(self, world: Running, seed: int) -> None:
        super().__init__(daemon=True)
        self._world, self._random = world, random.Random(seed)
        self._over = threading.Event()
        self.done: Counter[str] = Counter()

    def run(self) -> None:
        while not self._over.wait(self._random.uniform(*EVERY_SECONDS)):
            name = self._random.choice(
                ("work", "work 2", "work", "work 2", "web", "speech", "postgres")
            )
            if name == "postgres":
                self._world.postgres.stop()
                self._world.postgres.start()
            else:
                process = self._world.part(name).process
                if process is None or process.poll() is not None:
                    continue
                process.kill()
            self.done[name] += 1

    def stop(self) -> None:
        self._over.set()
        self.join()


def send_all(network: httpx.Client, people: list[str], notes: int, seed: int) -> dict[str, int]:
    """Send the notes, about three a second, one passenger after another, and the texts; how many
    messages each sent."""
    sounds, chance, sent = voice_notes(), random.Random(seed), Counter[str]()
    for number in range(notes):
        person = people[number % len(people)]
        network.post(f"/people/{person}/record", content=chance.choice(sounds)).raise_for_status()
        sent[person] += 1
        if chance.random() < 1 / 3:
            for words in chance.sample(QUESTIONS, 2):
                said = network.post(f"/people/{person}/say", json={"words": words})
                said.raise_for_status()
                sent[person] += 1
        time.sleep(chance.uniform(0.1, 0.5))
        if (number + 1) % 100 == 0:
            tell(f"{number + 1} notes sent")
    return dict(sent)


def keyless(echo: FondEcho) -> None:
    """Connect the channel by a description without idempotency keys; hold what is in doubt."""
    channel = next(each for each in echo.channels() if each.name == "skerry")
    connector = channel.connector.replace(', key: "{{ key }}"', "")
    connector = connector.replace('        key: "{{ key }}"\n', "")
    assert "{{ key }}" not in connector
    given = ChannelIn(
        assistant=channel.assistant,
        connector=connector,
        values=channel.values,
        settings=channel.settings.model_copy(update={"when_in_doubt": "hold"}),
    )
    echo.put_channel("skerry", given)


def all_turns(echo: FondEcho) -> list[TurnOut]:
    """Every turn of the network's channel, the latest first."""
    page = echo.turns(channel="skerry", limit=200)
    turns = page.items
    while page.next:
        page = echo.turns(channel="skerry", limit=200, cursor=page.next)
        turns += page.items
    return turns


def main() -> None:
    chosen = options(__doc__, notes=1000, seed=1, keyless=0)
    with running() as world:
        people = open_accounts(world.network, PEOPLE)
        with FondEcho(world.world.settings.address, world.world.key) as echo:
            if chosen.keyless:
                keyless(echo)
            world.add_worker()
            killer = Killer(world, chosen.seed)
            killer.start()
            sent = send_all(world.network, people, chosen.notes, chosen.seed)
            wait_for(world.network, sent, seconds=60)
            killer.stop()
            wait_for(world.network, sent, seconds=180)
            time.sleep(5)
            report(world, echo, sent, killer, chosen.json)


def report(
    world: Running, echo: FondEcho, sent: dict[str, int], killer: Killer, file: Path | None
) -> None:
    """Compare what stands in the rooms with what was sent, and with the records."""
    turns = all_turns(echo)
    owner: dict[str, TurnOut] = {}  # the bot's posts, by the turn that they were delivered for
    doubtful = 0
    for turn in turns:
        for delivery in turn.deliveries:
            owner[delivery.external_id] = turn
            doubtful += delivery.state == "in-doubt"
    lost = doubled = disordered = 0
    for person, count in sent.items():
        spoken = answers(world.network, person)
        lost += max(0, count - len(spoken))
        doubled += max(0, len(spoken) - count)
        order = [owner[post["id"]].number for post in spoken if post["id"] in owner]
        disordered += sum(later <= earlier for earlier, later in pairwise(order))
    waits = [
        (turn.finished_at - turn.received_at).total_seconds() for turn in turns if turn.finished_at
    ]
    states = Counter(turn.state for turn in turns)
    errors = Counter(str(turn.error.get("code")) for turn in turns if turn.error)
    rows: list[tuple[str, object]] = [
        ("voice notes and texts sent", sum(sent.values())),
        ("turns", len(turns)),
        *((f"turns {state}", number) for state, number in sorted(states.items())),
        *((f"  told: {code}", number) for code, number in sorted(errors.items())),
        ("lost: messages without an answer in their room", lost),
        ("doubled: answers beyond one a message", doubled),
        ("out of order in their room", disordered),
        ("deliveries in doubt, held for a person", doubtful),
        ("from arrival to answer, p50, s", percentile(waits, 0.5)),
        ("from arrival to answer, longest, s", max(waits)),
        *((f"{name} killed or restarted", number) for name, number in sorted(killer.done.items())),
    ]
    show(
        "Voice notes and texts while everything is killed at random", ("what", "number"), rows, file
    )


if __name__ == "__main__":
    main()
