"""Lines in Spanish as shards to train on, beside the English ones.

    python -m training.people.foreign --folder people --synthetic shards --out shards-other --seed 1

They train the same network, with an output layer of each language's own: what is common to how
people speak is learned from more of them. Nothing is aligned: the connectionist loss finds the
places. Three characters are kept apart, drawn by lot before anything was trained.

`drascula-italian` is of no use: its recordings are the English ones, stored anew, with Italian
subtitles (twelve drawn by lot agree with their English counterparts, correlation 0.83 to 0.998).
"""

from __future__ import annotations

import argparse
import subprocess
from collections.abc import Iterator
from pathlib import Path

import numpy as np
import numpy.typing as npt

from fond_echo.core.audio.resample import at_rate
from training import rooms
from training.people import castle
from training.people.fetching import fetch
from training.people.lines import Line
from training.people.shards import A_SHARD, MAX_SECONDS, MIN_SECONDS, Aligned, copies, synthetic
from training.people.spellings import SOUNDS, NotSpelledOut, sounds_of
from training.people.widening import EDGES, Widening

PACKAGES = {"es": "drascula-spanish"}

KEPT_APART = frozenset(["p", "t", "vb"])
"""`random.Random(38).sample(sorted(set(CHARACTERS) - {"hero"}), 3)`: the hero has a third of all
lines."""

COPIES = 8
UNKNOWN = 255
"""In place of a frame's sound, where nothing is aligned."""


def package_of(folder: Path, language: str) -> Path:
    """Where a language's package lies unpacked, downloading it where it is not there."""
    name = PACKAGES[language]
    place = folder / name
    if not place.is_dir():
        if not (files := sorted(folder.glob(f"{name}_*.deb"))):
            subprocess.run(["apt-get", "download", "-q", name], cwd=folder, check=True)
            files = sorted(folder.glob(f"{name}_*.deb"))
        subprocess.run(["dpkg", "-x", files[-1], place], check=True)
    return place


def lines_of(folder: Path, language: str, *, apart: bool) -> Iterator[tuple[Line, list[int]]]:
    """Lines with the outputs of their sounds in order, of characters kept apart or of others."""
    place = {sound: k + 1 for k, sound in enumerate(SOUNDS[language])}
    tables = fetch(folder)["drascula"]
    for line in castle.lines(package_of(folder, language), language, tables):
        if (line.speaker in KEPT_APART) is not apart:
            continue
        if not MIN_SECONDS <= line.sound.seconds <= MAX_SECONDS:
            continue
        try:
            yield line, [place[each] for each in sounds_of(line.text, language)]
        except NotSpelledOut:
            continue


def _prepared(line: Line, sounds: list[int]) -> Aligned:
    clip = at_rate(line.sound, rooms.RATE)
    samples = np.asarray(clip.samples / (np.abs(clip.samples).max() + 1e-9), np.float32)
    labels: npt.NDArray[np.uint8] = np.full(max(1, len(samples) // 160), UNKNOWN, np.uint8)
    return Aligned(None, samples, np.array(sounds, np.uint8), labels, 0.0)  # type: ignore[arg-type]


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--folder", type=Path, required=True, help="of training.people")
    parser.add_argument("--synthetic", type=Path, required=True, help="shards of training.generate")
    parser.add_argument("--out", type=Path, required=True)
    parser.add_argument("--seed", type=int, default=1)
    chosen = parser.parse_args()
    rng = np.random.default_rng(chosen.seed)
    widening = Widening.learned(synthetic(chosen.synthetic, 400), EDGES["castle"])
    for language in SOUNDS:
        folder = chosen.out / language
        folder.mkdir(parents=True, exist_ok=True)
        lines = [_prepared(*each) for each in lines_of(chosen.folder, language, apart=False)]
        seconds = sum(len(each.samples) for each in lines) / rooms.RATE
        print(f"{language}: {len(lines)} lines, {seconds / 3_600:.2f} h", flush=True)
        order = rng.permutation(len(lines))
        others = [lines[k].samples for k in order[:60]]
        for number, start in enumerate(range(0, len(order), A_SHARD)):
            energies, labels, sounds = [], [], []
            for k in order[start : start + A_SHARD]:
                for logs, said in copies(lines[k], COPIES, widening, others, rng):
                    energies.append(logs)
                    labels.append(said)
                    sounds.append(lines[k].sounds)
            np.savez(
                folder / f"shard-{language}-{chosen.seed:03d}-{number:04d}.npz",
                energies=np.concatenate(energies), labels=np.concatenate(labels),
                sounds=np.concatenate(sounds), frames=np.array(list(map(len, energies))),
                counts=np.array(list(map(len, sounds))),
            )  # fmt: skip
            print(f"{language}, shard {number}", flush=True)


if __name__ == "__main__":
    main()
