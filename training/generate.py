"""Make sound to train on: shards of features with what was said.

    python -m training.generate --texts FOLDER --out FOLDER --hours 20 --seed 1

Several may run side by side with other seeds. A shard holds, one utterance after the other: log
energies (float16), a phoneme for each of their frames (0 in silence), and the phonemes in order as
the dictionary has them.
"""

from __future__ import annotations

import argparse
import random
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt
import wordfreq

from fond_echo.core.audio.clip import Clip
from fond_echo.core.language.language import Melody
from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.language.phonemes import base
from fond_echo.core.recognition.features import HOP, WINDOW, log_mel
from fond_echo.core.recognition.symbols import SYMBOLS
from fond_echo.core.synthesis.filters import render
from fond_echo.core.synthesis.segments import Segment, plan
from fond_echo.core.synthesis.tracks import RATE, build
from fond_echo.speech.material import lexicon
from training import rooms
from training.delivery import uneven
from training.sentences import Sentences, wordnet
from training.speakers import Person, draw

A_SHARD = 150
MAX_SECONDS = 9.0
VOCABULARY = 45_000
EMPTY = 0.07
"""How often nothing is said: noise, tones and the like, of which no words may come."""

Rng = np.random.Generator


@dataclass(frozen=True)
class Utterance:
    """What was said and how it sounds, clean, at 16 kHz.

    Attributes:
        labels: the phoneme's place among the outputs, per sample of 2.5 ms.
        sounds: the dictionary's phonemes as outputs.
    """

    words: tuple[str, ...]
    samples: rooms.Samples
    labels: npt.NDArray[np.uint8]
    sounds: npt.NDArray[np.uint8]


def utter(words: list[str], person: Person, known: Lexicon, rng: Rng) -> Utterance:
    """A sentence said by a person, with silence around it and sometimes within."""
    lead = rng.uniform(0.005, 0.05) if rng.random() < 0.3 else rng.uniform(0.03, 0.4)
    segments = [Segment("silence", "", float(lead))]
    meant: list[str] = []
    part: list[tuple[str, ...]] = []

    def breathe() -> None:
        segments.extend(plan(part, person.speaker, rng))
        part.clear()

    for place, word in enumerate(words):
        ways = known.pronunciations(word)
        sounds = ways[0] if rng.random() < 0.7 else ways[int(rng.integers(len(ways)))]
        meant += [base(sound) for sound in sounds]
        part.append(person.says(sounds, rng))
        if place + 1 < len(words) and rng.random() < 0.05:
            breathe()
            segments.append(Segment("silence", "", float(rng.uniform(0.05, 0.6))))
    breathe()
    segments.append(Segment("silence", "", float(rng.uniform(0.05, 0.4))))
    melody: Melody = "rise" if rng.random() < 0.2 else "fall"
    tracks = uneven(build(segments, person.speaker, rng, melody=melody), segments, rng)
    samples = render(tracks, person.speaker, rng)
    labels = np.zeros(len(tracks.voicing), np.uint8)
    clock = 0.0
    for segment in segments:
        first, clock = clock, clock + segment.seconds
        if segment.phoneme:
            labels[round(first * 400) : round(clock * 400)] = SYMBOLS[segment.phoneme]
    return Utterance(
        tuple(words), samples, labels, np.array([SYMBOLS[each] for each in meant], np.uint8)
    )


def features(samples: rooms.Samples) -> npt.NDArray[np.float32]:
    return log_mel(Clip(samples, RATE))


def of_frames(labels: npt.NDArray[np.uint8], count: int) -> npt.NDArray[np.uint8]:
    """The label in the middle of every frame."""
    middles = (np.arange(count) * HOP + WINDOW // 2) // (RATE // 400)
    return labels[np.minimum(middles, len(labels) - 1)]


def nothing_said(rng: Rng, others: list[rooms.Samples]) -> rooms.Samples:
    """Noise, tones, keys and music without words."""
    count = int(rng.uniform(0.5, 5) * RATE)
    kinds = [kind for kind in rooms.TRAINING_NOISES if kind not in ("talkers", "murmur")]
    made = rooms.noise(str(rng.choice(kinds)), count, rng) * np.float32(10 ** rng.uniform(-2, 0))
    t = np.arange(count) / RATE
    chance = rng.random()
    if chance < 0.5:
        tones = np.zeros(count)
        at = 0
        while at < count:
            span = int(rng.uniform(0.05, 0.8) * RATE)
            root = 2 ** rng.uniform(6.5, 11)
            here = slice(at, at + span)
            for k in range(1, int(rng.integers(2, 7))):
                tones[here] += np.sin(2 * np.pi * root * k * t[here]) * rng.uniform(0, 1) / k
            at += span + int(rng.uniform(0, 0.3) * RATE)
        made = made * 0.2 + tones
    return rooms.world(np.asarray(made, np.float32), rng, others)


class Writer:
    """Writes shards of a seed."""

    def __init__(self, sentences: Sentences, known: Lexicon, seed: int) -> None:
        self._sentences = sentences
        self._known = known
        self._rng = np.random.default_rng(seed)
        self._random = random.Random(seed)
        self._others: list[rooms.Samples] = []

    def shard(self) -> dict[str, npt.NDArray[np.generic]]:
        """One shard's arrays."""
        energies, labels, sounds = [], [], []
        while len(energies) < A_SHARD:
            if self._rng.random() < EMPTY:
                found = features(nothing_said(self._rng, self._others))
                here = np.zeros(len(found), np.uint8)
                said = np.zeros(0, np.uint8)
            else:
                words = self._sentences.one(self._random)
                one = utter(words, draw(self._rng), self._known, self._rng)
                if len(one.samples) > MAX_SECONDS * RATE or not np.isfinite(one.samples).all():
                    continue
                self._keep(one.samples)
                found = features(rooms.world(one.samples, self._rng, self._others))
                here, said = of_frames(one.labels, len(found)), one.sounds
            energies.append(found.astype(np.float16))
            labels.append(here)
            sounds.append(said)
        return {
            "energies": np.concatenate(energies),
            "labels": np.concatenate(labels),
            "sounds": np.concatenate(sounds),
            "frames": np.array([len(each) for each in energies]),
            "counts": np.array([len(each) for each in sounds]),
        }

    def _keep(self, samples: rooms.Samples) -> None:
        if len(self._others) < 60:
            self._others.append(samples)
        elif self._rng.random() < 0.1:
            self._others[int(self._rng.integers(60))] = samples


def prepared(folder: Path) -> tuple[Sentences, Lexicon]:
    """The sentences and the lexicon of a training."""
    known = lexicon()
    words = [word for word in wordfreq.top_n_list("en", VOCABULARY) if known.listed(word)]
    return Sentences(wordnet(folder), words, lambda word: bool(known.pronunciations(word))), known


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--texts", type=Path, required=True, help="wordnet-base, unpacked")
    parser.add_argument("--out", type=Path, required=True)
    parser.add_argument("--hours", type=float, default=20.0)
    parser.add_argument("--seed", type=int, default=1)
    chosen = parser.parse_args()
    chosen.out.mkdir(parents=True, exist_ok=True)
    sentences, known = prepared(chosen.texts)
    writer = Writer(sentences, known, chosen.seed)
    begun, seconds, number = time.monotonic(), 0.0, 0
    while seconds < chosen.hours * 3_600:
        arrays = writer.shard()
        file = chosen.out / f"shard-{chosen.seed:03d}-{number:04d}.npz"
        unfinished = file.with_suffix(".part")
        with unfinished.open("wb") as out:
            np.savez(out, **arrays)
        unfinished.rename(file)
        seconds += len(arrays["labels"]) / 100
        number += 1
        if number % 5 == 0:
            speed = seconds / (time.monotonic() - begun)
            print(
                f"seed {chosen.seed}: {seconds / 3_600:.2f} h, {speed:.0f} × real time", flush=True
            )


if __name__ == "__main__":
    main()
