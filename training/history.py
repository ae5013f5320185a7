"""Draws how a recognizer's training went: the loss on synthetic speech and on people against the
hours that were heard, and what characters kept apart made of its results.

    python -m training.history --run "from scratch: trial/progress.jsonl,long/progress.jsonl" \\
        --run "from the weights before: tune/progress.jsonl" \\
        --judged 0:87.3:24.2:0:33.0 --judged 34:94.4:46.0:19.0:41.4 --out training.png

`--run` gives a name and logs that follow one another; `--judged` hours of training since people
were in it, and what was right then of people who were kept apart, in per cent: lines whose true
text comes first of twenty-one, phonemes, words of free dictation, and recordings in closed sets.
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path

MEASURES = {
    "true line first of 21": "o-", "phonemes": "s-", "words, free dictation": "^-",
    "closed sets (548 recordings)": "d-",
}  # fmt: skip
"""What was judged, in the order of the numbers of --judged."""

SHADES = ("#21644a", "#7a5b10", "#a93a1b", "#3c5a8a")


def curve(files: list[Path], kind: str) -> tuple[list[float], list[float]]:
    """Hours heard and losses of a run whose logs follow one another, smoothed over five rows."""
    hours: list[float] = []
    losses: list[float] = []
    before = 0.0
    for file in files:
        rows = [json.loads(line) for line in file.read_text().splitlines()]
        hours += [before + row["hours_heard"] for row in rows]
        losses += [row[kind] for row in rows]
        before = hours[-1]
    smooth = [
        sorted(losses[max(0, at - 2) : at + 3])[len(losses[max(0, at - 2) : at + 3]) // 2]
        for at in range(len(losses))
    ]
    return hours, smooth


def draw(runs: dict[str, list[Path]], judged: list[tuple[float, ...]], out: Path) -> None:
    """Write the picture."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib import pyplot

    figure, (left, right) = pyplot.subplots(1, 2, figsize=(11, 4.4), layout="constrained")
    colours = ("#21644a", "#a93a1b", "#7a5b10")
    for (name, files), colour in zip(runs.items(), colours, strict=False):
        for kind, style in (("people", "-"), ("synthetic", ":")):
            left.plot(*curve(files, kind), style, color=colour, label=f"{name}, {kind}")
    left.set(xlabel="hours heard in the run", ylabel="loss", title="Loss on what is heard")
    left.grid(alpha=0.3)
    left.legend(frameon=False, fontsize=8)
    hours = [each[0] for each in judged]
    for place, (name, style) in enumerate(MEASURES.items(), 1):
        shares = [each[place] for each in judged]
        right.plot(hours, shares, style, color=SHADES[place - 1], label=name)
        right.annotate(f"{shares[-1]:.0f}", (hours[-1], shares[-1]), (5, -3),
                       textcoords="offset points", fontsize=8)  # fmt: skip
    right.margins(x=0.08)
    right.set(xlabel="hours heard since people were in it", ylabel="per cent right", ylim=(0, 100),
              title="People that no training heard")  # fmt: skip
    right.grid(alpha=0.3)
    right.legend(frameon=False, fontsize=8, loc="lower right")
    figure.savefig(out, dpi=110)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--run", action="append", default=[], metavar="NAME: FILE,FILE")
    parser.add_argument(
        "--judged", action="append", default=[], metavar="HOURS:LINES:PHONEMES:WORDS:SETS"
    )
    parser.add_argument("--out", type=Path, required=True)
    chosen = parser.parse_args()
    runs = {}
    for each in chosen.run:
        name, _, files = each.rpartition(": ")
        runs[name] = [Path(file) for file in files.split(",")]
    judged = [tuple(map(float, each.split(":"))) for each in chosen.judged]
    draw(runs, judged, chosen.out)


if __name__ == "__main__":
    main()
