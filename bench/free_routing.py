"""Routes beside a free answer: what belongs to a route must reach it, what belongs to none must
reach the free answer.

Thirty assistants with 3, 6 and 12 examples a route, and 900 sentences that were written after the
examples and before the router was fitted (bench/data/free_routing). Half of the assistants are for
developing; the other half is reported and nothing is chosen by it. Shares come with 95 % intervals
(Wilson). Then the time of routing among 1,000 routes.

    python -m bench.free_routing                    the half for developing
    python -m bench.free_routing --report 1         both
"""

from __future__ import annotations

import random
import time
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from math import sqrt
from pathlib import Path

from bench.report import options, percentile, show
from bench.routing import common_words
from fond_echo.core.dialogue.outcomes import DID_YOU_MEAN, FALLBACK
from fond_echo.core.dialogue.routing import Route, Router

DATA = Path(__file__).parent / "data" / "free_routing"
SIZES = (3, 6, 12)
OFFERED = 10


@dataclass
class Described:
    """An assistant of the benchmark: its routes' examples, and what people ask it: (route or "",
    sentence)."""

    name: str
    examples: dict[str, list[str]] = field(default_factory=dict)
    sentences: list[tuple[str, str]] = field(default_factory=list)

    def routes(self, examples: int) -> list[Route]:
        """Its routes with so many examples each."""
        return [Route(name, tuple(said[:examples])) for name, said in self.examples.items()]

    def router(self, examples: int) -> Router:
        return Router(self.routes(examples), free=True)


def assistants(part: str) -> list[Described]:
    """The assistants of a half: "develop" or "report"."""
    found: dict[str, Described] = {}
    current = Described("")
    for line in _lines(DATA / f"{part}-examples.txt"):
        if line.startswith("= "):
            current = found.setdefault(line[2:], Described(line[2:]))
        else:
            route, said = line.split(": ", 1)
            current.examples[route] = said.split(" | ")
    for line in _lines(DATA / f"{part}-sentences.txt"):
        kind, text = line[0], line[2:]
        if kind == "=":
            current = found[text]
        elif kind == "+":
            route, said = text.split(": ", 1)
            current.sentences.append((route, said))
        else:
            current.sentences.append(("", text))
    return list(found.values())


def _lines(path: Path) -> Iterator[str]:
    return (line for line in path.read_text().splitlines() if line and not line.startswith("#"))


def share(count: int, total: int) -> str:
    """A share of 100 with its 95 % interval."""
    p, z = count / total, 1.96
    middle = (p + z * z / (2 * total)) / (1 + z * z / total)
    half = z * sqrt(p * (1 - p) / total + z * z / (4 * total * total)) / (1 + z * z / total)
    return f"{100 * p:.0f} ({100 * (middle - half):.0f}–{100 * (middle + half):.0f})"


def judged(part: str, examples: int) -> tuple[str | int, ...]:
    """A row: what became of the sentences of a half."""
    none, belongs = Counter[str](), Counter[str]()
    offered = 0
    for assistant in assistants(part):
        router = assistant.router(examples)
        for route, text in assistant.sentences:
            decision = router.decide(text)
            if decision.route == FALLBACK:
                outcome = "free"
            elif decision.route == DID_YOU_MEAN:
                outcome = "asked"
            else:
                outcome = "right" if decision.route == route else "wrong"
            (belongs if route else none)[outcome] += 1
            offered += bool(route) and route in router.likeliest(text, OFFERED)
    asked_none, asked = sum(none.values()), sum(belongs.values())
    return (
        part,
        examples,
        share(none["free"], asked_none),
        share(none["wrong"], asked_none),
        share(belongs["right"], asked),
        share(belongs["wrong"], asked),
        share(belongs["free"], asked),
        share(none["asked"] + belongs["asked"], asked_none + asked),
        share(offered, asked),
    )


def times() -> list[tuple[str, float, float]]:
    """How long a sentence takes among 40 and 1,000 routes of ten examples of everyday words."""
    chance, words = random.Random(2), common_words()
    texts = [text for each in assistants("develop") for _, text in each.sentences]
    rows = []
    for number in (40, 1_000):
        router = Router([
            Route(f"r{n}", tuple(
                " ".join(chance.sample(words, chance.randint(3, 8))) for _ in range(10)))
            for n in range(number)
        ], free=True)  # fmt: skip
        router.decide(texts[0])
        took = []
        for text in texts:
            begun = time.perf_counter()
            router.decide(text)
            took.append(1000 * (time.perf_counter() - begun))
        rows.append((f"{number} routes", percentile(took, 0.5), percentile(took, 0.95)))
    return rows


def main() -> None:
    chosen = options(__doc__, report=0)
    columns = (
        "half", "examples", "none: free", "none: wrong route", "belongs: right", "belongs: wrong",
        "belongs: free", "asked about", f"among {OFFERED}",
    )  # fmt: skip
    parts = ("develop", "report") if chosen.report else ("develop",)
    rows = [judged(part, examples) for part in parts for examples in SIZES]
    show("Of 100 sentences", columns, rows, chosen.json)
    show("Time, ms", ("routing", "p50", "p95"), times())


if __name__ == "__main__":
    main()
