"""Train the acoustic network on shards of synthetic and of people's speech, over days if need be.

    python -m training.train --shards shards --people shards-people --work work --minutes 600

Goes on from the last checkpoint in the work folder where there is one; may be stopped (SIGSTOP) and
killed at any time. Sound is varied once more as it is read: voices are stretched in frequency and
time, noise is added to the energies, bands and moments are blanked. Every step takes a batch of
each kind, people's share as asked. The learning rate stays until a last part of the minutes, in
which it falls to nothing (`--settle`); a slow average of the weights is kept beside them, and that
is what is packed.
"""

from __future__ import annotations

import argparse
import json
import math
import random
import time
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import torch
import torch.multiprocessing as processes
from torch import distributed
from torch.nn import functional

from fond_echo.core.recognition.features import BANDS
from fond_echo.core.recognition.layers import unpacked_plan
from fond_echo.core.recognition.network import PLAN, unpacked
from training.examples import Batches, Example, Shards, others_of
from training.network import OUTPUTS, PLANS, Network, places_within
from training.people.spellings import SOUNDS
from training.variation import varied

WIDTH = 288
BATCH_FRAMES = 2_600
RATE = 1.2e-3
WARM_STEPS = 300
AUXILIARY = 0.3
QUIET_FRAMES = 7
"""Frames of 30 ms that count as a phoneme where fewer are said: a batch of noise is not worth more
than one of speech."""

SLOW = 0.9995
"""How much of its average a step keeps."""

REPORT_STEPS, SAVE_STEPS = 100, 300

Array = npt.NDArray[np.float32]


@dataclass
class Progress:
    """Where a training stands."""

    step: int = 0
    heard: float = 0.0
    heard_people: float = 0.0
    minutes: float = 0.0
    losses: dict[str, list[float]] = field(default_factory=dict)

    def count(self, kind: str, loss: float) -> None:
        self.losses.setdefault(kind, []).append(loss)

    def lately(self) -> dict[str, float]:
        """Mean losses since the last report."""
        found = {kind: round(float(np.mean(each)), 3) for kind, each in self.losses.items()}
        self.losses.clear()
        return found


def loss_of(
    network: Network, parts: list[tuple[Array, Array]], sounds: list[npt.NDArray[np.uint8]],
    head: str = "",
) -> tuple[torch.Tensor, torch.Tensor]:  # fmt: skip
    """The connectionist loss per phoneme, and the auxiliary loss per frame, which lines of another
    language (`head`) have none of, as nothing of them is aligned."""
    longest = max(len(found) for found, _ in parts)
    x = np.zeros((len(parts), longest, BANDS), np.float32)
    y = np.full((len(parts), longest), -1, np.int64)
    for k, (found, labels) in enumerate(parts):
        x[k, : len(found)], y[k, : len(found)] = found, labels
    lengths = torch.tensor([-(-len(found) // 3) for found, _ in parts])
    logs, extra = network(torch.from_numpy(x), lengths, head)
    lengths = lengths.clamp(max=logs.shape[1])
    counts = torch.tensor([len(each) for each in sounds])
    wanted = torch.from_numpy(np.concatenate(sounds).astype(np.int64))
    main = functional.ctc_loss(
        logs.transpose(0, 1), wanted, lengths, counts, reduction="sum", zero_infinity=True
    ) / max(1, int(counts.sum()), int(lengths.sum()) // QUIET_FRAMES)
    if head:
        return main, main.new_zeros(())
    middles = torch.from_numpy(y[:, 1::3])
    count = min(middles.shape[1], extra.shape[1])
    beside = functional.cross_entropy(
        extra[:, :count].reshape(-1, OUTPUTS), middles[:, :count].reshape(-1), ignore_index=-1
    )
    return main, beside


def begin_from(network: Network, file: Path) -> None:
    """Weights of a checkpoint, or of what was packed of one, whose auxiliary head begins anew.
    Layers that they lack begin by adding nothing.

    Raises:
        ValueError: they have layers that the network has not.
    """
    if file.suffix != ".npz":
        kept = torch.load(file, weights_only=True)
        plan = PLANS[kept["plan"]]
        weights = kept.get("average", kept["network"])
    else:
        with np.load(file) as packed:
            plan = unpacked_plan(packed[PLAN]) if PLAN in packed else PLANS["first"]
            weights = {k: torch.from_numpy(v) for k, v in unpacked(packed).items()}
    places = places_within(plan, network.plan)
    for place in set(range(len(network.plan))) - set(places):
        network.bl[place].silence()  # type: ignore[operator]
    network.load_state_dict({_moved(k, places): v for k, v in weights.items()}, strict=False)


def _moved(name: str, places: list[int]) -> str:
    """The name of a layer's weight in a network in which the layers have other places."""
    head, _, rest = name.partition(".")
    if head != "bl":
        return name
    place, _, rest = rest.partition(".")
    return f"bl.{places[int(place)]}.{rest}"


def rate_at(chosen: argparse.Namespace, step: int, minutes: float) -> float:
    """The learning rate: rising, then level, then falling in the last `settle` minutes."""
    left = max(0.0, chosen.minutes - minutes)
    falling = min(1.0, left / chosen.settle) if chosen.settle else 1.0
    low = 0.5 * (1 - math.cos(math.pi * falling))
    return float(chosen.rate * min(1, (step + 1) / WARM_STEPS) * (0.98 * low + 0.02))


class Training:
    """One process of a training.

    Args:
        rank, size: of the processes that share the work.
    """

    def __init__(self, chosen: argparse.Namespace, rank: int, size: int) -> None:
        self.chosen, self.rank, self.size = chosen, rank, size
        others = {each: len(SOUNDS[each]) + 1 for each in chosen.others}
        self.network = Network(chosen.width, PLANS[chosen.plan], chosen.dropout, others)
        self.average = {k: v.detach().clone() for k, v in self.network.state_dict().items()}
        self.optimizer = torch.optim.AdamW(
            self.network.parameters(), lr=chosen.rate, weight_decay=0.01, betas=(0.9, 0.98)
        )
        self.progress = Progress()
        self.checkpoint = chosen.work / "checkpoint.pt"
        if self.checkpoint.exists():
            self._resume()
        elif chosen.from_weights is not None:
            begin_from(self.network, chosen.from_weights)
            self.average = {k: v.detach().clone() for k, v in self.network.state_dict().items()}
        seed = chosen.seed * 1_000 + rank + 10 * self.progress.step
        self.rng = np.random.default_rng(seed)
        torch.manual_seed(seed)
        chance = random.Random(seed)
        self.shards = Shards(chosen.shards, rank, size)
        self.kinds = []
        if chosen.share < 1:
            batches = Batches(self.shards, BATCH_FRAMES * (1 - chosen.share), chance)
            self.kinds.append(("synthetic", 1 - chosen.share, batches))
        if chosen.people is not None and chosen.share > 0:
            batches = Batches(
                Shards(chosen.people, rank, size), BATCH_FRAMES * chosen.share, chance
            )
            self.kinds.append(("people", chosen.share, batches))
        self.kinds = [(kind, share * (1 - chosen.share_of_others * bool(others)), batches)
                      for kind, share, batches in self.kinds]  # fmt: skip
        for language, folder in chosen.others.items():
            share = chosen.share_of_others / len(chosen.others)
            batches = Batches(Shards(folder, rank, size), BATCH_FRAMES * share, chance)
            self.kinds.append((language, share, batches))

    def _resume(self) -> None:
        kept = torch.load(self.checkpoint, weights_only=True)
        self.network.load_state_dict(kept["network"])
        self.average = kept["average"]
        self.optimizer.load_state_dict(kept["optimizer"])
        reported = kept["progress"]
        self.progress = Progress(
            reported["step"], reported["heard"], reported["heard_people"], reported["minutes"]
        )

    def save(self) -> None:
        """Write the checkpoint, whole or not at all."""
        now = self.progress
        kept = {
            "network": self.network.state_dict(), "average": self.average,
            "optimizer": self.optimizer.state_dict(), "plan": self.chosen.plan,
            "width": self.chosen.width,
            "progress": {"step": now.step, "heard": now.heard, "heard_people": now.heard_people,
                         "minutes": now.minutes},
        }  # fmt: skip
        unfinished = self.checkpoint.with_suffix(".part")
        torch.save(kept, unfinished)
        unfinished.rename(self.checkpoint)

    def varied(self, batch: list[Example]) -> list[tuple[Array, Array]]:
        others = others_of(batch)
        return [
            varied(one.energies, one.labels, len(one.sounds), self.shards.noises, others, self.rng)  # type: ignore[misc]
            for one in batch
        ]

    def step(self) -> None:
        """One step on a batch of each kind."""
        self.optimizer.zero_grad()
        for kind, share, batches in self.kinds:
            batch = batches.next()
            parts = self.varied(batch)
            head = kind if kind in self.chosen.others else ""
            main, beside = loss_of(self.network, parts, [one.sounds for one in batch], head)
            (share * (main + AUXILIARY * beside)).backward()
            seconds = self.size * sum(len(found) for found, _ in parts) / 100
            self.progress.heard += seconds
            self.progress.heard_people += 0 if kind == "synthetic" else seconds
            self.progress.count(kind, main.item())
        parameters = list(self.network.parameters())
        if self.size > 1:
            flat = torch.cat([each.grad.reshape(-1) for each in parameters])  # type: ignore[union-attr]
            distributed.all_reduce(flat)
            flat /= self.size
            for each, part in zip(
                parameters, flat.split([each.numel() for each in parameters]), strict=True
            ):
                each.grad.copy_(part.view_as(each))  # type: ignore[union-attr]
        rate = rate_at(self.chosen, self.progress.step, self.progress.minutes)
        for group in self.optimizer.param_groups:
            group["lr"] = rate
        torch.nn.utils.clip_grad_norm_(parameters, 2.0)
        self.optimizer.step()
        self.progress.step += 1
        slow = min(SLOW, 1 - 1 / (self.progress.step / 10 + 1))
        with torch.no_grad():
            for name, now in self.network.state_dict().items():
                self.average[name].lerp_(now, 1 - slow)

    def report(self) -> None:
        now = self.progress
        row = {
            "minutes": round(now.minutes, 1), "step": now.step, **now.lately(),
            "rate": round(rate_at(self.chosen, now.step, now.minutes), 6),
            "hours_heard": round(now.heard / 3_600, 2),
            "hours_of_people": round(now.heard_people / 3_600, 2),
        }  # fmt: skip
        print(json.dumps(row), flush=True)
        with (self.chosen.work / "progress.jsonl").open("a") as out:
            out.write(json.dumps(row) + "\n")

    def run(self) -> None:
        """Until the minutes of work are over; time in which the process was stopped is none."""
        self.network.train()
        while self.progress.minutes < self.chosen.minutes:
            begun = time.thread_time()
            self.step()
            spent = torch.tensor([time.thread_time() - begun])
            if self.size > 1:
                distributed.all_reduce(spent, op=distributed.ReduceOp.MAX)
            self.progress.minutes += spent.item() / 60
            if self.rank == 0 and self.progress.step % REPORT_STEPS == 0:
                self.report()
            if self.rank == 0 and self.progress.step % SAVE_STEPS == 0:
                self.save()
        if self.rank == 0:
            self.report()
            self.save()


def run(rank: int, chosen: argparse.Namespace) -> None:
    """One of the processes."""
    torch.set_num_threads(1)
    if chosen.processes > 1:
        distributed.init_process_group(
            "gloo", init_method=f"tcp://127.0.0.1:{chosen.port}", rank=rank,
            world_size=chosen.processes,
        )  # fmt: skip
    Training(chosen, rank, chosen.processes).run()
    if chosen.processes > 1:
        distributed.destroy_process_group()


def _others(given: str) -> dict[str, Path]:
    return {name: Path(folder) for name, folder in (each.split("=") for each in given.split(","))}


def options(arguments: list[str] | None = None) -> Any:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--shards", type=Path, required=True, help="synthetic speech")
    parser.add_argument("--people", type=Path, help="shards of training.people.shards")
    parser.add_argument(
        "--share", type=float, default=0.5, help="of people in every step (0.5); 1 for people alone"
    )
    parser.add_argument("--others", type=_others, default={}, metavar="es=FOLDER",
                        help="shards of training.people.foreign, by language")  # fmt: skip
    parser.add_argument("--share-of-others", type=float, default=0.2)
    parser.add_argument("--work", type=Path, required=True)
    parser.add_argument("--minutes", type=float, default=75.0, help="of one thread's work, in all")
    parser.add_argument("--settle", type=float, default=0.0, help="the last of these minutes")
    parser.add_argument("--seed", type=int, default=1)
    parser.add_argument("--plan", choices=PLANS, default="convolutions")
    parser.add_argument("--width", type=int, default=WIDTH)
    parser.add_argument("--learning-rate", type=float, default=RATE, dest="rate")
    parser.add_argument("--dropout", type=float, default=0.05)
    parser.add_argument("--from-weights", type=Path, help="a checkpoint or packed weights")
    parser.add_argument("--processes", type=int, default=1)
    parser.add_argument("--port", type=int, default=29_611)
    return parser.parse_args(arguments)


def main() -> None:
    chosen = options()
    chosen.work.mkdir(parents=True, exist_ok=True)
    if chosen.processes == 1:
        run(0, chosen)
    else:
        processes.spawn(run, (chosen,), nprocs=chosen.processes)  # type: ignore[no-untyped-call]


if __name__ == "__main__":
    main()
