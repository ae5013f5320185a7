"""From phonemes to timed segments: what the mouth does, and for how long."""

from __future__ import annotations

import math
from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np

from fond_echo.core.language.phonemes import VOICELESS, Pronunciation, base, stress
from fond_echo.core.synthesis.speaker import Speaker
from fond_echo.core.synthesis.targets import (
    AFFRICATES,
    BURST_MS,
    DURATIONS,
    FRICATIVES,
    GLIDES,
    NASALS,
    STOPS,
    VOICE_ONSET_MS,
    VOWELS,
)


@dataclass(frozen=True)
class Segment:
    """One articulation.

    Attributes:
        kind: silence, vowel, glide, nasal, breath (h), flap, closure, burst, aspiration or
            friction.
        phoneme: without stress mark; "" in silence.
        seconds: how long.
        stress: "1", "2", "0" on vowels, else "".
        word: index of the word, −1 in silence.
    """

    kind: str
    phoneme: str
    seconds: float
    stress: str = ""
    word: int = -1


@dataclass(frozen=True)
class _Place:
    """A phoneme with what stands around it."""

    phoneme: str
    stress: str
    word: int
    initial: bool
    before: str
    after: str
    after_stress: str
    final: bool
    crowded: bool
    long_word: bool


def _places(words: Sequence[Pronunciation]) -> list[_Place]:
    flat = [
        (base(symbol), stress(symbol), number, place, sum(s[-1].isdigit() for s in word) > 2)
        for number, word in enumerate(words)
        for place, symbol in enumerate(word)
    ]
    names = ["", *(phoneme for phoneme, *_ in flat), "", ""]
    last_vowel = max((k for k, (p, *_) in enumerate(flat) if p in VOWELS), default=-1)
    found = []
    for k, (phoneme, mark, number, place, long_word) in enumerate(flat):
        before, after = names[k], names[k + 2]
        beside_consonant = any(each and each not in VOWELS for each in (before, after))
        found.append(
            _Place(
                phoneme,
                mark,
                number,
                place == 0,
                before,
                after,
                flat[k + 1][1] if k + 1 < len(flat) else "",
                k >= last_vowel,
                beside_consonant,
                long_word,
            )
        )
    return found


def _seconds(place: _Place, speaker: Speaker, rng: np.random.Generator) -> float:
    """Klatt's rule: above its shortest, a duration stretches with the product of its factors."""
    inherent, shortest = DURATIONS[place.phoneme]
    stretch = 1.0
    if place.phoneme in VOWELS:
        stretch *= 1.3 if place.final else 0.72
        stretch *= 0.85 if place.long_word else 1.0
        stretch *= {"0": 0.5, "2": 0.85}.get(place.stress, 1.0)
        if place.after in VOICELESS and place.after != "HH":
            stretch *= 0.75
        elif place.after in ("V", "Z", "DH", "ZH"):
            stretch *= 1.15
    else:
        stretch *= 1.0 if place.initial else 0.85
        stretch *= 1.25 if place.final else 1.0
        stretch *= 0.7 if place.crowded else 1.0
    if place.final and speaker.careful:
        stretch *= 1 + speaker.careful * (0.5 if place.phoneme in VOWELS else 1.4)
    length = (shortest + (inherent - shortest) * stretch) * math.exp(
        rng.normal(0, speaker.unevenness)
    )
    return max(length, shortest * 0.6) / speaker.rate / 1000


def plan(
    words: Sequence[Pronunciation], speaker: Speaker, rng: np.random.Generator
) -> list[Segment]:
    """Timed segments for a phrase, without silence around it."""
    segments: list[Segment] = []
    for place in _places(words):
        length = _seconds(place, speaker, rng)
        if place.phoneme in STOPS:
            parts = _stop(place, length, speaker, rng)
        elif place.phoneme in AFFRICATES:
            noise = (0.085 if place.phoneme == "CH" else 0.06) / speaker.rate**0.6
            parts = [("closure", max(length * 0.8, 0.03)), ("friction", noise)]
        else:
            parts = [(_kind(place.phoneme), length)]
        segments += [
            Segment(kind, place.phoneme, seconds, place.stress, place.word)
            for kind, seconds in parts
        ]
    return segments


def _kind(phoneme: str) -> str:
    if phoneme in FRICATIVES:
        return "friction"
    if phoneme == "HH":
        return "breath"
    if phoneme in NASALS:
        return "nasal"
    return "glide" if phoneme in GLIDES else "vowel"


def _let_go(phoneme: str, speaker: Speaker, rng: np.random.Generator) -> list[tuple[str, float]]:
    """The end of a last stop that is let go with a breath."""
    voiceless = phoneme in VOICE_ONSET_MS
    seconds = float(rng.uniform(0.03, 0.18 if voiceless else 0.07)) * (0.4 + speaker.careful)
    kind = "friction" if rng.random() < 0.6 else "aspiration"
    return [("burst", BURST_MS[phoneme] / 1000), (kind, seconds)]


def _stop(
    place: _Place, length: float, speaker: Speaker, rng: np.random.Generator
) -> list[tuple[str, float]]:
    between_vowels = (place.before in VOWELS or place.before == "R") and place.after in VOWELS
    may_flap = place.phoneme in ("T", "D") and between_vowels and place.after_stress == "0"
    if may_flap and rng.random() < speaker.flapping:
        return [("flap", max(0.022, 0.028 / speaker.rate))]
    parts = [("closure", max(length * 0.85, 0.03))]
    if (place.after in STOPS or place.after in AFFRICATES) and rng.random() > speaker.release:
        return parts
    if not place.after and speaker.careful and rng.random() < speaker.careful:
        return [*parts, *_let_go(place.phoneme, speaker, rng)]
    if not place.after and rng.random() > speaker.release * 1.2:
        return parts
    parts.append(("burst", BURST_MS[place.phoneme] / 1000))
    if place.phoneme in VOICE_ONSET_MS:
        onset = VOICE_ONSET_MS[place.phoneme] / 1000
        if place.before == "S" and not place.initial:
            onset = 0.012
        elif place.after not in VOWELS | GLIDES or (
            not place.initial and place.after_stress == "0"
        ):
            onset *= 0.5
        parts.append(("aspiration", max(0.006, onset * speaker.onset / speaker.rate**0.5)))
    return parts
