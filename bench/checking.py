"""What checking an assistant costs, by its size: the harbour desk, and made-up ones.

Processor time in one process that has loaded everything (`fond_echo.documents.warm`): a check from
nothing, one of the same files with one example changed (the median of several), and the time until
a text is routed. Beside it what is built of a revision before it can be heard: its router, the
network of its phrases and the words of dictation.

    python -m bench.checking [--largest 1000]
"""

from __future__ import annotations

import random
import time
from collections.abc import Callable
from statistics import median
from typing import Any

from bench.large_assistants import WAYS, files_of, reworded
from bench.report import options, percentile, show
from fond_echo.demo.world import files_of as demo_files
from fond_echo.documents import checking, warm
from fond_echo.documents.reading import read_assistant
from fond_echo.speech.material import recognizer
from fond_echo.turns.expected import understood_by
from fond_echo.turns.turn import router_of

SIZES = (30, 200, 1_000)
CHANGES, ASKED = 7, 200


def spent(work: Callable[[], Any]) -> float:
    """Seconds of processor time."""
    begun = time.process_time()
    work()
    return time.process_time() - begun


def row(name: str, files: dict[str, str]) -> list[Any]:
    chance = random.Random(8)
    whole = spent(lambda: checking.check(files))
    found = checking.check(files)
    changes = []
    for _ in range(CHANGES):
        changed = reworded(files, chance)
        changes.append(spent(lambda changed=changed: checking.check(changed)))
    assistant = read_assistant(files)
    router = spent(lambda: router_of(name, assistant))
    network = spent(lambda: recognizer().graph(understood_by(name, assistant)))
    words = spent(lambda: recognizer().vocabulary(understood_by(name, assistant)))
    examples = list(router_of(name, assistant).examples)
    asked = [_shortened(each, chance) for each in chance.choices(examples, k=ASKED)]
    routing = [spent(lambda text=text: router_of(name, assistant).decide(text)) for text in asked]
    return [
        name, len(examples), f"{whole:.2f}", f"{1_000 * median(changes):.0f}",
        len(found.warnings), f"{1_000 * percentile(routing, 0.5):.1f}",
        f"{1_000 * percentile(routing, 0.95):.1f}", f"{router:.2f}", f"{network:.2f}",
        f"{words:.2f}",
    ]  # fmt: skip


def _shortened(text: str, chance: random.Random) -> str:
    words = text.split()
    words.pop(chance.randrange(len(words)))
    return " ".join(words)


def main() -> None:
    given = options(__doc__, largest=1_000)
    warm.warm()
    rows = [row("harbour-desk", demo_files("harbour-desk"))]
    for size in (each for each in SIZES if each <= given.largest):
        rows += [row(f"{way}, {size} routes", files_of(make(size))) for way, make in WAYS.items()]
    columns = (
        "assistant", "examples", "check s", "changed ms", "warnings", "routed ms p50", "p95",
        "router s", "network s", "words s",
    )  # fmt: skip
    show("Checking and routing, processor time", columns, rows, given.json)


if __name__ == "__main__":
    main()
