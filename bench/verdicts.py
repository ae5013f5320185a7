"""Whether answers that do not answer are seen: 600 questions with an answer, half of them bad
(bench/data/verdicts), half of the questions for developing, the other half reported once.

    python -m bench.verdicts                  the half for developing
    python -m bench.verdicts --report 1       both
    python -m bench.verdicts --wrong 1        each that is judged wrong, of the half for developing
"""

from __future__ import annotations

import time
from collections import defaultdict
from collections.abc import Iterator
from pathlib import Path

from bench.free_routing import share
from bench.report import options, percentile, show
from fond_echo.core.dialogue.verdict import verdict
from fond_echo.core.language.registry import language

DATA = Path(__file__).parent / "data" / "verdicts"


def pairs(part: str) -> Iterator[tuple[str, str, str, str]]:
    """(kind, question, answer, what is known): kind is "right", or what is wrong."""
    known = question = ""
    for line in (DATA / f"{part}.txt").read_text().splitlines():
        mark, text = line[:1], line[2:]
        if mark == "=":
            known = text
        elif mark == "?":
            question = text
        elif mark == "+":
            yield "right", question, text, known
        elif mark == "-":
            kind, answer = text.split(": ", 1)
            yield kind, question, answer, known


def judged(part: str, tell: bool) -> tuple[list[tuple[str, str, int, str]], list[float]]:
    """A row for each kind: how many were told from good answers; and how long each took, in ms."""
    seen: dict[str, list[bool]] = defaultdict(list)
    took = []
    for kind, question, answer, known in pairs(part):
        begun = time.perf_counter()
        found = verdict(question, answer, [known], language())
        took.append(1000 * (time.perf_counter() - begun))
        seen[kind].append(not found.holds)
        if tell and found.holds == (kind != "right"):
            print(f"{kind:8} {question} | {answer} → {found.kind} {found.reason}")
    rows = [
        (part, kind, len(caught), share(sum(caught), len(caught)))
        for kind, caught in sorted(seen.items())
    ]
    return rows, took


def main() -> None:
    chosen = options(__doc__, report=0, wrong=0)
    rows, times = judged("develop", bool(chosen.wrong))
    if chosen.report:
        more, others = judged("report", tell=False)
        rows, times = [*rows, *more], [*times, *others]
    show("Told from good answers, of 100", ("half", "answers", "number", "share"), rows,
         chosen.json)  # fmt: skip
    show("Time, ms", ("p50", "p95", "most"),
         [(percentile(times, 0.5), percentile(times, 0.95), max(times))])  # fmt: skip


if __name__ == "__main__":
    main()
