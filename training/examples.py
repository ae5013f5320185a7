"""Examples out of folders of shards, and the batches they are read in."""

from __future__ import annotations

import random
from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt

from training.variation import FRAMES_A_SYMBOL

POOL = 1_600
"""Examples that are sorted by length at a time."""

MAX_NOISES = 400

NOISE_TIMES = 3
"""An example in which nothing is said comes so often for once of another, or noise is heard as
words."""


@dataclass(frozen=True)
class Example:
    """An utterance.

    Attributes:
        energies: log energies, shape (frames, 64).
        labels: the network's output by frame; 0 where nothing sounds.
        sounds: the outputs in order.
    """

    energies: npt.NDArray[np.float16]
    labels: npt.NDArray[np.uint8]
    sounds: npt.NDArray[np.uint8]


class Shards:
    """Examples of a folder, read as they appear; each process takes its share."""

    def __init__(self, folder: Path, rank: int = 0, size: int = 1) -> None:
        self._folder, self._rank, self._size = folder, rank, size
        self._seen: set[Path] = set()
        self.examples: list[Example] = []
        self.noises: list[npt.NDArray[np.float16]] = []

    def look(self) -> None:
        """Read what is new."""
        for place, file in enumerate(sorted(self._folder.glob("shard-*.npz"))):
            if file in self._seen:
                continue
            self._seen.add(file)
            if place % self._size == self._rank:
                self._read(file)

    def _read(self, file: Path) -> None:
        with np.load(file) as arrays:
            energies, labels, sounds = (arrays[name] for name in ("energies", "labels", "sounds"))
            frames = np.cumsum([0, *arrays["frames"]])
            counts = np.cumsum([0, *arrays["counts"]])
        for k in range(len(frames) - 1):
            one = Example(
                energies[frames[k] : frames[k + 1]],
                labels[frames[k] : frames[k + 1]],
                sounds[counts[k] : counts[k + 1]],
            )
            # What takes more symbols than frames cannot be aligned.
            if len(one.sounds) * FRAMES_A_SYMBOL > len(one.labels):
                continue
            self.examples.extend([one] * (1 if len(one.sounds) else NOISE_TIMES))
            if not len(one.sounds) and len(self.noises) < MAX_NOISES:
                self.noises.append(one.energies)


class Batches:
    """Batches of like length without end, in random order.

    Args:
        frames: about so many in a batch.
    """

    def __init__(self, shards: Shards, frames: float, chance: random.Random) -> None:
        self._shards, self._frames, self._chance = shards, frames, chance
        self._waiting: list[list[int]] = []
        self._places: list[int] = []

    def next(self) -> list[Example]:
        """The next batch; every example comes once before any comes again."""
        if not self._waiting:
            self._waiting = self._sorted()
        return [self._shards.examples[k] for k in self._waiting.pop()]

    def _sorted(self) -> list[list[int]]:
        if not self._places:
            self._shards.look()
            self._places = list(range(len(self._shards.examples)))
            self._chance.shuffle(self._places)
        pool, self._places = self._places[:POOL], self._places[POOL:]
        lengths = {k: len(self._shards.examples[k].labels) for k in pool}
        found: list[list[int]] = []
        batch: list[int] = []
        for k in sorted(pool, key=lengths.__getitem__):
            batch.append(k)
            if len(batch) * lengths[k] > self._frames:
                found.append(batch)
                batch = []
        if batch:
            found.append(batch)
        self._chance.shuffle(found)
        return found


def others_of(batch: Sequence[Example]) -> list[npt.NDArray[np.float16]]:
    """What people say in a batch, to be laid under its examples."""
    return [one.energies for one in batch if len(one.sounds)]
