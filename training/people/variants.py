"""Count how people say words in running speech: which of the ways that a language allows they took.

    python -m training.people.variants --people people [--part train] [--count 800]

Each line's best path of its text is looked up in a graph that has the full and the connected forms
of every word. Prints, for every word that came often enough, how often its own form was taken and
how often each other one; nothing of the texts.
"""

from __future__ import annotations

import argparse
import random
from collections import Counter, defaultdict
from pathlib import Path

from fond_echo.core.audio.clip import Clip
from fond_echo.core.recognition.graph import PhonemeGraph, WordNetwork, phoneme_graph
from fond_echo.core.recognition.symbols import SYMBOLS
from fond_echo.speech.material import lexicon, recognizer
from training.people.__main__ import listed
from training.people.aligning import Alignment, align
from training.people.lines import normalized
from training.people.shards import samples_of, sayable
from training.rooms import RATE

NAMES = {number: name for name, number in SYMBOLS.items()}
MIN_TIMES = 12


def said(best: Alignment, graph: PhonemeGraph) -> list[tuple[str, str]]:
    """Words of a path with their sounds."""
    found, sounds = [], []
    for entry in best.entries:
        sounds.append(NAMES[int(graph.symbols[entry])])
        if graph.words[entry] >= 0:
            found.append((graph.vocabulary[graph.words[entry]], " ".join(sounds)))
            sounds = []
    return found


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--people", type=Path, required=True, help="what training.people extracted")
    parser.add_argument("--part", default="train")
    parser.add_argument("--count", type=int, default=800)
    chosen = parser.parse_args()
    engine, known = recognizer(), lexicon()
    rows = [row for row in listed(chosen.people) if row.part == chosen.part]
    random.Random(5).shuffle(rows)
    forms: dict[str, Counter[str]] = defaultdict(Counter)
    for row in rows[: chosen.count]:
        spoken = normalized(row.text)
        if not sayable(spoken, known):
            continue
        graph = phoneme_graph(WordNetwork.of_phrases([spoken], around=False), known, running=True)
        best = align(engine.probabilities(Clip(samples_of(row) * 0.5, RATE)), graph)
        for word, sounds in said(best, graph) if best is not None else ():
            forms[word][sounds] += 1
    for word, counts in sorted(forms.items(), key=lambda each: -sum(each[1].values())):
        if sum(counts.values()) >= MIN_TIMES and len(counts) > 1:
            print(f"{word:12} " + "   ".join(f"{way} {n}" for way, n in counts.most_common()))


if __name__ == "__main__":
    main()
