"""Letters to sounds, learned from the dictionary: a tree that asks for a letter's neighbours, and
for the sounds said before it, until the answer does not change any more.

    python -m training.letters --out fond_echo/core/language/en/letters.npz

Letters are aligned with no, one or two phonemes each by expectation and maximization; the tree
(Daelemans, van den Bosch and Weijters 1997, IGTree) asks in a fixed order and keeps a branch only
where it changes the answer. One word in twenty, by checksum, is kept apart and judged by.
"""

from __future__ import annotations

import argparse
import json
import math
import zlib
from collections import Counter, defaultdict
from collections.abc import Iterator, Sequence
from pathlib import Path

import numpy as np

from fond_echo.core.language.en.letter_tree import ORDER, LetterTree, asked, repaired
from fond_echo.core.language.phonemes import VOWELS, base
from fond_echo.core.recognition.scoring import edits
from fond_echo.speech.material import lexicon

Word = tuple[str, tuple[str, ...]]
ROUNDS = 6
MOST = 2
"""Phonemes of one letter."""

LEAST = 2
"""So many words at least must have a branch for it to be kept."""

KEPT_APART = 20


def entries() -> list[Word]:
    """Words of the dictionary that are letters alone, with their usual pronunciation."""
    known = lexicon("en")
    found = []
    for word in known._entries:
        if word.isascii() and word.isalpha() and len(word) > 1:
            found.append((word, known.listed(word)[0]))
    return found


def is_apart(word: str) -> bool:
    """Whether a word is kept apart."""
    return zlib.crc32(word.encode()) % KEPT_APART == 0


def paths(
    word: str, sounds: Sequence[str], cost: dict[tuple[str, tuple[str, ...]], float]
) -> list[tuple[str, ...]] | None:
    """The best alignment: what each letter says; None where there is none."""
    rows, columns = len(word), len(sounds)
    best = np.full((rows + 1, columns + 1), np.inf)
    step = np.zeros((rows + 1, columns + 1), int)
    best[0, 0] = 0.0
    for row in range(rows):
        for column in range(columns + 1):
            if math.isinf(best[row, column]):
                continue
            for size in range(MOST + 1):
                if column + size > columns:
                    break
                chunk = tuple(base(each) for each in sounds[column : column + size])
                total = best[row, column] + cost.get((word[row], chunk), 12.0 + 2.0 * size)
                if total < best[row + 1, column + size]:
                    best[row + 1, column + size] = total
                    step[row + 1, column + size] = size
    if math.isinf(best[rows, columns]):
        return None
    found, column = [], columns
    for row in range(rows, 0, -1):
        size = int(step[row, column])
        found.append(tuple(sounds[column - size : column]))
        column -= size
    return found[::-1]


def aligned(words: Sequence[Word]) -> list[tuple[str, list[tuple[str, ...]]]]:
    """Each word with what each of its letters says."""
    cost: dict[tuple[str, tuple[str, ...]], float] = {}
    for word, sounds in words[::7]:
        # At first a letter says what stands at the same place in the word.
        for at, letter in enumerate(word):
            near = round(at * len(sounds) / len(word))
            for place in (near - 1, near):
                if 0 <= place < len(sounds):
                    cost[letter, (base(sounds[place]),)] = 4.0
            cost[letter, ()] = 5.0
    found: list[tuple[str, list[tuple[str, ...]]]] = []
    for _ in range(ROUNDS):
        counts: Counter[tuple[str, tuple[str, ...]]] = Counter()
        found = []
        for word, sounds in words:
            path = paths(word, sounds, cost)
            if path is not None:
                found.append((word, path))
                counts.update(
                    (letter, tuple(map(base, chunk)))
                    for letter, chunk in zip(word, path, strict=True)
                )
        totals: Counter[str] = Counter()
        for (letter, _chunk), count in counts.items():
            totals[letter] += count
        cost = {
            key: -math.log(count / totals[key[0]]) for key, count in counts.items() if count > 2
        }
    return found


def instances(
    words: Sequence[tuple[str, list[tuple[str, ...]]]],
) -> Iterator[tuple[tuple[str, ...], str]]:
    """What the tree is asked for each letter, and what it answers."""
    for word, path in words:
        said: list[str] = []
        for at, chunk in enumerate(path):
            yield tuple(asked(word, at, said)), " ".join(chunk)
            said.append(" ".join(chunk))


def grown(words: Sequence[tuple[str, list[tuple[str, ...]]]]) -> LetterTree:
    """The tree."""
    counts: dict[tuple[str, ...], Counter[str]] = defaultdict(Counter)
    for features, answer in instances(words):
        for depth in range(1, len(ORDER) + 1):
            counts[features[:depth]][answer] += 1
    children: dict[tuple[str, ...], list[tuple[str, ...]]] = defaultdict(list)
    for key in counts:
        if len(key) > 1:
            children[key[:-1]].append(key)
    parents: list[int] = []
    values: list[str] = []
    answers: list[str] = []

    def add(key: tuple[str, ...], parent: int, above: str) -> bool:
        """Whether a branch was kept."""
        found = counts[key]
        answer, _ = found.most_common(1)[0]
        place = len(parents)
        parents.append(parent)
        values.append(key[-1])
        answers.append(answer)
        kept = False
        if len(found) > 1 and sum(found.values()) >= LEAST:
            for child in sorted(children[key]):
                kept |= add(child, place, answer)
        if not kept and answer == above:
            del parents[place:], values[place:], answers[place:]
            return False
        return True

    for letter in sorted({key[0] for key in counts}):
        add((letter,), -1, "\0")
    return LetterTree.of(parents, values, answers)


def judged(words: Sequence[Word], tree: LetterTree) -> dict[str, float]:
    """Word and phoneme error, with stress and without."""
    phonemes = wrong = words_wrong = stressed_wrong = 0
    for word, _ in words:
        ways = {tuple(map(base, each)) for each in lexicon("en").listed(word)}
        found = repaired(tree.sounds(word))
        bare = tuple(map(base, found))
        nearest = min((edits(list(way), list(bare)) for way in ways), key=lambda e: e.errors)
        phonemes += nearest.length
        wrong += nearest.errors
        words_wrong += nearest.errors > 0
        if nearest.errors == 0:
            accents = {
                "".join(s[-1] for s in way if base(s) in VOWELS)
                for way in lexicon("en").listed(word)
            }
            mine = "".join(s[-1] for s in found if base(s) in VOWELS)
            stressed_wrong += not any(a.find("1") == mine.find("1") for a in accents)
    count = len(words)
    return {
        "words": count, "phoneme error": wrong / phonemes, "word error": words_wrong / count,
        "word error, stress counted": (words_wrong + stressed_wrong) / count,
    }  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--out", type=Path, required=True)
    chosen = parser.parse_args()
    words = entries()
    kept = [each for each in words if is_apart(each[0])]
    tree = grown(aligned([each for each in words if not is_apart(each[0])]))
    chosen.out.write_bytes(tree.packed())
    print(f"{len(tree.parents):,} branches, {chosen.out.stat().st_size:,} bytes")
    found = judged(kept, tree)
    print(json.dumps({name: round(value, 4) for name, value in found.items()}))


if __name__ == "__main__":
    main()
