"""Fill the bands that a recording at 11 kHz has not, as speech that has them would.

A linear guess from the bands below, a few frames around, learned from synthetic speech, with what
such a guess leaves open as noise.
"""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from fond_echo.core.recognition.features import BANDS

Array = npt.NDArray[np.float32]
Rng = np.random.Generator

AROUND = (-6, -3, -1, 0, 1, 3, 6)
RIDGE = 5.0
EDGES = {"queen": 46, "sky": 54, "castle": 54}
"""The first band of which a recording has next to nothing."""


def _context(logs: Array, edge: int) -> Array:
    """The bands below an edge in frames around each, and a constant."""
    places = np.arange(len(logs))
    rows = [logs[np.clip(places + step, 0, len(logs) - 1), :edge] for step in AROUND]
    return np.concatenate([*rows, np.ones((len(logs), 1), np.float32)], axis=1)


@dataclass(frozen=True)
class Widening:
    """The guess for one edge.

    Attributes:
        weights: shape (inputs, bands above the edge).
        spread: standard deviation of what the guess leaves open, by band.
    """

    edge: int
    weights: Array
    spread: Array

    @classmethod
    def learned(cls, examples: list[Array], edge: int) -> Widening:
        """Ridge regression on log energies of speech with all its bands, relative to each one's
        loudest."""
        size = len(AROUND) * edge + 1
        square, product = np.eye(size) * RIDGE, np.zeros((size, BANDS - edge))
        square[-1, -1] = 0.0
        levelled = [(logs - logs.max()).astype(np.float32) for logs in examples]
        for logs in levelled:
            inputs = _context(logs, edge).astype(np.float64)
            square += inputs.T @ inputs
            product += inputs.T @ logs[:, edge:]
        weights = np.linalg.solve(square, product).astype(np.float32)
        rest = np.concatenate(
            [logs[:, edge:] - _context(logs, edge) @ weights for logs in levelled]
        )
        return cls(edge, weights, rest.std(axis=0).astype(np.float32))

    def fill(self, logs: Array, rng: Rng) -> Array:
        """Log energies with the upper bands filled, not below what is there."""
        top = logs.max()
        made = _context(logs - top, self.edge) @ self.weights + top
        grain = rng.normal(0, 1, made.shape).astype(np.float32) * self.spread * np.float32(0.6)
        tilt = np.float32(rng.normal(0, 0.7))
        found = logs.copy()
        found[:, self.edge :] = np.logaddexp(logs[:, self.edge :], made + grain + tilt)
        return found
