"""The layers of the acoustic network in numpy, fed in pieces.

Both kinds take in frames before and after their own and add what they find to it: a `Convolution`
three frames at a distance, `Attention` all of a window, weighed by how they fit (Vaswani et al.
2017, with a learned bias for each distance). A plan says which follow each other.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import numpy.typing as npt

Matrix = npt.NDArray[np.float32]
Weights = Mapping[str, Matrix]

CHUNK = 64
"""Frames of which attention is computed at once."""

MASKED = np.float32(-1e9)


@dataclass(frozen=True)
class LayerPlan:
    """One layer.

    Attributes:
        before, after: how many frames it looks back and ahead.
        heads: of attention; 0 for a convolution.
    """

    before: int
    after: int
    heads: int = 0


CONVOLUTIONS = tuple(
    LayerPlan(*each) for each in ((1, 1), (2, 1), (4, 2), (1, 1), (2, 1), (4, 2), (8, 1), (2, 1))
)
"""The plan of weights that have none beside them."""


def packed_plan(plan: Sequence[LayerPlan]) -> npt.NDArray[np.int32]:
    """A plan as an array, shape (layers, 3)."""
    return np.array([(each.before, each.after, each.heads) for each in plan], np.int32)


def unpacked_plan(rows: npt.NDArray[np.generic]) -> tuple[LayerPlan, ...]:
    """The plan of an array."""
    return tuple(LayerPlan(*map(int, row)) for row in np.asarray(rows))


def look_ahead(plan: Sequence[LayerPlan]) -> int:
    """How many frames the layers together look ahead."""
    return sum(each.after for each in plan)


def layer_normalized(x: Matrix, weight: Matrix, bias: Matrix) -> Matrix:
    """Each frame with mean 0 and variance 1, scaled and shifted as was learnt."""
    centred: Matrix = x - x.mean(axis=1, keepdims=True)
    variance = np.einsum("ij,ij->i", centred, centred) / np.float32(x.shape[1])
    centred *= (1 / np.sqrt(variance + np.float32(1e-5)))[:, None]
    centred *= weight
    centred += bias
    return centred


class Layer(Protocol):
    """A layer with what it still needs of the frames that were there."""

    def feed(self, x: Matrix, *, last: bool) -> Matrix:
        """The next frames, shape (n, width); gives those that are ready, at the last all."""


def layer(plan: LayerPlan, weights: Weights, name: str) -> Layer:
    """A layer at the beginning of a sound.

    Args:
        weights: matrices with a row an input.
        name: what the layer's weights begin with.
    """
    made = Attention if plan.heads else Convolution
    return made(plan, weights, name)


class Convolution:
    """Three frames at a distance through one hidden layer."""

    def __init__(self, plan: LayerPlan, weights: Weights, name: str) -> None:
        self._plan, self._weights, self._name = plan, weights, name
        width = len(weights[name + "b.bias"])
        self._inputs = np.zeros((0, width), np.float32)
        self._normal = np.zeros((plan.before, width), np.float32)

    def feed(self, x: Matrix, *, last: bool) -> Matrix:
        w, name, (before, after) = self._weights, self._name, (self._plan.before, self._plan.after)
        inputs = np.concatenate([self._inputs, x])
        fresh = layer_normalized(x, w[name + "n.weight"], w[name + "n.bias"]) if len(x) else x
        normal = np.concatenate([self._normal, fresh])
        if last:
            normal = np.pad(normal, ((0, after), (0, 0)))
        ready = len(normal) - before - after
        if ready <= 0:
            self._inputs, self._normal = inputs, normal
            return np.zeros((0, x.shape[1]), np.float32)
        out = inputs[:ready] + self._added(normal, ready)
        self._inputs, self._normal = inputs[ready:], normal[ready:]
        return np.asarray(out, np.float32)

    def _added(self, normal: Matrix, count: int) -> Matrix:
        w, name, before = self._weights, self._name, self._plan.before
        a, width = w[name + "a.weight"], normal.shape[1]
        # Three products are added: to lay the frames side by side takes longer.
        h = normal[:count] @ a[:width]
        h += normal[before : before + count] @ a[width : 2 * width]
        h += normal[before + self._plan.after :] @ a[2 * width :]
        h += w[name + "a.bias"]
        return np.asarray(_gelu(h) @ w[name + "b.weight"] + w[name + "b.bias"])


class Attention:
    """Every frame of a window, by several heads."""

    def __init__(self, plan: LayerPlan, weights: Weights, name: str) -> None:
        self._plan, self._weights, self._name = plan, weights, name
        width = len(weights[name + "o.bias"])
        self._inputs = np.zeros((0, width), np.float32)
        self._queries = np.zeros((0, width), np.float32)
        self._keys = np.zeros((plan.before, width), np.float32)
        self._values = np.zeros((plan.before, width), np.float32)
        self._missing = plan.before
        """So many of the frames that are held lie before the sound."""

    def feed(self, x: Matrix, *, last: bool) -> Matrix:
        w, name, plan = self._weights, self._name, self._plan
        width = x.shape[1]
        if len(x):
            normal = layer_normalized(x, w[name + "n.weight"], w[name + "n.bias"])
            made = normal @ w[name + "qkv.weight"] + w[name + "qkv.bias"]
            self._inputs = np.concatenate([self._inputs, x])
            self._queries = np.concatenate([self._queries, made[:, :width]])
            self._keys = np.concatenate([self._keys, made[:, width : 2 * width]])
            self._values = np.concatenate([self._values, made[:, 2 * width :]])
        there = len(self._keys)
        if last:
            pad = ((0, plan.after), (0, 0))
            self._keys, self._values = np.pad(self._keys, pad), np.pad(self._values, pad)
        ready = max(0, len(self._keys) - plan.before - plan.after)
        if not ready:
            return np.zeros((0, width), np.float32)
        found = np.concatenate(
            [
                self._attended(start, min(ready, start + CHUNK), there)
                for start in range(0, ready, CHUNK)
            ]
        )
        out = self._inputs[:ready] + found @ w[name + "o.weight"] + w[name + "o.bias"]
        self._inputs, self._queries = self._inputs[ready:], self._queries[ready:]
        self._keys, self._values = self._keys[ready:], self._values[ready:]
        self._missing = max(0, self._missing - ready)
        return np.asarray(out, np.float32)

    def _attended(self, start: int, end: int, there: int) -> Matrix:
        """What frames from start to end see; of the frames that are held, those before `_missing`
        and from `there` on are none."""
        plan, count = self._plan, end - start
        window = plan.before + 1 + plan.after
        rows = count + window - 1
        width = self._queries.shape[1]
        size = width // plan.heads
        queries = self._queries[start:end].reshape(count, plan.heads, size).transpose(1, 0, 2)
        keys = self._keys[start : start + rows].reshape(rows, plan.heads, size).transpose(1, 2, 0)
        scores = np.ascontiguousarray(queries @ keys, np.float32)
        scores *= np.float32(size**-0.5)
        place = np.arange(start, start + rows)
        scores[:, :, (place < self._missing) | (place >= there)] = MASKED
        band = _band(scores, window) + self._weights[self._name + "bias"][:, None]
        band -= band.max(axis=2, keepdims=True)
        np.exp(band, out=band)
        band /= band.sum(axis=2, keepdims=True)
        shares = np.zeros_like(scores)
        _band(shares, window)[:] = band
        values = self._values[start : start + rows].reshape(rows, plan.heads, size)
        return (shares @ values.transpose(1, 0, 2)).transpose(1, 0, 2).reshape(count, width)


def _band(scores: Matrix, window: int) -> Matrix:
    """A view of what lies within the window of each row: shape (heads, rows, window)."""
    heads, rows, _ = scores.shape
    head, row, one = scores.strides
    return np.lib.stride_tricks.as_strided(scores, (heads, rows, window), (head, row + one, one))


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
