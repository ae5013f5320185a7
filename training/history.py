"""Draws how a recognizer's training went: the loss on synthetic speech and on people against the
hours that were heard, and what characters kept apart made of its results.

    python -m training.history --run "from scratch: trial/progress.jsonl,long/progress.jsonl" \\
        --run "from the weights before: tune/progress.jsonl" \\
        --judged "before: 0: 87.3" --judged "tuned: 38: 94.0" --out docs/screenshots/training.png

`--run` gives a name and logs that follow one another; `--judged` a name, hours of the session's
training, and the share of judge lines whose true text comes first of twenty-one, in per cent.
"""

from __future__ import annotations

import argparse
import json
from pathlib import Path


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


def draw(runs: dict[str, list[Path]], judged: list[tuple[str, float, float]], out: Path) -> None:
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
    names = [name for name, _, _ in judged]
    right.barh(names[::-1], [share for _, _, share in judged][::-1], color=colours[0])
    for at, (_, hours, share) in enumerate(judged[::-1]):
        text = f"{share:.1f} %" + (f"  ({hours:g} h heard)" if hours else "")
        right.text(share + 0.5, at, text, va="center", fontsize=8)
    right.set(
        xlim=(0, 150),
        xlabel="per cent of 284 lines",
        title="True text first of 21, judge characters",
    )
    right.set_xticks(range(0, 101, 20))
    figure.savefig(out, dpi=110)


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--run", action="append", default=[], metavar="NAME: FILE,FILE")
    parser.add_argument("--judged", action="append", default=[], metavar="NAME: HOURS: SHARE")
    parser.add_argument("--out", type=Path, required=True)
    chosen = parser.parse_args()
    runs = {}
    for each in chosen.run:
        name, _, files = each.rpartition(": ")
        runs[name] = [Path(file) for file in files.split(",")]
    judged = []
    for each in chosen.judged:
        name, hours, share = each.rsplit(": ", 2)
        judged.append((name, float(hours), float(share)))
    draw(runs, judged, chosen.out)


if __name__ == "__main__":
    main()
