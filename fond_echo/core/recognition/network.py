"""The acoustic network: features to phoneme probabilities, in numpy.

Seven residual blocks of dilated convolution over frames taken three at a time; trained with
connectionist temporal classification (Graves et al. 2006), so that output 0 is the blank.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from fond_echo.core.recognition.features import HOP, Features
from fond_echo.core.recognition.symbols import RATE

STRIDE = 3
SPAN = 7
FRAME_SECONDS = STRIDE * HOP / RATE
DILATIONS = (1, 2, 4, 1, 2, 4, 8)

Matrix = npt.NDArray[np.float32]


class AcousticNetwork:
    """The network with its weights.

    Args:
        weights: arrays by name, as training writes them; any float type.
    """

    def __init__(self, weights: Mapping[str, Matrix]) -> None:
        self._weights = {name: np.asarray(value, np.float32) for name, value in weights.items()}
        for name, value in self._weights.items():
            if value.ndim == 2:
                self._weights[name] = np.ascontiguousarray(value.T)

    def log_probabilities(self, features: Features) -> Matrix:
        """Log probabilities, shape (frames / 3 rounded up, 40), one row every 30 ms."""
        w = self._weights
        padded = np.pad(features, ((2, 4), (0, 0)))
        count = (len(padded) - SPAN) // STRIDE + 1
        spans = np.lib.stride_tricks.sliding_window_view(padded, SPAN, axis=0)[::STRIDE][:count]
        x = spans.reshape(count, -1) @ w["inp.weight"] + w["inp.bias"]
        for block, reach in enumerate(DILATIONS):
            name = f"bl.{block}."
            h = np.pad(self._normalised(x, name + "n"), ((reach, reach), (0, 0)))
            h = np.concatenate([h[:count], h[reach : reach + count], h[2 * reach :]], axis=1)
            h = _gelu(h @ w[name + "a.weight"] + w[name + "a.bias"])
            x = x + h @ w[name + "b.weight"] + w[name + "b.bias"]
        out = self._normalised(x, "n") @ w["out.weight"] + w["out.bias"]
        out -= out.max(axis=1, keepdims=True)
        return np.asarray(out - np.log(np.exp(out).sum(axis=1, keepdims=True)), np.float32)

    def _normalised(self, x: Matrix, name: str) -> Matrix:
        centred = x - x.mean(axis=1, keepdims=True)
        spread = np.sqrt(np.square(centred).mean(axis=1, keepdims=True) + 1e-5)
        return np.asarray(
            centred / spread * self._weights[name + ".weight"] + self._weights[name + ".bias"]
        )


def _gelu(h: Matrix) -> Matrix:
    # h * h * h, because numpy's h**3 is twenty times slower.
    return np.asarray(0.5 * h * (1 + np.tanh(0.7978845608 * (h + 0.044715 * h * h * h))))
