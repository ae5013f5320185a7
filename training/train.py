"""Train the acoustic network on shards, in two processes of one thread each.

    python -m training.train --shards FOLDER --work FOLDER --minutes 75

Goes on from the last checkpoint in the work folder where there is one. Sound is varied once more as
it is read: voices are stretched in frequency and time, noise is added to the energies, bands and
moments are blanked. The learning rate falls with the time that is left, so that a run ends when it
was asked to.
"""

from __future__ import annotations

import argparse
import json
import math
import random
import time
from dataclasses import dataclass
from pathlib import Path

import numpy as np
import numpy.typing as npt
import torch
import torch.distributed as together
import torch.multiprocessing as processes
from torch.nn import functional

from fond_echo.core.recognition.features import BANDS
from fond_echo.core.recognition.network import unpacked
from training.network import OUTPUTS, Network
from training.variation import FRAMES_A_SYMBOL, varied

WIDTH = 272
BATCH_FRAMES = 2_600
RATE = 1.6e-3
WARM_STEPS = 200
AUXILIARY = 0.3

Array = npt.NDArray[np.float32]


@dataclass(frozen=True)
class Example:
    energies: npt.NDArray[np.float16]
    labels: npt.NDArray[np.uint8]
    sounds: npt.NDArray[np.uint8]


class Shards:
    """Examples of a folder, read as they appear; each process takes its share."""

    def __init__(self, folder: Path, rank: int, size: int) -> None:
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
            if place % self._size != self._rank:
                continue
            with np.load(file) as arrays:
                energies, labels, sounds = (
                    arrays[name] for name in ("energies", "labels", "sounds")
                )
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
                self.examples.append(one)
                if not len(one.sounds) and len(self.noises) < 400:
                    self.noises.append(one.energies)


def batches(shards: Shards, chance: random.Random) -> list[list[int]]:
    """Places of a part of the examples, in batches of like length."""
    places = list(range(len(shards.examples)))
    chance.shuffle(places)
    places = sorted(places[:1_600], key=lambda k: len(shards.examples[k].labels))
    found: list[list[int]] = []
    batch: list[int] = []
    for k in places:
        batch.append(k)
        if len(batch) * len(shards.examples[k].labels) > BATCH_FRAMES:
            found.append(batch)
            batch = []
    chance.shuffle(found)
    return found


def loss_of(
    network: Network, parts: list[tuple[Array, Array]], sounds: list[npt.NDArray[np.uint8]]
) -> tuple[torch.Tensor, torch.Tensor]:
    """The connectionist loss per phoneme, and the auxiliary loss per frame."""
    longest = max(len(found) for found, _ in parts)
    x = np.zeros((len(parts), longest, BANDS), np.float32)
    y = np.full((len(parts), longest), -1, np.int64)
    for k, (found, labels) in enumerate(parts):
        x[k, : len(found)], y[k, : len(found)] = found, labels
    logs, extra = network(torch.from_numpy(x))
    lengths = torch.tensor([min(-(-len(found) // 3), logs.shape[1]) for found, _ in parts])
    counts = torch.tensor([len(each) for each in sounds])
    wanted = torch.from_numpy(np.concatenate(sounds).astype(np.int64))
    main = functional.ctc_loss(
        logs.transpose(0, 1), wanted, lengths, counts, reduction="sum", zero_infinity=True
    ) / max(1, int(counts.sum()))
    middles = torch.from_numpy(y[:, 1::3])
    count = min(middles.shape[1], extra.shape[1])
    beside = functional.cross_entropy(
        extra[:, :count].reshape(-1, OUTPUTS), middles[:, :count].reshape(-1), ignore_index=-1
    )
    return main, beside


def begin_from(network: Network, file: Path) -> None:
    """Weights of a checkpoint, or of what was packed of one, whose auxiliary head begins anew."""
    if file.suffix != ".npz":
        network.load_state_dict(torch.load(file, weights_only=True)["network"])
        return
    with np.load(file) as packed:
        weights = unpacked(packed)
    network.load_state_dict({k: torch.from_numpy(v) for k, v in weights.items()}, strict=False)


def run(rank: int, chosen: argparse.Namespace) -> None:
    """One of the two processes."""
    torch.set_num_threads(1)
    torch.manual_seed(chosen.seed)
    chance = random.Random(chosen.seed * 10 + rank)
    rng = np.random.default_rng(chosen.seed * 10 + rank)
    together.init_process_group(
        "gloo", init_method=f"tcp://127.0.0.1:{chosen.port}", rank=rank, world_size=2
    )
    network = Network(WIDTH, chosen.dropped)
    optimiser = torch.optim.AdamW(
        network.parameters(), lr=chosen.rate, weight_decay=0.01, betas=(0.9, 0.98)
    )
    checkpoint = chosen.work / "checkpoint.pt"
    step, heard, before = 0, 0.0, 0.0
    if chosen.from_weights is not None and not checkpoint.exists():
        begin_from(network, chosen.from_weights)
    if checkpoint.exists():
        kept = torch.load(checkpoint, weights_only=True)
        network.load_state_dict(kept["network"])
        optimiser.load_state_dict(kept["optimiser"])
        step, heard, before = kept["step"], kept["heard"], kept["minutes"]
    shards = Shards(chosen.shards, rank, 2)
    begun, looked, waiting = time.monotonic(), 0.0, []  # type: ignore[var-annotated]
    lately = [0.0, 0.0]
    parameters = list(network.parameters())
    ended = False
    while not ended:
        minutes = before + (time.monotonic() - begun) / 60
        done = min(1.0, minutes / chosen.minutes)
        if time.monotonic() - looked > 30 or not shards.examples:
            shards.look()
            looked = time.monotonic()
            if not shards.examples:
                time.sleep(1)
                continue
        waiting = waiting or batches(shards, chance)
        chosen_examples = [shards.examples[k] for k in waiting.pop()]
        others = [one.energies for one in chosen_examples if len(one.sounds)]
        parts = [
            varied(one.energies, one.labels, len(one.sounds), shards.noises, others, rng)
            for one in chosen_examples
        ]
        rate = (
            chosen.rate
            * min(1, (step + 1) / WARM_STEPS)
            * (0.49 * (1 + math.cos(math.pi * done)) + 0.02)
        )
        for group in optimiser.param_groups:
            group["lr"] = rate
        main, beside = loss_of(network, parts, [one.sounds for one in chosen_examples])
        optimiser.zero_grad()
        (main + AUXILIARY * (1 - done) * beside).backward()
        flat = torch.cat(
            [each.grad.reshape(-1) for each in parameters] + [torch.tensor([float(done >= 1)])]  # type: ignore[union-attr]
        )
        together.all_reduce(flat)
        ended = flat[-1].item() > 0
        flat /= 2
        at = 0
        for each in parameters:
            each.grad.copy_(flat[at : at + each.numel()].view_as(each))  # type: ignore[union-attr]
            at += each.numel()
        torch.nn.utils.clip_grad_norm_(parameters, 2.0)
        optimiser.step()
        step += 1
        heard += 2 * sum(len(found) for found, _ in parts) / 100
        lately = [0.98 * lately[0] + 0.02 * main.item(), 0.98 * lately[1] + 0.02 * beside.item()]
        if rank == 0 and (step % 100 == 0 or ended):
            even = 1 - 0.98 ** min(step, 2_000)
            told = {
                "minutes": round(minutes, 1), "step": step, "loss": round(lately[0] / even, 3),
                "beside": round(lately[1] / even, 3), "rate": round(rate, 5),
                "hours_heard": round(heard / 3_600, 2), "examples": 2 * len(shards.examples),
            }  # fmt: skip
            print(json.dumps(told), flush=True)
            with (chosen.work / "progress.jsonl").open("a") as out:
                out.write(json.dumps(told) + "\n")
        if rank == 0 and (step % 300 == 0 or ended):
            kept = {
                "network": network.state_dict(), "optimiser": optimiser.state_dict(),
                "step": step, "heard": heard, "minutes": minutes,
            }  # fmt: skip
            torch.save(kept, checkpoint.with_suffix(".part"))
            checkpoint.with_suffix(".part").rename(checkpoint)
    together.destroy_process_group()


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--shards", type=Path, required=True)
    parser.add_argument("--work", type=Path, required=True)
    parser.add_argument("--minutes", type=float, default=75.0)
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--rate", type=float, default=RATE)
    parser.add_argument(
        "--from-weights", type=Path, help="a checkpoint, or packed weights, to begin from"
    )
    parser.add_argument("--dropped", type=float, default=0.05, help="share of what is left out")
    parser.add_argument("--port", type=int, default=29_611)
    chosen = parser.parse_args()
    chosen.work.mkdir(parents=True, exist_ok=True)
    processes.spawn(run, (chosen,), nprocs=2)  # type: ignore[no-untyped-call]


if __name__ == "__main__":
    main()
