"""A speaker: every setting that makes one voice differ from another."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any


@dataclass(frozen=True)
class Speaker:
    """The settings of a voice. The defaults are an unremarkable adult man.

    Attributes:
        formant_scale: all formants times this: about 1 for men, 1.16 for women, 1.3 for children.
        pitch: median fundamental frequency in Hz.
        pitch_range: semitones of movement around it.
        rate: 1 is unhurried; 1.3 is brisk.
        jitter, shimmer: relative standard deviation of period and amplitude.
        open_quotient: the part of a period in which the glottis is open.
        tilt: 0 bright to 0.9 dull, the pole of a one-pole low pass on the source.
        breath: aspiration beside voicing, relative amplitude.
        bandwidth: all formant bandwidths times this.
        vowel_mix: 1 for Hillenbrand's vowels, 0 for Peterson and Barney's.
        onset: voice onset times, times this.
        coarticulation: how strongly consonants give way to neighbours, times this.
        frication: dB added to noise sounds.
        frication_scale: the frequencies of noise resonators, times this.
        nasality: depth of the nasal zero, 1 as measured.
        fourth: frequency of the fourth formant in Hz before scaling.
        high: the formants above, times this.
        flapping: how often t and d between vowels become a flap, 0 to 1.
        release: how often final stops are released, 0 to 1.
        voice_bar: how much voicing is heard during b, d, g closures, 0 to 1.
        skew: shape of the glottal pulse, the power n of its flow x^n (1 - x): 2 is KLGLOTT88,
            more opens late and closes sharply.
        bright: how much of what is voiced is added again with 6 dB more an octave.
        creak: how deep the pulses alternate where pitch is lowest, 0 to 1.
        careful: how far the end of a phrase is drawn out, 0 to 1: last consonants and vowels are
            longer, last stops are let go with a breath.
        softness: how slowly noise and voice swell and fade, 0 to 1.
        unevenness: relative standard deviation of every duration.
        wander: relative standard deviation of every formant target.
        movement: how far lax vowels drift to the middle while they last, 0 to 1.
        air: noise above 4 kHz in what is voiced, relative amplitude.
        spread: the first three formants each times these, beside `formant_scale`.
        accent: by phoneme, its first three formants each times these.
        hiss: by phoneme, dB added to its seven noise gains.
    """

    formant_scale: float = 1.0
    pitch: float = 115.0
    pitch_range: float = 4.0
    rate: float = 1.0
    jitter: float = 0.008
    shimmer: float = 0.04
    open_quotient: float = 0.6
    tilt: float = 0.45
    breath: float = 0.03
    bandwidth: float = 1.0
    vowel_mix: float = 0.5
    onset: float = 1.0
    coarticulation: float = 1.0
    frication: float = 0.0
    frication_scale: float = 1.0
    nasality: float = 1.0
    fourth: float = 3_500.0
    high: float = 1.0
    flapping: float = 0.2
    release: float = 0.7
    voice_bar: float = 0.5
    skew: float = 2.0
    bright: float = 0.0
    creak: float = 0.0
    careful: float = 0.0
    softness: float = 0.0
    unevenness: float = 0.08
    wander: float = 0.0
    movement: float = 0.0
    air: float = 0.0
    spread: tuple[float, float, float] = (1.0, 1.0, 1.0)
    accent: Mapping[str, tuple[float, ...]] = field(default_factory=dict, hash=False)
    hiss: Mapping[str, tuple[float, ...]] = field(default_factory=dict, hash=False)


SERVED: Mapping[str, Any] = {
    "frication": -7.0, "air": 0.012, "softness": 0.6, "movement": 0.5, "wander": 0.012,
    "careful": 0.25,
}  # fmt: skip
"""What served voices share: soft hisses with soft edges, air, vowels that move."""

DEFAULT_VOICE = "whimbrel"
VOICES: dict[str, Speaker] = {
    "whimbrel": Speaker(
        **SERVED, formant_scale=1.15, pitch=196, pitch_range=4.2, tilt=0.35, breath=0.035,
        open_quotient=0.62, jitter=0.006, shimmer=0.03, release=0.9,
    ),
    "petrel": Speaker(**SERVED, pitch=112, pitch_range=4.0, tilt=0.4, release=0.85, jitter=0.006),
    "guillemot": Speaker(
        **SERVED, formant_scale=0.95, pitch=88, pitch_range=3.0, tilt=0.55, breath=0.02, rate=0.94,
        bandwidth=1.1, open_quotient=0.55, vowel_mix=0.7,
    ),
    "dunlin": Speaker(
        **SERVED, formant_scale=1.2, pitch=226, pitch_range=5.0, rate=1.1, tilt=0.3, breath=0.05,
        open_quotient=0.66, fourth=3_600,
    ),
    "tern": Speaker(
        **SERVED, formant_scale=1.05, pitch=142, pitch_range=4.6, rate=1.08, tilt=0.25, breath=0.03,
        vowel_mix=0.3,
    ),
    "curlew": Speaker(
        **SERVED, formant_scale=1.12, pitch=178, pitch_range=3.4, rate=0.95, tilt=0.5, breath=0.09,
        open_quotient=0.7, vowel_mix=0.6,
    ),
    "sanderling": Speaker(
        **SERVED, formant_scale=1.26, pitch=252, pitch_range=4.4, rate=1.0, tilt=0.3, breath=0.04,
        open_quotient=0.64,
    ),
    "eider": Speaker(
        **SERVED, formant_scale=0.98, pitch=101, pitch_range=2.6, rate=1.0, tilt=0.6, breath=0.06,
        jitter=0.012, shimmer=0.06, vowel_mix=0.8,
    ),
}  # fmt: skip
"""The built-in voices, named after birds and boats."""
