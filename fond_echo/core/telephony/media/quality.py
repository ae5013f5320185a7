"""How a call sounds, from what was measured: the E-model (ITU-T G.107, with defaults for all that
a packet network does not tell)."""

from __future__ import annotations

from dataclasses import dataclass

BASE = 93.2
"""R with everything at its default (G.107 §7.7)."""

IMPAIRED = {"PCMU": (0.0, 25.1), "PCMA": (0.0, 25.1), "opus": (0.0, 20.0)}
"""By codec: the impairment of the codec, and how robust it is against loss, with concealment
(G.113 appendix I for G.711; for Opus there is no agreed value, and a cautious one stands here)."""


@dataclass(frozen=True)
class Quality:
    """A call's media as it was received.

    Attributes:
        r_factor: R, 0 to 93.2: above 80 people are satisfied, below 60 nearly all are not.
        mos: the mean opinion score that R stands for, 1 to 4.5.
        loss: share of packets that did not come in time, 0 to 1.
        jitter_ms: mean deviation of their arrival.
        delay_ms: one way, as far as it is known: half the round trip, and what is buffered.
    """

    r_factor: float
    mos: float
    loss: float
    jitter_ms: float
    delay_ms: float

    @property
    def facts(self) -> dict[str, float]:
        """As it is written down."""
        return {
            "r_factor": self.r_factor, "mos": self.mos, "loss": round(self.loss, 4),
            "jitter_ms": round(self.jitter_ms, 2), "delay_ms": round(self.delay_ms, 1),
        }  # fmt: skip


def rated(
    codec: str, *, loss: float, jitter_ms: float, delay_ms: float, burst: float = 1.0
) -> Quality:
    """The quality of a call.

    Args:
        burst: how much losses come in bursts; 1 where they come at random (G.107 §7.4).
    """
    impairment, robust = IMPAIRED.get(codec, IMPAIRED["PCMU"])
    percent = 100.0 * min(1.0, max(0.0, loss))
    lossy = impairment + (95.0 - impairment) * percent / (percent / max(burst, 1e-6) + robust)
    r_factor = max(0.0, min(BASE, BASE - _delayed(delay_ms) - lossy))
    return Quality(round(r_factor, 1), round(mos(r_factor), 2), loss, jitter_ms, delay_ms)


def _delayed(milliseconds: float) -> float:
    """The impairment of a delay, by the usual simplification of Idd (G.107 §7.4)."""
    late = max(0.0, milliseconds - 177.3)
    return 0.024 * milliseconds + 0.11 * late


def mos(r_factor: float) -> float:
    """The mean mos score for R (G.107 annex B)."""
    if r_factor <= 0:
        return 1.0
    if r_factor >= 100:
        return 4.5
    score = 1 + 0.035 * r_factor + r_factor * (r_factor - 60) * (100 - r_factor) * 7e-6
    return max(1.0, score)
