"""Pack a checkpoint for the service: matrices as whole numbers of 8 bits with a scale an output.

    python -m training.pack --work FOLDER --out fond_echo/speech/data/recognizer-en.npz
    python -m training.pack --work FOLDER --resumable training/checkpoint-en.npz

The second keeps what a training can go on from, in half precision, without the optimizer's state.
With `--mean-with training/checkpoint-en.npz`, the mean of these weights and of those that their
training began from is taken instead of them: near one another, they are right about other things.
"""

from __future__ import annotations

import argparse
from pathlib import Path
from typing import Any

import numpy as np
import numpy.typing as npt
import torch

from fond_echo.core.recognition.layers import packed_plan
from fond_echo.core.recognition.network import PLAN, SCALE
from training.network import PLANS

AUXILIARY = ("ce.", "heads.")
"""Output layers that serve training alone."""

Arrays = dict[str, npt.NDArray[np.generic]]


def packed(state: dict[str, torch.Tensor]) -> Arrays:
    """Arrays by name; the auxiliary heads are left out."""
    found: Arrays = {}
    for name, tensor in state.items():
        if name.startswith(AUXILIARY):
            continue
        array = tensor.detach().numpy().astype(np.float32)
        if array.ndim == 2 and name.endswith(".weight"):
            scale = np.abs(array).max(axis=1) / 127
            found[name] = np.round(array / scale[:, None]).astype(np.int8)
            found[name + SCALE] = scale
        else:
            found[name] = array
    return found


def halved(state: dict[str, torch.Tensor]) -> Arrays:
    """All arrays in half precision."""
    return {name: tensor.detach().numpy().astype(np.float16) for name, tensor in state.items()}


def mean(state: dict[str, torch.Tensor], other: Path) -> dict[str, torch.Tensor]:
    """The mean of weights and of others, which were kept as resumable.

    Raises:
        KeyError: the others are of another network.
    """
    with np.load(other) as arrays:
        return {
            name: (tensor + torch.from_numpy(arrays[name].astype(np.float32))) / 2
            if name in arrays or not name.startswith(AUXILIARY)
            else tensor
            for name, tensor in state.items()
        }


def load(work: Path) -> tuple[dict[str, torch.Tensor], dict[str, Any]]:
    """The averaged weights of a work folder, and the checkpoint."""
    kept = torch.load(work / "checkpoint.pt", weights_only=True)
    return kept["average"], kept


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--work", type=Path, required=True)
    parser.add_argument("--out", type=Path)
    parser.add_argument("--resumable", type=Path)
    parser.add_argument("--mean-with", type=Path, help="resumable weights, of a training before")
    chosen = parser.parse_args()
    weights, kept = load(chosen.work)
    if chosen.mean_with is not None:
        weights = mean(weights, chosen.mean_with)
    plan: Arrays = {PLAN: packed_plan(PLANS[kept["plan"]])}
    for file, arrays in ((chosen.out, packed), (chosen.resumable, halved)):
        if file is not None:
            np.savez_compressed(file, **arrays(weights), **plan)
            print(f"{file}: {file.stat().st_size:,} bytes")
    progress = kept["progress"]
    count = sum(each.numel() for each in weights.values())
    print(f"step {progress['step']}, {progress['heard'] / 3_600:.1f} h heard, "
          f"{progress['heard_people'] / 3_600:.1f} h of people, {count:,} parameters")  # fmt: skip


if __name__ == "__main__":
    main()
