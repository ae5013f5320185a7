"""People's lines as shards to train on, in the form of `training.generate`.

    python -m training.people.shards --folder people --synthetic shards --out shards-people --seed 1

Each line comes as it is and several times as it might arrive elsewhere (`training.rooms`), a little
faster or slower. Its phonemes and their frames are those of the best path of its text by the
weights that are shipped, or by others (`--weights`). What fits worst is left out, and of the one
speaker who has nearly half of everything there are fewer copies.
"""

from __future__ import annotations

import argparse
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt
from scipy import signal

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import decode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.recognition.graph import WordNetwork, phoneme_graph
from fond_echo.core.recognition.network import STRIDE, AcousticNetwork
from fond_echo.core.recognition.recognizer import Recognizer
from fond_echo.speech.material import lexicon, recognizer, words
from training import rooms
from training.generate import features
from training.people.__main__ import Listed, listed
from training.people.aligning import align
from training.people.lines import normalized
from training.people.widening import EDGES, Widening
from training.variation import FRAMES_A_SYMBOL

COPIES, COPIES_OF_MOST = 6, 3
MAX_HEARD = "joe"
MIN_SECONDS, MAX_SECONDS = 0.25, 12.0
WORST = 2.0
"""Per cent of lines, those whose text fits worst, are left out."""

A_SHARD = 300
SPEEDS = (0.88, 1.13)

Rng = np.random.Generator


@dataclass(frozen=True)
class Aligned:
    """A line with its phonemes."""

    row: Listed
    samples: rooms.Samples
    sounds: npt.NDArray[np.uint8]
    labels: npt.NDArray[np.uint8]
    loss: float


def sayable(spoken: list[str], known: Lexicon) -> bool:
    """Whether the lexicon is sure how every word is said."""
    return bool(spoken) and all(known.built(word) for word in spoken)


def samples_of(row: Listed) -> rooms.Samples:
    """A line at 16 kHz, as loud as it can be."""
    clip = at_rate(decode(row.file.read_bytes()).clip, rooms.RATE)
    return np.asarray(clip.samples / (np.abs(clip.samples).max() + 1e-9), np.float32)


def aligned(rows: list[Listed], engine: Recognizer, known: Lexicon) -> list[Aligned]:
    """Lines whose words are known, best first, without the worst."""
    found = []
    for row in rows:
        spoken = normalized(row.text)
        if not MIN_SECONDS <= row.seconds <= MAX_SECONDS or not sayable(spoken, known):
            continue
        samples = samples_of(row)
        graph = phoneme_graph(WordNetwork.of_phrases([spoken], around=False), known, running=True)
        best = align(engine.probabilities(Clip(samples * np.float32(0.5), rooms.RATE)), graph)
        if best is not None:
            found.append(Aligned(row, samples, best.sounds, best.labels, best.loss))
    found.sort(key=lambda each: each.loss)
    return found[: int(len(found) * (1 - WORST / 100))]


def copies(one: Aligned, count: int, widening: Widening, others: list[rooms.Samples], rng: Rng):  # type: ignore[no-untyped-def]
    """(log energies, labels) of a line as it is, then as it might arrive."""
    for k in range(count):
        speed = 1.0 if k == 0 else float(rng.uniform(*SPEEDS))
        heard = one.samples
        if k:
            heard = signal.resample(heard, int(len(heard) / speed)).astype(np.float32)
            heard = rooms.world(heard, rng, others)
        logs = features(heard)
        if k % 2:
            logs = widening.fill(logs, rng)
        at = np.arange(len(logs)) * speed / STRIDE
        labels = one.labels[np.minimum(at.astype(int), len(one.labels) - 1)]
        if len(one.sounds) * FRAMES_A_SYMBOL <= len(logs):
            yield logs.astype(np.float16), labels


def synthetic(folder: Path, count: int) -> list[npt.NDArray[np.float32]]:
    """Some energies of synthetic speech."""
    found: list[npt.NDArray[np.float32]] = []
    for file in sorted(folder.glob("shard-*.npz")):
        with np.load(file) as arrays:
            ends = np.cumsum(arrays["frames"])
            for start, end, sounds in zip(
                ends - arrays["frames"], ends, arrays["counts"], strict=True
            ):
                if sounds:
                    found.append(arrays["energies"][start:end].astype(np.float32))
        if len(found) >= count:
            return found[:count]
    return found


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--folder", type=Path, required=True, help="of training.people")
    parser.add_argument("--synthetic", type=Path, required=True, help="shards of training.generate")
    parser.add_argument("--out", type=Path, required=True)
    parser.add_argument("--weights", type=Path, help="packed weights to align with")
    parser.add_argument("--package", help="lines of this one only, beside shards of the others")
    parser.add_argument("--seed", type=int, default=1)
    chosen = parser.parse_args()
    chosen.out.mkdir(parents=True, exist_ok=True)
    rng = np.random.default_rng(chosen.seed)
    known = lexicon()
    engine = recognizer()
    if chosen.weights is not None:
        with np.load(chosen.weights) as arrays:
            engine = Recognizer(AcousticNetwork(dict(arrays)), known, words())
    begun = time.monotonic()
    rows = [
        row
        for row in listed(chosen.folder)
        if row.part == "train" and chosen.package in (None, row.package)
    ]
    lines = aligned(rows, engine, known)
    hours = sum(each.row.seconds for each in lines) / 3_600
    print(f"{len(lines)} lines, {hours:.2f} h, {time.monotonic() - begun:.0f} s", flush=True)
    wide = synthetic(chosen.synthetic, 400)
    widenings = {package: Widening.learned(wide, edge) for package, edge in EDGES.items()}
    order = rng.permutation(len(lines))
    others = [lines[k].samples for k in order[:60]]
    for number, start in enumerate(range(0, len(order), A_SHARD)):
        energies, labels, sounds = [], [], []
        for k in order[start : start + A_SHARD]:
            one = lines[k]
            count = COPIES_OF_MOST if one.row.speaker == MAX_HEARD else COPIES
            for logs, said in copies(one, count, widenings[one.row.package], others, rng):
                energies.append(logs)
                labels.append(said)
                sounds.append(one.sounds)
        np.savez(
            chosen.out / f"shard-people-{chosen.seed:03d}-{number:04d}.npz",
            energies=np.concatenate(energies), labels=np.concatenate(labels),
            sounds=np.concatenate(sounds), frames=np.array(list(map(len, energies))),
            counts=np.array(list(map(len, sounds))),
        )  # fmt: skip
        print(f"shard {number}: {time.monotonic() - begun:.0f} s", flush=True)


if __name__ == "__main__":
    main()
