"""How well characters are heard whom the recognizer was not trained on (their texts are not shown).

    python -m training.people.evaluate --people people [--weights packed.npz] [--count 284]

Of each line: whether its true text comes first among twenty-one of about the same length, clean and
by telephone; the phonemes that are likeliest in each frame against those that fit best; and the
words of free dictation, with their errors by kind. A line counts where the lexicon is sure of its
words.
"""

from __future__ import annotations

import argparse
import random
from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass, field
from pathlib import Path

import numpy as np

from bench.report import show
from fond_echo.core.audio.clip import Clip
from fond_echo.core.recognition.graph import WordNetwork, phoneme_graph
from fond_echo.core.recognition.network import AcousticNetwork
from fond_echo.core.recognition.recognizer import Recognizer
from fond_echo.core.recognition.scoring import edits
from fond_echo.core.recognition.symbols import BLANK
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.material import lexicon, recognizer, words
from training.people.__main__ import Listed, listed
from training.people.aligning import align
from training.people.lines import normalized
from training.people.shards import samples_of, sayable
from training.rooms import RATE, companded

OTHERS = 20
"""Texts beside the true one, of about as many letters."""

SHORT = 3
"""Words: lines with more are counted apart."""


@dataclass
class Counts:
    """What was counted over lines."""

    lines: int = 0
    first: Counter[str] = field(default_factory=Counter)
    short: int = 0
    short_first: int = 0
    phonemes: int = 0
    phoneme_errors: int = 0
    words: int = 0
    errors: Counter[str] = field(default_factory=Counter)


def choices(text: str, pool: Sequence[str], rng: random.Random) -> list[str]:
    """A text among others that are about as long."""
    like = sorted((each for each in pool if each != text), key=lambda e: abs(len(e) - len(text)))
    found = [text, *rng.sample(like[: 3 * OTHERS], OTHERS)]
    rng.shuffle(found)
    return found


def greedy(logs: np.ndarray[tuple[int, int], np.dtype[np.float32]]) -> list[int]:
    """The likeliest symbols, repeated ones as one."""
    best = logs.argmax(axis=1)
    before = np.concatenate(([BLANK], best[:-1]))
    return [int(each) for each in best[(best != BLANK) & (best != before)]]


def evaluate(
    rows: Sequence[Listed], pool: Sequence[str], engine: Recognizer, seed: int, dictated: int
) -> Counts:
    """Hear lines.

    Args:
        pool: texts of which others stand beside the true one.
        dictated: so many of them are dictated, too.
    """
    rng = random.Random(seed)
    counts, known = Counts(), lexicon()
    for row in rows:
        spoken = normalized(row.text)
        text = " ".join(spoken)
        expected = Expected(tuple(choices(text, pool, rng)), only=True)
        samples = samples_of(row) * np.float32(0.5)
        ways = {"clean": samples, "telephone": companded(samples, "mu")}
        counts.lines += 1
        counts.short += len(spoken) <= SHORT
        for way, heard in ways.items():
            right = engine.transcribe(Clip(heard, RATE), expected).spoken == text
            counts.first[way] += right
            counts.short_first += right and way == "clean" and len(spoken) <= SHORT
        logs = engine.probabilities(Clip(samples, RATE))
        graph = phoneme_graph(WordNetwork.of_phrases([spoken], around=False), known, running=True)
        if (best := align(logs, graph)) is not None:
            sounds = [str(each) for each in best.sounds]
            counts.phonemes += len(sounds)
            counts.phoneme_errors += edits(sounds, [str(each) for each in greedy(logs)]).errors
        if counts.lines <= dictated:
            found = engine.transcribe(Clip(samples, RATE))
            counts.words += len(spoken)
            for step in edits(spoken, [word.spoken for word in found.words]).steps:
                counts.errors[step.step] += 1
    return counts


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--people", type=Path, required=True, help="what training.people extracted")
    parser.add_argument("--part", default="test", help="whose lines (test)")
    parser.add_argument("--package", help="lines of this one only, whatever their part")
    parser.add_argument("--weights", type=Path, help="packed ones, in place of those that ship")
    parser.add_argument("--count", type=int, default=284)
    parser.add_argument("--dictated", type=int, default=150)
    parser.add_argument("--json", type=Path)
    chosen = parser.parse_args()
    engine = recognizer()
    if chosen.weights is not None:
        with np.load(chosen.weights) as packed:
            network = AcousticNetwork({name: packed[name] for name in packed.files})
        engine = Recognizer(network, lexicon(), words())
    rows = [
        row
        for row in listed(chosen.people)
        if (row.package == chosen.package if chosen.package else row.part == chosen.part)
        and sayable(normalized(row.text), lexicon())
    ]
    random.Random(4).shuffle(rows)
    pool = sorted({" ".join(normalized(row.text)) for row in rows})
    found = evaluate(rows[: chosen.count], pool, engine, 9, chosen.dictated)
    errors = {kind: count for kind, count in found.errors.items() if kind not in ("same", "match")}
    show(
        f"lines of {chosen.package or f'the part {chosen.part}'}",
        ("measured", "value"),
        [
            ("lines", f"{found.lines}"),
            *((f"true text first of {OTHERS + 1}, {way}", f"{right} ({right / found.lines:.1%})")
              for way, right in found.first.items()),
            (f"… of at most {SHORT} words, clean", f"{found.short_first} of {found.short}"),
            ("phoneme error, greedy", f"{found.phoneme_errors / max(1, found.phonemes):.1%}"),
            ("word error, freely", f"{sum(errors.values()) / max(1, found.words):.1%}"),
            *((f"… {kind}", f"{count} of {found.words} words") for kind, count in errors.items()),
        ],
        chosen.json,
    )  # fmt: skip


if __name__ == "__main__":
    main()
