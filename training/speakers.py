"""Speakers far beyond the voices that are served.

A recognizer that has heard eight voices knows eight voices. Each of these is drawn anew: size,
pitch and pace of grown-ups and children, how the glottis opens and closes, creak and breath, where
each vowel and each hiss lies, how much is slurred, and how words are said where an accent differs
from the dictionary.
"""

from __future__ import annotations

import math
from dataclasses import dataclass

import numpy as np

from fond_echo.core.language.phonemes import PHONEMES, Pronunciation, base, stress
from fond_echo.core.synthesis.speaker import Speaker
from fond_echo.core.synthesis.targets import FRICATION, VOWELS

Rng = np.random.Generator

SHIFTS: tuple[tuple[str, str], ...] = (
    ("AO", "AA"), ("AA", "AO"), ("AE", "AA"), ("AE", "EH"), ("EH", "AE"), ("IH", "IY"),
    ("IY", "IH"), ("UH", "UW"), ("UW", "UH"), ("AH", "AA"), ("ER", "AH"), ("TH", "T"),
    ("TH", "F"), ("TH", "S"), ("DH", "D"), ("DH", "Z"), ("DH", "V"), ("W", "V"), ("V", "W"),
    ("Z", "S"), ("ZH", "SH"), ("ZH", "JH"), ("NG", "N"), ("EY", "EH"), ("OW", "AO"), ("JH", "CH"),
    ("AY", "AA"), ("AH", "UH"),
)  # fmt: skip
"""What an accent may say for what the dictionary has."""

MOVED = {"UW": (1.0, 1.75), "UH": (1.0, 1.3), "OW": (1.08, 1.45), "AE": (1.25, 0.8)}
"""How far the first two formants of a vowel lie from the tables of 1952 and 1995 at most, for those
who say it as many do now: the back vowels further in front, the open one more open."""

SOFTER = {"S": -7.0, "Z": -5.0, "SH": -5.0, "ZH": -4.0, "CH": -4.0, "JH": -3.0}
"""dB on the whole beside the synthesizer's tables."""

UNVOICED = {"Z": "S", "V": "F", "D": "T", "B": "P", "G": "K", "JH": "CH"}
"""What the last sound of a word may lose its voice to."""

REDUCIBLE = ("IH", "EH", "UH", "AA", "AE", "OW")


@dataclass(frozen=True)
class Person:
    """A speaker and how they say words.

    Attributes:
        shifts: phoneme said for another, with how often.
        drops_r: how often r after a vowel is not said.
        drops_t: how often t or d between consonants is not said.
        drops_h: how often an unstressed h is not said.
        reduces: how often an unstressed vowel becomes the neutral one.
        hardens: how often the first sound of "the" is a stop.
        devoices: how often the last sound of a word loses its voice.
        darkens: how often l after a vowel is one.
    """

    speaker: Speaker
    shifts: tuple[tuple[str, str, float], ...]
    drops_r: float
    drops_t: float
    drops_h: float
    reduces: float
    hardens: float
    devoices: float
    darkens: float

    def says(self, sounds: Pronunciation, rng: Rng) -> Pronunciation:
        """A pronunciation as this person says it."""
        said: list[str] = []
        for k, symbol in enumerate(sounds):
            before = base(sounds[k - 1]) if k else ""
            after = base(sounds[k + 1]) if k + 1 < len(sounds) else ""
            if rng.random() >= self._drops(base(symbol), before, after, k == 0, len(sounds)):
                placed = self._placed(symbol, k, len(sounds), before, after, rng)
                said.append(self._shifted(placed, rng))
        return tuple(said) or sounds

    def _drops(self, phoneme: str, before: str, after: str, first: bool, length: int) -> float:
        """How often a phoneme is not said here."""
        if phoneme == "R" and before in VOWELS and after not in VOWELS:
            return self.drops_r
        if phoneme in ("T", "D") and before and before not in VOWELS and after not in VOWELS:
            return self.drops_t
        return self.drops_h if phoneme == "HH" and first and length < 4 else 0.0

    def _placed(
        self, symbol: str, place: int, count: int, before: str, after: str, rng: Rng
    ) -> str:
        """A symbol as its place in the word makes it."""
        phoneme, last = base(symbol), place + 1 == count
        if phoneme == "DH" and not place and rng.random() < self.hardens:
            return "D"
        if last and place and phoneme in UNVOICED and rng.random() < self.devoices:
            return UNVOICED[phoneme]
        dark = phoneme == "L" and before in VOWELS and after not in VOWELS
        return "UH0" if dark and rng.random() < self.darkens else symbol

    def _shifted(self, symbol: str, rng: Rng) -> str:
        """A symbol as it is said here."""
        reducible = stress(symbol) == "0" and base(symbol) in REDUCIBLE
        if reducible and rng.random() < self.reduces:
            symbol = "AH0"
        for old, new, often in self.shifts:
            if base(symbol) == old and rng.random() < often:
                return new + stress(symbol)
        return symbol


def _between(rng: Rng, low: float, high: float) -> float:
    return float(rng.uniform(low, high))


def _around(rng: Rng, middle: float, spread: float) -> float:
    """Log-normal: `spread` is the relative standard deviation."""
    return middle * math.exp(float(rng.normal(0, spread)))


def _accent(odd: float, rng: Rng) -> dict[str, tuple[float, ...]]:
    """By phoneme, factors of the first three formants: a little elsewhere each, and the vowels
    that have moved most since the tables were measured, all together."""
    found = {
        phoneme: tuple(_around(rng, 1.0, odd * k) for k in (1.2, 1.0, 0.6)) for phoneme in PHONEMES
    }
    fronted = _between(rng, 0, 1) if rng.random() < 0.75 else 0.0
    opened = _between(rng, 0, 1) if rng.random() < 0.6 else 0.0
    for phoneme, (height, place) in MOVED.items():
        share = opened if phoneme == "AE" else fronted
        first, second, third = found[phoneme]
        found[phoneme] = (first * height**share, second * place**share, third)
    return found


def draw(rng: Rng, *, outside: bool = False) -> Person:
    """A person.

    Args:
        outside: one whose settings lie beyond the range of the others, for tests: smaller and
            larger, higher and lower, slower and faster, and unlike the tables in every phoneme.
    """
    kind = rng.choice(4, p=(0.37, 0.33, 0.16, 0.14))
    if kind == 0:
        scale, pitch = _between(rng, 0.88, 1.08), _around(rng, 118, 0.2)
    elif kind == 1:
        scale, pitch = _between(rng, 1.06, 1.28), _around(rng, 205, 0.16)
    elif kind == 2:
        scale, pitch = _between(rng, 1.2, 1.5), _around(rng, 265, 0.15)
    else:
        scale, pitch = _between(rng, 0.85, 1.5), _between(rng, 75, 360)
    rate = _between(rng, 0.78, 1.25) if rng.random() < 0.65 else _between(rng, 1.2, 1.75)
    odd = 0.09 if outside else abs(float(rng.normal(0, 0.045)))
    if outside:
        scale = float(rng.choice([_between(rng, 0.8, 0.85), _between(rng, 1.5, 1.62)]))
        pitch = _between(rng, 62, 78) if scale < 1 else _between(rng, 330, 390)
        rate = float(rng.choice([_between(rng, 0.66, 0.76), _between(rng, 1.7, 1.9)]))
    speaker = Speaker(
        formant_scale=scale,
        pitch=min(pitch, 400.0),
        pitch_range=_between(rng, 0.5, 10),
        rate=rate,
        jitter=_between(rng, 0.002, 0.025),
        shimmer=_between(rng, 0.01, 0.12),
        open_quotient=_between(rng, 0.38, 0.88),
        tilt=_between(rng, 0.0, 0.8),
        breath=_between(rng, 0, 0.3) ** 1.5,
        bandwidth=_between(rng, 0.65, 1.8),
        vowel_mix=_between(rng, -0.3, 1.3),
        onset=_between(rng, 0.3, 2.0),
        coarticulation=_between(rng, 0.5, 2.0),
        frication=_between(rng, -20, 3),
        frication_scale=_between(rng, 0.8, 1.2),
        nasality=_between(rng, 0.2, 1.8),
        fourth=_between(rng, 3_000, 3_950),
        high=_between(rng, 0.85, 1.15),
        flapping=_between(rng, 0, 1),
        release=_between(rng, 0.2, 1),
        voice_bar=_between(rng, 0, 1.3),
        skew=_between(rng, 1.6, 4.5),
        bright=_between(rng, 0, 2) ** 2 if rng.random() < 0.8 else 0.0,
        creak=_between(rng, 0, 1) if rng.random() < 0.35 else 0.0,
        careful=_between(rng, 0, 1) if rng.random() < 0.5 else 0.0,
        softness=_between(rng, 0, 1),
        unevenness=_between(rng, 0.05, 0.3),
        wander=_between(rng, 0.0, 0.06),
        movement=_between(rng, 0, 1),
        spread=tuple(_around(rng, 1.0, each) for each in (0.06, 0.05, 0.04)),  # type: ignore[arg-type]
        accent=_accent(odd, rng),
        hiss={
            phoneme: tuple(
                float(each)
                for each in rng.normal(0, 5, 7) + rng.normal(SOFTER.get(phoneme, 0.0), 3)
            )
            for phoneme in FRICATION
        },
    )
    shifts = [
        (*SHIFTS[k], _between(rng, 0.3, 1.0))
        for k in rng.permutation(len(SHIFTS))[: rng.integers(4)]
    ]
    shifts = shifts if rng.random() < 0.5 else []
    return Person(
        speaker,
        tuple(shifts),
        drops_r=_between(rng, 0.5, 1) if rng.random() < 0.4 else 0.0,
        drops_t=_between(rng, 0, 0.5),
        drops_h=_between(rng, 0, 0.6) if rng.random() < 0.2 else 0.0,
        reduces=_between(rng, 0, 0.5),
        hardens=_between(rng, 0, 0.8) if rng.random() < 0.5 else 0.0,
        devoices=_between(rng, 0, 0.7) if rng.random() < 0.5 else 0.0,
        darkens=_between(rng, 0, 0.6) if rng.random() < 0.35 else 0.0,
    )
