"""The acoustic network: features to phoneme probabilities, in numpy.

Residual layers over frames around (`layers`), each frame of the network being three of the
features; trained with connectionist temporal classification (Graves et al. 2006), so that output 0
is the blank. It can be fed in pieces.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from fond_echo.core.recognition.features import BANDS, HOP, Features
from fond_echo.core.recognition.layers import (
    CONVOLUTIONS,
    Layer,
    Matrix,
    layer,
    layer_normalized,
    look_ahead,
    unpacked_plan,
)
from fond_echo.core.recognition.symbols import RATE

STRIDE = 3
SPAN = 7
BEFORE = 2
"""A frame of the network sees so many features before its own, of `SPAN`."""

FRAME_SECONDS = STRIDE * HOP / RATE
PLAN = "plan"
"""The name of the array that says which layers there are."""

SCALE = ".scale"
"""What is added to a matrix's name for the scales of its outputs."""


def unpacked(weights: Mapping[str, npt.NDArray[np.generic]]) -> dict[str, Matrix]:
    """Arrays of whole numbers multiplied by their scales, as they were before they were packed."""
    found: dict[str, Matrix] = {}
    for name, value in weights.items():
        if not name.endswith(SCALE) and name != PLAN:
            array = np.asarray(value, np.float32)
            if name + SCALE in weights:
                array = array * np.asarray(weights[name + SCALE], np.float32)[:, None]
            found[name] = array
    return found


class AcousticNetwork:
    """The network with its weights.

    Args:
        weights: arrays by name, as training writes them. A matrix of whole numbers has its scales,
            one an output, beside it under its name with ".scale".
    """

    def __init__(self, weights: Mapping[str, npt.NDArray[np.generic]]) -> None:
        self.plan = unpacked_plan(weights[PLAN]) if PLAN in weights else CONVOLUTIONS
        self._weights = {
            name: np.ascontiguousarray(array.T)
            if array.ndim == 2 and not name.endswith(".bias")
            else array
            for name, array in unpacked(weights).items()
        }

    @property
    def look_ahead(self) -> int:
        """How many of its frames it looks ahead."""
        return look_ahead(self.plan)

    def layers(self) -> list[Layer]:
        """The layers at the beginning of a sound."""
        return [layer(plan, self._weights, f"bl.{place}.") for place, plan in enumerate(self.plan)]

    def log_probabilities(self, features: Features) -> Matrix:
        """Log probabilities of a whole sound, shape (frames / 3 rounded up, 40), every 30 ms."""
        return NetworkStream(self).feed(features, last=True)

    def spans(self, spans: Matrix) -> Matrix:
        """The first layer."""
        return np.asarray(spans @ self._weights["inp.weight"] + self._weights["inp.bias"])

    def outer(self, x: Matrix) -> Matrix:
        """The last layer, as log probabilities."""
        w = self._weights
        out = layer_normalized(x, w["n.weight"], w["n.bias"]) @ w["out.weight"] + w["out.bias"]
        out -= out.max(axis=1, keepdims=True)
        return np.asarray(out - np.log(np.exp(out).sum(axis=1, keepdims=True)), np.float32)

    @property
    def width(self) -> int:
        return int(self._weights["inp.bias"].shape[0])


class NetworkStream:
    """A sound fed to the network in pieces: the very same probabilities as of the whole."""

    def __init__(self, network: AcousticNetwork) -> None:
        self._network = network
        self._features = np.zeros((BEFORE, BANDS), np.float32)
        self._fed = 0
        self._made = 0
        self._given = 0
        self._layers = network.layers()

    @property
    def held(self) -> int:
        """Frames of features that were fed and have not come out yet."""
        return self._fed - STRIDE * self._given

    def feed(self, features: Features, *, last: bool = False) -> Matrix:
        """The next frames of features; gives the rows that are ready, all of them at the last."""
        self._fed += len(features)
        waiting = np.concatenate([self._features, features])
        if last:
            wanted = -(-self._fed // STRIDE) - self._made
            short = (wanted - 1) * STRIDE + SPAN - len(waiting)
            if short > 0:
                waiting = np.pad(waiting, ((0, short), (0, 0)))
        else:
            wanted = max(0, (len(waiting) - SPAN) // STRIDE + 1)
        self._made += wanted
        self._features = waiting[wanted * STRIDE :]
        if wanted:
            windows = np.lib.stride_tricks.sliding_window_view(waiting, SPAN, axis=0)
            x = self._network.spans(windows[::STRIDE][:wanted].reshape(wanted, -1))
        else:
            x = np.zeros((0, self._network.width), np.float32)
        for each in self._layers:
            x = each.feed(x, last=last)
        self._given += len(x)
        if not len(x):
            return np.zeros((0, 0), np.float32)
        return self._network.outer(x)
