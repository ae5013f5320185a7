"""The acoustic network: features to phoneme probabilities, in numpy.

Residual blocks of convolution over three frames at a distance, each frame of the network being
three of the features; trained with connectionist temporal classification (Graves et al. 2006), so
that output 0 is the blank. It looks `LOOK_AHEAD` of its frames ahead, and can be fed in pieces.
"""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
import numpy.typing as npt

from fond_echo.core.recognition.features import BANDS, HOP, Features
from fond_echo.core.recognition.symbols import RATE

STRIDE = 3
SPAN = 7
BEFORE = 2
"""A frame of the network sees so many features before its own, of `SPAN`."""

FRAME_SECONDS = STRIDE * HOP / RATE
REACHES = ((1, 1), (2, 1), (4, 2), (1, 1), (2, 1), (4, 2), (8, 1), (2, 1))
"""By block, how far it looks back and ahead."""

LOOK_AHEAD = sum(after for _, after in REACHES)

SCALE = ".scale"
"""What is added to a matrix's name for the scales of its outputs."""

Matrix = npt.NDArray[np.float32]


def unpacked(weights: Mapping[str, npt.NDArray[np.generic]]) -> dict[str, Matrix]:
    """Arrays of whole numbers multiplied by their scales, as they were before they were packed."""
    found: dict[str, Matrix] = {}
    for name, value in weights.items():
        if not name.endswith(SCALE):
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
        self._weights = {
            name: np.ascontiguousarray(array.T) if array.ndim == 2 else array
            for name, array in unpacked(weights).items()
        }

    def log_probabilities(self, features: Features) -> Matrix:
        """Log probabilities of a whole sound, shape (frames / 3 rounded up, 40), every 30 ms."""
        return NetworkStream(self).feed(features, last=True)

    def spans(self, spans: Matrix) -> Matrix:
        """The first layer."""
        return np.asarray(spans @ self._weights["inp.weight"] + self._weights["inp.bias"])

    def inner(self, block: int, normal: Matrix) -> Matrix:
        """What a block adds, from its normalised input with the frames before and after it."""
        w, name = self._weights, f"bl.{block}."
        before, after = REACHES[block]
        count, width = len(normal) - before - after, self.width
        a = w[name + "a.weight"]
        # Three products are added: to lay the frames side by side takes longer.
        h = normal[:count] @ a[:width]
        h += normal[before : before + count] @ a[width : 2 * width]
        h += normal[before + after :] @ a[2 * width :]
        h += w[name + "a.bias"]
        return np.asarray(_gelu(h) @ w[name + "b.weight"] + w[name + "b.bias"])

    def normalised(self, x: Matrix, name: str) -> Matrix:
        """Each frame with mean 0 and variance 1, scaled and shifted as was learnt."""
        centred: Matrix = x - x.mean(axis=1, keepdims=True)
        variance = np.einsum("ij,ij->i", centred, centred) / np.float32(x.shape[1])
        centred *= (1 / np.sqrt(variance + np.float32(1e-5)))[:, None]
        centred *= self._weights[name + ".weight"]
        centred += self._weights[name + ".bias"]
        return centred

    def outer(self, x: Matrix) -> Matrix:
        """The last layer, as log probabilities."""
        out = self.normalised(x, "n") @ self._weights["out.weight"] + self._weights["out.bias"]
        out -= out.max(axis=1, keepdims=True)
        return np.asarray(out - np.log(np.exp(out).sum(axis=1, keepdims=True)), np.float32)

    @property
    def width(self) -> int:
        return int(self._weights["inp.bias"].shape[0])


class _Held:
    """What a block still needs of the frames that were there, as inputs and as normalised."""

    def __init__(self, width: int, before: int) -> None:
        self.inputs = np.zeros((0, width), np.float32)
        self.normal = np.zeros((before, width), np.float32)


class NetworkStream:
    """A sound fed to the network in pieces: the very same probabilities as of the whole."""

    def __init__(self, network: AcousticNetwork) -> None:
        self._network = network
        self._features = np.zeros((BEFORE, BANDS), np.float32)
        self._fed = 0
        self._made = 0
        self._given = 0
        self._held = [_Held(network.width, before) for before, _ in REACHES]

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
        for block, held in enumerate(self._held):
            x = self._through(block, held, x, last)
        self._given += len(x)
        if not len(x):
            return np.zeros((0, 0), np.float32)
        return self._network.outer(x)

    def _through(self, block: int, held: _Held, x: Matrix, last: bool) -> Matrix:
        before, after = REACHES[block]
        inputs = np.concatenate([held.inputs, x])
        fresh = self._network.normalised(x, f"bl.{block}.n") if len(x) else x
        normal = np.concatenate([held.normal, fresh])
        if last:
            normal = np.pad(normal, ((0, after), (0, 0)))
        ready = len(normal) - before - after
        if ready <= 0:
            held.inputs, held.normal = inputs, normal
            return np.zeros((0, x.shape[1]), np.float32)
        out = inputs[:ready] + self._network.inner(block, normal)
        held.inputs, held.normal = inputs[ready:], normal[ready:]
        return np.asarray(out, np.float32)


def _gelu(h: Matrix) -> Matrix:
    """h / 2 · (1 + tanh(0.79788 · (h + 0.044715 h³))), in one array of room."""
    t = h * h
    t *= np.float32(0.7978845608 * 0.044715)
    t += np.float32(0.7978845608)
    t *= h
    np.tanh(t, out=t)
    t += np.float32(1)
    t *= h
    t *= np.float32(0.5)
    return t
