"""Turns a second with one, two and four work processes, all on this machine.

Forty passengers send everything at once; the clock runs until the last answer stands in its
room. The stand-in network, the business logic, PostgreSQL and the speech process share the
machine's cores with the workers; what of their time each turn took is shown too.

    python -m bench.throughput
"""

from __future__ import annotations

import time

from bench.passengers import QUESTIONS, open_accounts, running, tell, voice_notes, wait_for
from bench.processes import processor, spent
from bench.report import options, show


def main() -> None:
    chosen = options(__doc__, texts=400, notes=120, people=40)
    rows: list[tuple[str, int, float, float]] = []
    taken: dict[str, dict[str, float]] = {}
    notes = voice_notes()
    with running() as world:
        people = open_accounts(world.network, chosen.people)
        expected = dict.fromkeys(people, 0)

        def send(kind: str, number: int) -> None:
            person = people[number % len(people)]
            if kind == "text":
                words = QUESTIONS[number % len(QUESTIONS)]
                answer = world.network.post(f"/people/{person}/say", json={"words": words})
            else:
                note = notes[number % len(notes)]
                answer = world.network.post(f"/people/{person}/record", content=note)
            answer.raise_for_status()
            expected[person] += 1

        for workers in (1, 2, 4):
            while world.workers() < workers:
                world.add_worker()
                time.sleep(3)
            for kind, count in (("text", chosen.texts), ("voice note", chosen.notes)):
                before, begun = processor(), time.monotonic()
                for number in range(count):
                    send(kind, number)
                sent = time.monotonic() - begun
                wait_for(world.network, expected, seconds=60)
                seconds = time.monotonic() - begun
                tell(f"{workers} workers, {kind}: sent in {sent:.1f} s, done in {seconds:.1f} s")
                what = f"{kind}, {workers} work"
                rows.append((what, count, count / sent, count / seconds))
                used = spent(before, processor())
                taken[what] = {part: 1000 * each / count for part, each in used.items()}
    columns = ("what", "turns", "sent a second", "answered a second")
    show(f"Turns a second, {chosen.people} passengers", columns, rows, chosen.json)
    parts = sorted({part for each in taken.values() for part in each if each[part] >= 0.1})
    times = [(part, *(each.get(part, 0.0) for each in taken.values())) for part in parts]
    show("Processor time of a turn, ms", ("process", *taken), times)


if __name__ == "__main__":
    main()
