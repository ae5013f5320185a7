"""How well the recognizer hears: tables with confidence intervals, for the card beside the weights.

    python -m training.evaluate --texts FOLDER [--count 300] [--json FILE]

Speakers, sentences and noises occur in no training; they come from the same generator, so read
every figure as "inside the synthetic world".
"""

from __future__ import annotations

import argparse
import json
import random
import time
from concurrent.futures import ProcessPoolExecutor
from pathlib import Path
from typing import Any

import numpy as np

from bench.report import show
from fond_echo.core.audio.clip import Clip
from fond_echo.core.recognition.dictation import dictate
from fond_echo.core.recognition.features import log_mel, normalized
from fond_echo.core.recognition.grammar_decoding import read
from fond_echo.core.recognition.scoring import Interval, edits, wilson
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.tracks import RATE
from fond_echo.speech.material import lexicon, recognizer, words
from training import rooms
from training.generate import nothing_said
from training.sentences import wordnet
from training.testing import (
    AROUND,
    CONDITIONS,
    TEST_SEED,
    Condition,
    Speech,
    digit_network,
    name,
    number,
    phrases,
    sentences,
)

SET_SIZE = 200


def closed(condition: Condition, count: int, seed: int) -> tuple[Interval, Interval]:
    """How many of a closed set come right, and how many others are kept out."""
    rng = random.Random(seed)
    speech = Speech(condition, lexicon(), seed)
    whole = phrases(rng, 2 * SET_SIZE)
    inside, outside = whole[:SET_SIZE], whole[SET_SIZE:]
    expected = Expected(tuple(" ".join(each) for each in inside))
    right = kept_out = 0
    for _ in range(count):
        said = speech.say(rng.choice(inside))
        found = recognizer().transcribe(said.clip, expected)
        right += found.source == "expected" and found.spoken == " ".join(said.words)
        said = speech.say(rng.choice(outside))
        kept_out += recognizer().transcribe(said.clip, expected).source != "expected"
    return wilson(right, count), wilson(kept_out, count)


def dictation(condition: Condition, count: int, seed: int, texts: list[list[str]]) -> Interval:
    """Word error rate."""
    rng = random.Random(seed)
    speech = Speech(condition, lexicon(), seed)
    source = sentences(rng, texts, set(words().words))
    wrong = total = 0
    for _ in range(count):
        said = speech.say(next(source))
        found = recognizer().transcribe(said.clip)
        wrong += edits(said.words, [word.spoken for word in found.words]).errors
        total += len(said.words)
    return wilson(min(wrong, total), total)


def numbers(condition: Condition, count: int, seed: int) -> Interval:
    """Ten digits all right, in a network of digits of any number."""
    rng = random.Random(seed)
    speech = Speech(condition, lexicon(), seed)
    expected = Expected(network=digit_network())
    right = 0
    for _ in range(count):
        said = speech.say(number(rng))
        found = recognizer().transcribe(said.clip, expected)
        right += [word.spoken for word in found.words] == list(said.words)
    return wilson(right, count)


def names(condition: Condition, count: int, seed: int) -> Interval:
    """A name that only the assistant's lexicon knows, in dictation beside forty others."""
    rng = random.Random(seed)
    speech = Speech(condition, lexicon(), seed)
    known = [name(rng) for _ in range(40)]
    expected = Expected((), tuple(known))
    right = 0
    for _ in range(count):
        one = rng.choice(known)
        said = speech.say(rng.choice(AROUND).format(one).split())
        found = recognizer().transcribe(said.clip, expected)
        right += one in [word.spoken for word in found.words]
    return wilson(right, count)


def false_words(hours: float, seed: int) -> tuple[int, float]:
    """Words heard in noise, tones and keys, and the hours of them."""
    rng = np.random.default_rng(seed)
    heard, seconds = 0, 0.0
    while seconds < hours * 3_600:
        if rng.random() < 0.5:
            kind = str(rng.choice([*rooms.TRAINING_NOISES[:5], "engine", "rain", "rail"]))
            samples = rooms.noise(kind, int(rng.uniform(3, 20) * RATE), rng) * np.float32(0.1)
        else:
            samples = np.concatenate([nothing_said(rng, []) for _ in range(4)])
        clip = Clip(np.asarray(samples, np.float32), RATE)
        heard += len(recognizer().transcribe(clip).words)
        seconds += clip.seconds
    return heard, seconds / 3_600


def speed(seconds: float = 120.0) -> dict[str, float]:
    """Shares of real time on one core."""
    rng = random.Random(5)
    speech = Speech(CONDITIONS[0], lexicon(), TEST_SEED + 99)
    whole = phrases(rng, SET_SIZE)
    expected = Expected(tuple(" ".join(each) for each in whole))
    engine = recognizer()
    engine.transcribe(speech.say(whole[0]).clip, expected)
    spent = dict.fromkeys(("features", "network", "dictation", "closed set"), 0.0)
    total = 0.0
    while total < seconds:
        clip = speech.say(rng.choice(whole)).clip
        total += clip.seconds
        begun = time.process_time()
        features = normalized(log_mel(clip))
        made = time.process_time()
        logs = engine.network.log_probabilities(features)
        through = time.process_time()
        dictate(logs, engine.vocabulary(Expected()))
        dictated = time.process_time()
        read(logs, engine.graph(expected))
        ended = time.process_time()
        for part, taken in zip(
            spent, (made - begun, through - made, dictated - through, ended - dictated), strict=True
        ):
            spent[part] += taken
    return {part: round(taken / total, 5) for part, taken in spent.items()}


def row_of(requested: tuple[int, int, list[list[str]]]) -> list[Any]:
    """A condition's figures."""
    place, count, texts = requested
    condition, seed = CONDITIONS[place], TEST_SEED + 10 * place
    inside, outside = closed(condition, count, seed)
    row = [
        condition.name, inside, outside, dictation(condition, count, seed + 1, texts),
        numbers(condition, count, seed + 2), names(condition, count, seed + 3),
    ]  # fmt: skip
    print(*row, sep=" | ", flush=True)
    return row


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--texts", type=Path, required=True, help="wordnet-base, unpacked")
    parser.add_argument("--count", type=int, default=300)
    parser.add_argument("--json", type=Path)
    chosen = parser.parse_args()
    texts = wordnet(chosen.texts, examples_only=True)
    with ProcessPoolExecutor(2) as pool:
        requested = [(place, chosen.count, texts) for place in range(len(CONDITIONS))]
        rows = list(pool.map(row_of, requested))
    columns = ("condition", "closed set of 200 right", "others kept out", "word error",
               "ten digits right", "new name right")  # fmt: skip
    show("held-out synthetic speakers and sentences, 95 % intervals", columns, rows)
    heard, hours = false_words(0.25 * chosen.count / 300, TEST_SEED + 90)
    print(f"false words: {heard} in {hours:.2f} h of noise, tones and keys")
    print("shares of real time:", spent := speed())
    if chosen.json:
        reported = {
            "figures": [dict(zip(columns, map(str, row), strict=True)) for row in rows],
            "false_words": heard, "hours_of_noise": round(hours, 3), "real_time": spent,
            "utterances_a_figure": chosen.count,
        }  # fmt: skip
        chosen.json.write_text(json.dumps(reported, indent=2, ensure_ascii=False) + "\n")


if __name__ == "__main__":
    main()
