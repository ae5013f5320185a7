"""Fit how sure to be: from measures of closed readings and of words to the chance that they are
right, over all conditions, with speakers that are neither trained on nor tested with.

    python -m training.calibrate --texts FOLDER [--count 150] [--people FOLDER]

With people's recordings (see bench/people), closed readings of half of them are fitted too, and
those of the other half told: the network is less sure of its sounds in people, and what is right
there would never be believed otherwise. So are lines of characters that are for choosing
(`--lines`, what training.people extracted).

Prints the weights for `fond_echo.core.recognition.confidence`, and how well they keep what they say
on other speakers again.
"""

from __future__ import annotations

import argparse
import random
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from itertools import chain
from pathlib import Path

import numpy as np
import numpy.typing as npt
from scipy.optimize import minimize

from bench.people import clean, recordings, through_telephone
from fond_echo.core.audio.clip import Clip
from fond_echo.core.recognition.confidence import Weights, chance
from fond_echo.core.recognition.dictation import dictate
from fond_echo.core.recognition.grammar_decoding import read
from fond_echo.core.recognition.recognizer import MAX_READINGS
from fond_echo.core.recognition.scoring import Bin, calibration_error, edits, reliability
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.material import lexicon, recognizer, words
from training.people.choosing import held
from training.sentences import wordnet
from training.testing import (
    CONDITIONS,
    FITTING_SEED,
    Speech,
    digit_network,
    number,
    phrases,
    sentences,
)

SIZES = (8, 30, 200)
OTHER_SEED = FITTING_SEED + 500
MEAN_SET = 137.0
"""Recordings of people in each of four sets, in the mean."""

PEOPLE_COUNT, PEOPLE_COUNT_CHOSEN = 0.5, 2.0
"""How much people count beside synthetic speakers; where one of a set was said for certain, it is
nearly always found of the latter, and they tell little."""

PULL = 0.01
"""Of the weights towards zero."""


@dataclass(frozen=True)
class Sample:
    """A reading, or a word.

    Attributes:
        right: whether it is.
        inside: whether what was said is in the set at all.
        counts: how much, beside others.
    """

    measures: Weights
    right: bool
    inside: bool = True
    counts: float = 1.0


def closely(
    clip: Clip, expected: Expected, said: tuple[str, ...], inside: bool, counts: float = 1.0
) -> list[Sample]:
    """A closed reading of what was said; none where nothing was found."""
    engine = recognizer()
    logs = engine.probabilities(clip)
    readings = read(logs, engine.graph(expected), most=MAX_READINGS)
    if not readings:
        return []
    second = readings[1] if len(readings) > 1 else None
    right = inside and tuple(word.word for word in readings[0].words) == said
    return [Sample(engine.fit(readings[0], second, logs), right, inside, counts)]


def closed_samples(requested: tuple[int, int, int]) -> list[Sample]:
    """Closed readings of phrases that are in a set and of others, and of numbers and of sentences
    against digits, where the next reading is never far: in one condition; its place, how many, and
    the speakers' seed."""
    place, count, seed = requested
    found: list[Sample] = []
    rng = random.Random(seed + place)
    speech = Speech(CONDITIONS[place], lexicon(), seed + place)
    for size in SIZES:
        whole = phrases(rng, 2 * size)
        expected = Expected(tuple(" ".join(each) for each in whole[:size]))
        for k in range(2 * count // len(SIZES)):
            said = speech.say(rng.choice(whole[:size] if k % 2 else whole[size:]))
            found += closely(said.clip, expected, said.words, bool(k % 2))
    expected = Expected(network=digit_network())
    for k in range(count * 3 // 5):
        said = speech.say(number(rng) if k % 3 else rng.choice(whole))
        found += closely(said.clip, expected, said.words, bool(k % 3))
    return found


def people_samples(folder: Path, part: int) -> list[Sample]:
    """Closed readings of every other recording of people, held against its own set and against
    another; clean, and through the telephone. `places` is in neither part. The smallest set counts
    as much as the largest."""
    sets = {name: said for name, said in recordings(folder).items() if name != "places"}
    networks = {
        name: Expected(tuple(dict.fromkeys(each.said for each in said)))
        for name, said in sets.items()
    }
    rng = random.Random(part)
    found: list[Sample] = []
    for name, said in sets.items():
        others = [networks[each] for each in networks if each != name]
        for each in said[part::2]:
            for spoil in (clean, through_telephone):
                for expected in (networks[name], rng.choice(others)):
                    found += closely(
                        spoil(each.clip()), expected, tuple(each.said.split()),
                        expected is networks[name], MEAN_SET / len(said),
                    )  # fmt: skip
    return found


def line_samples(folder: Path, half: int) -> list[Sample]:
    """Closed readings of every other line of characters that are for choosing."""
    found: list[Sample] = []
    for each in held(folder, half):
        found += closely(each.clip, Expected(each.phrases), each.words, each.inside)
    return found


def word_samples(requested: tuple[int, int, int, list[list[str]]]) -> list[Sample]:
    """Words of dictation, with whether they are right, in one condition."""
    place, count, seed, texts = requested
    found: list[Sample] = []
    engine = recognizer()
    rng = random.Random(seed + 50 + place)
    speech = Speech(CONDITIONS[place], lexicon(), seed + 50 + place)
    source = sentences(rng, texts, set(words().words))
    for _ in range(count):
        said = speech.say(next(source))
        logs = engine.probabilities(said.clip)
        readings = dictate(logs, engine.vocabulary(Expected()), MAX_READINGS)
        if not readings:
            continue
        heard = [word.word for word in readings[0].words]
        right = [each.step == "same" for each in edits(said.words, heard).steps if each.heard]
        measured = [measures for _, measures in engine.measured(readings[0].words, logs)]
        found += map(Sample, measured, right)
    return found


def fitted(samples: list[Sample], better: int) -> Weights:
    """Logistic regression, by likelihood.

    Args:
        better: of the first so many measures, more can only make surer: that low sharpness goes
            with noise, in which what is right was hard, is no reason to trust it.
    """
    x = np.array([(1.0, *each.measures) for each in samples])
    y = np.array([each.right for each in samples], float)
    counts = np.array([each.counts for each in samples])
    counts /= counts.sum()
    spread = np.maximum(x.std(axis=0), 1e-6)
    spread[0] = 1.0

    def loss(w: npt.NDArray[np.float64]) -> float:
        total = (x / spread) @ w
        likely = np.logaddexp(0.0, total) - y * total
        return float(counts @ likely + PULL * np.square(w[1:]).mean())

    bounds = [(0.0, None) if 0 < k <= better else (None, None) for k in range(x.shape[1])]
    found = minimize(loss, np.zeros(x.shape[1]), method="L-BFGS-B", bounds=bounds).x / spread
    return tuple(round(float(each), 3) for each in found)


def counted(samples: list[Sample], more: float) -> list[Sample]:
    """The same, counting so much more."""
    return [replace(each, counts=each.counts * more) for each in samples]


def inside(samples: list[Sample]) -> list[Sample]:
    """Those of what is in the set."""
    return [each for each in samples if each.inside]


def drawn(name: str, bins: list[Bin], file: Path) -> None:
    """A reliability plot: what was said of a tenth beside what was true of it."""
    import matplotlib as mpl

    mpl.use("Agg")
    from matplotlib import pyplot

    figure, (above, below) = pyplot.subplots(
        2, 1, figsize=(7, 7), height_ratios=(3, 1), sharex=True, layout="constrained"
    )
    above.plot([0, 1], [0, 1], color="#8899a6", linewidth=1, linestyle=":")
    above.plot([b.reported for b in bins], [b.true for b in bins], "o-", color="#1f6f78")
    above.set(
        ylabel="right", ylim=(0, 1.02), title=f"{name}: told {calibration_error(bins):.1%} off"
    )
    below.bar([b.reported for b in bins], [b.count for b in bins], width=0.05, color="#d08c3f")
    below.set(xlabel="confidence", ylabel="how many", yscale="log", xlim=(0, 1))
    figure.savefig(file, dpi=100)


def reported(name: str, weights: Weights, samples: list[Sample], plot: Path | None = None) -> None:
    """How well the weights keep what they say."""
    sure = [chance(weights, each.measures) for each in samples]
    right = [each.right for each in samples]
    if not samples:
        return
    bins = reliability(sure, right)
    print(f"{name}: {weights}")
    print(
        f"  {len(samples)} others, {np.mean(right):.1%} right, error {calibration_error(bins):.3f}"
    )
    for each in bins:
        print(f"  told {each.reported:.2f}  true {each.true:.2f}  of {each.count}")
    good = np.array([s for s, r in zip(sure, right, strict=True) if r])
    bad = np.array([s for s, r in zip(sure, right, strict=True) if not r])
    if plot is not None:
        drawn(name, bins, plot)
    if not len(bad):
        return
    for bar in (0.2, 0.3, 0.4, 0.5, 0.6, 0.7):
        print(f"  at {bar}: {np.mean(good < bar):.1%} of what is right refused, "
              f"{np.mean(bad < bar):.1%} of what is wrong")  # fmt: skip


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--texts", type=Path, required=True, help="wordnet-base, unpacked")
    parser.add_argument("--count", type=int, default=150)
    parser.add_argument("--people", type=Path, help="packages with recordings, unpacked")
    parser.add_argument("--lines", type=Path, help="what training.people extracted")
    parser.add_argument("--plots", type=Path, help="a folder for reliability plots")
    chosen = parser.parse_args()
    texts = wordnet(chosen.texts, examples_only=True)
    plots, count = chosen.plots, chosen.count
    places = range(len(CONDITIONS))
    with ProcessPoolExecutor(2) as pool:

        def closed(many: int, seed: int) -> list[Sample]:
            return [*chain(*pool.map(closed_samples, [(k, many, seed) for k in places]))]

        def heard(many: int, seed: int) -> list[Sample]:
            return [*chain(*pool.map(word_samples, [(k, many, seed, texts) for k in places]))]

        samples, others = closed(count, FITTING_SEED), closed(count // 2, OTHER_SEED)
        people, other_people = (
            people_samples(chosen.people, part) if chosen.people else [] for part in (0, 1)
        )
        if chosen.lines:
            people += line_samples(chosen.lines, 0)
            other_people += line_samples(chosen.lines, 1)
        weights = fitted(samples + counted(people, PEOPLE_COUNT), 4)
        reported("closed sets", weights, others, plots and plots / "confidence-closed-sets.png")
        reported("closed sets of people", weights, other_people)
        weights = fitted(inside(samples + counted(people, PEOPLE_COUNT_CHOSEN)), 4)
        reported("one of a set", weights, inside(others))
        reported("one of a set, people", weights, inside(other_people))
        weights, others = fitted(heard(count, FITTING_SEED), 2), heard(count // 2, OTHER_SEED)
        reported("words of dictation", weights, others, plots and plots / "confidence-words.png")


if __name__ == "__main__":
    main()
