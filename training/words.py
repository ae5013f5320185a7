"""Learn which words follow which, and write the model that dictation loads.

    python -m training.words --texts FOLDER --talk FOLDER --out fond_echo/speech/data/words-en.npz

Counts are of sentences of the grammar, of talk (`training/talk.py`; with `--games` also `games.py`,
which no model that ships has), examples and, for less, glosses of WordNet, the 240,000 frequent
pairs of words that `symspellpy` comes with, and single words of `wordfreq`.
Probabilities are interpolated with absolute discounting (Ney, Essen and Kneser 1994): what is taken
off each count that was seen goes to the model of one word less.
"""

from __future__ import annotations

import argparse
import math
import random
from collections import Counter, defaultdict
from collections.abc import Iterable, Iterator
from importlib import resources
from pathlib import Path

import numpy as np
import wordfreq

from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.recognition.words import END, WordModel
from fond_echo.speech.material import lexicon
from training.games import talk_of_games
from training.sentences import MADE, Grammar, is_test, wordnet
from training.talk import talk

VOCABULARY = 22_000
SENTENCES = 250_000
DISCOUNT = 0.6
MIN_PAIR, MIN_TRIPLE = 0.55, 1.5
MADE_WEIGHT, EXAMPLE_WEIGHT, GLOSS_WEIGHT, TALK_WEIGHT = 0.3, 1.0, 0.3, 1.0
"""Chosen by how well lines of characters that are for choosing are foretold (training/README)."""

OFTEN, GAME_WEIGHT = 3, 1.0
"""Of games only what followed so often is taken, and weighs so much."""

PAIR_WEIGHT = 1e-7
"""What one of the counts of frequent pairs, which are of very many texts, weighs."""

Sentence = tuple[str, ...]


def vocabulary(known: Lexicon, spoken: Iterable[str]) -> list[str]:
    """Frequent words that the lexicon lists, and every word that sentences of the grammar have."""
    frequent = [
        word
        for word in wordfreq.top_n_list("en", 2 * VOCABULARY)
        if known.listed(word) and (len(word) > 1 or word in "aio")
    ]
    letters = [chr(ord("a") + k) for k in range(26)]
    words = dict.fromkeys([*frequent[:VOCABULARY], *spoken, *letters])
    return [word for word in words if known.pronunciations(word)]


class Counts:
    """How often words, pairs and triples of words were seen; an utterance begins and ends with
    END."""

    def __init__(self, words: Iterable[str]) -> None:
        self.numbers = {word: number for number, word in enumerate(words)}
        self.single: Counter[int] = Counter()
        self.pairs: dict[int, Counter[int]] = defaultdict(Counter)
        self.triples: dict[tuple[int, int], Counter[int]] = defaultdict(Counter)

    def add(self, sentence: Sentence, weight: float) -> None:
        """A sentence; where a word is unknown, what is counted breaks off and begins anew."""
        before: list[int] = [0]
        for word in (*sentence, END):
            number = self.numbers.get(word)
            if number is None:
                before = []
                continue
            self.single[number] += weight  # type: ignore[assignment]
            if before:
                self.pairs[before[-1]][number] += weight  # type: ignore[assignment]
            if len(before) > 1:
                self.triples[before[-2], before[-1]][number] += weight  # type: ignore[assignment]
            before = [*before[-1:], number]

    def add_often(self, other: Counts, least: int, weight: float) -> None:
        """What another has at least so often."""
        for number, count in other.single.items():
            if count >= least:
                self.single[number] += count * weight  # type: ignore[assignment]
        for mine, others in ((self.pairs, other.pairs), (self.triples, other.triples)):
            for before, after in others.items():
                for number, count in after.items():
                    if count >= least:
                        mine[before][number] += count * weight  # type: ignore[index]

    def add_pairs(self, pairs: Iterable[tuple[str, str, float]], weight: float) -> None:
        """Pairs that were counted elsewhere. Their words are not: `wordfreq` has those."""
        for first, second, count in pairs:
            known = self.numbers.get(first), self.numbers.get(second)
            if known[0] and known[1]:
                self.pairs[known[0]][known[1]] += count * weight  # type: ignore[assignment]


def frequent_pairs() -> Iterator[tuple[str, str, float]]:
    """Pairs of words with their counts."""
    text = resources.files("symspellpy").joinpath("frequency_bigramdictionary_en_243_342.txt")
    for line in text.read_text(encoding="utf-8-sig").splitlines():
        first, second, count = line.split()
        yield first, second, float(count)


def learnt(counts: Counts, words: list[str]) -> WordModel:
    """The model of the counts."""
    known = np.array([wordfreq.word_frequency(word, "en") if word else 0.0 for word in words])
    seen = np.array([counts.single[k] for k in range(len(words))], float)
    single = 0.5 * known / known.sum() + 0.5 * seen / seen.sum()
    single = np.maximum(single, 1e-8)
    single /= single.sum()
    pairs = {h: kept for h, after in counts.pairs.items() if (kept := _kept(after, MIN_PAIR))}
    triples = {
        h: kept
        for h, after in counts.triples.items()
        if h[0] in pairs and h[1] in pairs and h[1] in pairs[h[0]]
        and (kept := _kept(after, MIN_TRIPLE))
    }  # fmt: skip
    ones = {h: state for state, h in enumerate(sorted(pairs), 1)}
    twos = {h: state for state, h in enumerate(sorted(triples), 1 + len(ones))}
    after = np.zeros(len(words), np.int32)
    for h, state in ones.items():
        after[h] = state
    first, arc_word, arc_log, arc_to = [0, 0], [], [], []
    backoff, less = [0.0], [0]
    whole: dict[int, dict[int, float]] = {}
    for h in sorted(pairs):
        total = sum(counts.pairs[h].values())
        left = 1 - sum(_left(c) for c in pairs[h].values()) / total
        found = {w: _left(c) / total + left * single[w] for w, c in pairs[h].items()}
        whole[h] = found
        for w in sorted(found):
            arc_word.append(w)
            arc_log.append(math.log(found[w]))
            arc_to.append(twos.get((h, w), after[w]) if w else 0)
        first.append(len(arc_word))
        backoff.append(math.log(left))
        less.append(0)
    for h in sorted(triples):
        total = sum(counts.triples[h].values())
        left = 1 - sum(_left(c) for c in triples[h].values()) / total
        lower, rest = whole[h[1]], math.exp(backoff[ones[h[1]]])
        for w in sorted(triples[h]):
            below = lower.get(w, rest * single[w])
            arc_word.append(w)
            arc_log.append(math.log(_left(triples[h][w]) / total + left * below))
            arc_to.append(twos.get((h[1], w), after[w]) if w else 0)
        first.append(len(arc_word))
        backoff.append(math.log(left))
        less.append(ones[h[1]])
    return WordModel(
        tuple(words), np.log(single).astype(np.float32), after, np.array(first, np.int32),
        np.array(arc_word, np.int32), np.array(arc_log, np.float32), np.array(arc_to, np.int32),
        np.array(backoff, np.float32), np.array(less, np.int32), int(after[0]),
    )  # fmt: skip


def _left(count: float) -> float:
    """A count less its discount."""
    return count - DISCOUNT * min(1.0, count)


def _kept(after: Counter[int], least: float) -> dict[int, float]:
    return {word: count for word, count in after.items() if count >= least}


def branching(model: WordModel, sentences: Iterable[Sentence]) -> float:
    """How many words could follow a word of some sentences, in the geometric mean; those with
    unknown words are left out."""
    numbers = model.numbers
    total, count = 0.0, 0
    for sentence in sentences:
        if any(word not in numbers for word in sentence):
            continue
        state = model.start
        for word in (*sentence, END):
            log, state = model.step(state, numbers[word])
            total += log
            count += 1
    return math.exp(-total / max(1, count))


def counted(
    texts: Path, talked: Path, games: Path | None, seed: int, game_weight: float = GAME_WEIGHT
) -> tuple[Counts, list[str], dict[str, list[Sentence]]]:
    """The counts of everything but the test's sentences, the words, and the sentences that test."""
    known, rng, grammar = lexicon(), random.Random(seed), Grammar()
    made = [tuple(grammar.one(rng)) for _ in range(SENTENCES)]
    made += [tuple(MADE[name](rng)) for name in MADE for _ in range(2_000)]
    examples = [tuple(each) for each in wordnet(texts, examples_only=True)]
    spoken = sorted({word for each in made if not is_test(each) for word in each})
    words = [END, *vocabulary(known, spoken)]
    sources: dict[str, tuple[list[Sentence], float]] = {
        "the grammar": (made, MADE_WEIGHT), "WordNet": (examples, EXAMPLE_WEIGHT),
        "glosses": ([tuple(each) for each in wordnet(texts)], GLOSS_WEIGHT),
        "talk": (list(talk(talked)), TALK_WEIGHT),
        "games": (list(talk_of_games(games)) if games else [], game_weight),
    }  # fmt: skip
    counts, test = Counts(words), {}
    for name, (sentences, weight) in sources.items():
        rare = Counts(words)
        into, times = (rare, 1.0) if name == "games" else (counts, weight)
        for each in sentences:
            if not is_test(each):
                into.add(each, times)
        counts.add_often(rare, OFTEN, weight)
        test[name] = [each for each in sentences if is_test(each)]
    counts.add_pairs(frequent_pairs(), PAIR_WEIGHT)
    return counts, words, test


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--texts", type=Path, required=True, help="wordnet-base, unpacked")
    parser.add_argument("--talk", type=Path, required=True, help="see training/talk.py")
    parser.add_argument("--games", type=Path, help="see training/games.py; none without")
    parser.add_argument("--out", type=Path, required=True)
    parser.add_argument("--seed", type=int, default=1)
    chosen = parser.parse_args()
    counts, words, test = counted(chosen.texts, chosen.talk, chosen.games, chosen.seed)
    model = learnt(counts, words)
    model.save(chosen.out)
    print(f"{len(words):,} words, {len(model.backoff):,} states, {len(model.arc_word):,} arcs, "
          f"{chosen.out.stat().st_size:,} bytes")  # fmt: skip
    for name, sentences in test.items():
        print(f"branching in sentences of {name} that are for testing: "
              f"{branching(model, sentences[:3_000]):.1f}")  # fmt: skip


if __name__ == "__main__":
    main()
