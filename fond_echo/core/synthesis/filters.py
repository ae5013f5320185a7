"""The source and the filters: parameter tracks to samples.

A KLGLOTT88 source with band-limited closure (Klatt and Klatt 1990, JASA 87) goes through a
nasal pole and zero and a cascade of seven formants; noise goes through a parallel branch of six
resonators and a bypass (Klatt 1980, JASA 67).
"""

from __future__ import annotations

import math

import numpy as np
import numpy.typing as npt
from numba import njit

from fond_echo.core.synthesis.speaker import Speaker
from fond_echo.core.synthesis.tracks import FRAME, RATE, Tracks

Array = npt.NDArray[np.float64]

MAX_FORMANT_HZ = 0.9 * RATE / 2
"""Formants above this are left out: resonators stacked near Nyquist ring a hundredfold."""

NASAL_POLE = 270.0
_NOISE_CENTRES = np.array([4_600.0, 5_600.0, 6_700.0])
_NOISE_POWERS = np.array([0.5, 0.5, 0.4])


def render(tracks: Tracks, speaker: Speaker, rng: np.random.Generator) -> npt.NDArray[np.float32]:
    """Samples at 16 kHz, shape (frames × 40,); vowels peak around ±0.5."""
    frames = len(tracks.voicing)
    centres = _NOISE_CENTRES * speaker.formant_scale**_NOISE_POWERS * speaker.frication_scale
    periods = int(tracks.pitch.sum() * FRAME / RATE * 1.5) + 8
    samples = _render(
        tracks.formants,
        tracks.bandwidths,
        tracks.nasal,
        tracks.voicing,
        tracks.aspiration,
        tracks.frication,
        tracks.noise_gains,
        tracks.pitch,
        np.minimum(centres, 7_700.0),
        np.array(
            [
                speaker.open_quotient,
                speaker.tilt,
                NASAL_POLE * speaker.formant_scale,
                speaker.skew,
                speaker.creak,
                speaker.pitch,
                speaker.bright,
            ]
        ),
        rng.standard_normal(frames * FRAME),
        1.0 + speaker.jitter * rng.standard_normal(periods),
        1.0 + speaker.shimmer * rng.standard_normal(periods),
    )
    return np.asarray(samples, np.float32)


@njit(cache=True, fastmath=True)
def _render(  # type: ignore[no-untyped-def]  # compiled
    formants, bandwidths, nasal, voicing, aspiration, frication, gains, pitch, centres, shape,
    noise, jitter, shimmer,
):  # fmt: skip
    frames, cascade = formants.shape
    out = np.zeros(frames * FRAME)
    step = 1.0 / RATE
    opened, tilt, nasal_pole, skew, creak, median, bright = shape
    ca, cb, cc = np.ones(cascade), np.zeros(cascade), np.zeros(cascade)
    c1, c2 = np.zeros(cascade), np.zeros(cascade)
    pa, pb, pc = np.zeros(6), np.zeros(6), np.zeros(6)
    p1, p2 = np.zeros(6), np.zeros(6)
    r = math.exp(-math.pi * 100.0 * step)
    npc, npb = -r * r, 2.0 * r * math.cos(2.0 * math.pi * nasal_pole * step)
    npa = 1.0 - npb - npc
    nz1 = nz2 = np1 = np2 = 0.0
    phase, period, amplitude, low, last_noise = 0.0, 1.0 / pitch[0], 1.0, 0.0, 0.0
    last_voice = 0.0
    count = 0
    for n in range(frames):
        for k in range(cascade):
            f = formants[n, k]
            if f > MAX_FORMANT_HZ:
                ca[k], cb[k], cc[k] = 1.0, 0.0, 0.0
                continue
            r = math.exp(-math.pi * bandwidths[n, k] * step)
            cc[k] = -r * r
            cb[k] = 2.0 * r * math.cos(2.0 * math.pi * f * step)
            ca[k] = 1.0 - cb[k] - cc[k]
        for k in range(6):
            if k < 3:
                f, width = min(formants[n, k + 1], 7_700.0), bandwidths[n, k + 1] * 1.4
            else:
                f, width = centres[k - 3], 500.0 if k == 3 else 900.0
            r = math.exp(-math.pi * width * step)
            angle = 2.0 * math.pi * f * step
            pc[k], pb[k] = -r * r, 2.0 * r * math.cos(angle)
            pa[k] = (1.0 - r) * math.sqrt(1.0 - 2.0 * r * math.cos(2.0 * angle) + r * r)
        zero = nasal_pole + nasal[n] * 200.0 * nasal_pole / 270.0
        r = math.exp(-math.pi * 100.0 * step)
        zc, zb = -r * r, 2.0 * r * math.cos(2.0 * math.pi * zero * step)
        za = 1.0 - zb - zc
        m = min(n + 1, frames - 1)
        for j in range(FRAME):
            w = j / FRAME
            av = voicing[n] * (1.0 - w) + voicing[m] * w
            ah = aspiration[n] * (1.0 - w) + aspiration[m] * w
            af = frication[n] * (1.0 - w) + frication[m] * w
            advance = step / period
            phase += advance
            if phase >= 1.0:
                phase -= 1.0
                period = jitter[count % len(jitter)] / pitch[n]
                amplitude = shimmer[count % len(shimmer)]
                if creak > 0.0 and pitch[n] < 0.9 * median:
                    # Low pulses come in pairs, a strong one and a late weak one.
                    weak = count % 2
                    period *= 1.0 + creak * (0.35 if weak else -0.1)
                    amplitude *= 1.0 - 0.7 * creak * weak
                count += 1
            x = phase / opened
            flow = 0.0
            if x < 1.0:
                flow = x ** (skew - 1.0) * (skew - (skew + 1.0) * x)
            # A polynomial step at closure keeps its edge from aliasing.
            edge = (phase - opened) / advance
            if 0.0 <= edge < 1.0:
                flow -= (1.0 - edge) * (1.0 - edge) * 0.5
            elif -1.0 < edge < 0.0:
                flow += (1.0 + edge) * (1.0 + edge) * 0.5
            low = (1.0 - tilt) * flow * amplitude + tilt * low
            hiss = noise[n * FRAME + j]
            gate = 1.0
            if av > 0.02 and phase >= opened:
                gate = 0.5
            source = av * low + ah * hiss * gate * 0.35
            v = (source - zb * nz1 - zc * nz2) / za
            nz2, nz1 = nz1, source
            y = npa * v + npb * np1 + npc * np2
            np2, np1 = np1, y
            for k in range(cascade - 1, -1, -1):
                y = ca[k] * y + cb[k] * c1[k] + cc[k] * c2[k]
                c2[k], c1[k] = c1[k], y
            z = 0.0
            if af > 1e-5:
                puff = af * hiss * gate
                z = gains[n, 6] * (puff - 0.5 * last_noise)
                last_noise = puff
                for k in range(6):
                    q = pa[k] * puff + pb[k] * p1[k] + pc[k] * p2[k]
                    p2[k], p1[k] = p1[k], q
                    z += gains[n, k] * q * (2.0 if k < 3 else 1.0)
            else:
                for k in range(6):
                    q = pb[k] * p1[k] + pc[k] * p2[k]
                    p2[k], p1[k] = p1[k], q
            out[n * FRAME + j] = (y + bright * (y - last_voice)) * 0.35 + z * 1.6
            last_voice = y
    return out
