"""Pack a checkpoint for the service: matrices as whole numbers of 8 bits with a scale an output.

python -m training.pack --work FOLDER --out fond_echo/speech/data/ear-en.npz
"""

from __future__ import annotations

import argparse
from pathlib import Path

import numpy as np
import numpy.typing as npt
import torch

from fond_echo.core.recognition.network import SCALE

AUXILIARY = "ce."


def packed(state: dict[str, torch.Tensor]) -> dict[str, npt.NDArray[np.generic]]:
    """Arrays by name; the auxiliary head is left out."""
    found: dict[str, npt.NDArray[np.generic]] = {}
    for name, tensor in state.items():
        if name.startswith(AUXILIARY):
            continue
        array = tensor.detach().numpy().astype(np.float32)
        if array.ndim == 2:
            scale = np.abs(array).max(axis=1) / 127
            found[name] = np.round(array / scale[:, None]).astype(np.int8)
            found[name + SCALE] = scale
        else:
            found[name] = array
    return found


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--work", type=Path, required=True)
    parser.add_argument("--out", type=Path, required=True)
    chosen = parser.parse_args()
    kept = torch.load(chosen.work / "checkpoint.pt", weights_only=True)
    np.savez_compressed(chosen.out, **packed(kept["network"]))
    count = sum(each.numel() for each in kept["network"].values())
    print(f"step {kept['step']}, {kept['heard'] / 3_600:.1f} h heard, {count:,} parameters, "
          f"{chosen.out.stat().st_size:,} bytes")  # fmt: skip


if __name__ == "__main__":
    main()
