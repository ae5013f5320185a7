"""From timed segments to the synthesizer's parameter tracks, one value every 2.5 ms."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt

from fond_echo.core.language.language import Melody
from fond_echo.core.language.phonemes import VOICELESS
from fond_echo.core.synthesis.segments import Segment
from fond_echo.core.synthesis.speaker import Speaker
from fond_echo.core.synthesis.targets import (
    COARTICULATION,
    DIPHTHONGS,
    FRICATION,
    GLIDES,
    HILLENBRAND,
    LAX,
    LOCI,
    NEUTRAL,
    PETERSON_BARNEY,
)

RATE = 16_000
FRAME = 40
FRAMES_PER_SECOND = RATE / FRAME
FORMANTS = 7

Track = npt.NDArray[np.float64]

_BANDWIDTHS = np.array([60, 85, 130, 200, 280, 400, 500.0])
_STRESS_LEVELS = {"1": 1.0, "2": 0.9, "0": 0.72, "": 0.8}


@dataclass(frozen=True)
class Tracks:
    """Everything the filters need, each of shape (frames,) or (frames, 7).

    `voicing`, `aspiration` and `frication` are amplitudes; `formants` and `bandwidths` Hz;
    `noise_gains` the parallel resonators' amplitudes; `nasal` the depth of the nasal zero;
    `pitch` Hz.
    """

    formants: Track
    bandwidths: Track
    nasal: Track
    voicing: Track
    aspiration: Track
    frication: Track
    noise_gains: Track
    pitch: Track


def smoothed(values: Track, width: float) -> Track:
    """A Hann-weighted moving average over `width` frames (made odd), edges repeated."""
    size = int(width) | 1
    if size < 3:
        return values
    window = np.hanning(size + 2)[1:-1]
    window /= window.sum()
    return np.convolve(np.pad(values, size // 2, mode="edge"), window, "valid")


def _target(phoneme: str, speaker: Speaker, rng: np.random.Generator) -> tuple[Track, Track]:
    """Formants at the start and the end of a phoneme, before scaling."""
    factors = np.array(speaker.spread) * np.array(speaker.accent.get(phoneme, (1.0, 1.0, 1.0)))
    if speaker.wander:
        factors = factors * np.exp(rng.normal(0, speaker.wander, 3))
    first, last = _measured(phoneme, speaker)
    return first * factors, last * factors


def _measured(phoneme: str, speaker: Speaker) -> tuple[Track, Track]:
    if phoneme in HILLENBRAND:
        mix = speaker.vowel_mix
        both = np.array(HILLENBRAND[phoneme]), np.array(PETERSON_BARNEY[phoneme])
        steady = both[0] * mix + both[1] * (1 - mix)
        return steady, steady
    if phoneme in DIPHTHONGS:
        start, end = DIPHTHONGS[phoneme]
        return np.array(start, float), np.array(end, float)
    locus = np.array(LOCI[phoneme], float)
    return locus, locus


class _Formants:
    """Key points of the first three formants, found segment by segment."""

    def __init__(
        self,
        segments: Sequence[Segment],
        times: Track,
        speaker: Speaker,
        rng: np.random.Generator,
    ) -> None:
        self._segments = segments
        self._times = times
        self._speaker = speaker
        self._neutral = np.array(NEUTRAL, float)
        self._targets = [
            _target(each.phoneme, speaker, rng) if each.phoneme else None for each in segments
        ]
        self.points: list[tuple[float, Track]] = []
        for place, segment in enumerate(segments):
            if segment.kind == "vowel":
                self._vowel(place)
            elif segment.kind not in ("silence", "breath"):
                self._consonant(place)

    def _vowel(self, place: int) -> None:
        segment, start = self._segments[place], self._times[place]
        length = segment.seconds
        target = self._targets[place]
        assert target is not None
        first, last = target
        move = min(0.045 * self._speaker.coarticulation, 0.42 * length)
        if segment.phoneme in DIPHTHONGS:
            begin = max(move, 0.2 * length)
            self.points += [(start + begin, first)]
            self.points += [(start + max(0.8 * length, begin + 0.01), last)]
            return
        if segment.stress == "0" and segment.phoneme in ("AH", "IH"):
            first = first * 0.75 + self._neutral * 0.25
        if length > 2 * move + 0.004:
            centre = first + 0.4 * self._speaker.movement * (self._neutral - first)
            last = centre if segment.phoneme in LAX else first
            self.points += [(start + move, first), (start + length - move, last)]
        else:
            self.points.append((start + length / 2, first))

    def _neighbour(self, place: int, step: int) -> Track | None:
        """The nearest vowel (or partly, glide) within four segments on one side."""
        for distance in range(1, 5):
            near = place + step * distance
            if not 0 <= near < len(self._segments) or self._segments[near].kind == "silence":
                return None
            target = self._targets[near]
            if self._segments[near].kind == "vowel" and target is not None:
                return target[0] if step > 0 else target[1]
            other = self._segments[near].phoneme != self._segments[place].phoneme
            if self._segments[near].kind == "glide" and other and target is not None:
                return target[0] * 0.6 + 0.4 * np.array((500, 1500, 2500))
        return None

    def _consonant(self, place: int) -> None:
        segment, start = self._segments[place], self._times[place]
        length = segment.seconds
        left, right = self._neighbour(place, -1), self._neighbour(place, 1)
        if left is None:
            left = self._neutral if right is None else right
        if right is None:
            right = left
        first, last = self._locus(place, left), self._locus(place, right)
        if segment.kind == "aspiration":
            first, last = last.copy(), last * 0.6 + right * 0.4
            first[0] = max(first[0], 400)
        if segment.kind == "glide":
            self.points += [(start + 0.3 * length, first), (start + 0.65 * length, last)]
        else:
            self.points += [(start + 0.001, first), (start + length - 0.001, last)]

    def _locus(self, place: int, vowel: Track) -> Track:
        phoneme = self._segments[place].phoneme
        target = self._targets[place]
        assert target is not None
        locus = target[0].copy()
        if phoneme in ("K", "G", "NG"):
            locus[1] = min(2_350, max(1_150, vowel[1] + 200))
            locus[2] = max(locus[1] + 250, vowel[2] * 0.9)
            found = 0.8 * locus + 0.2 * vowel
            found[0] = locus[0]
            return found
        give = min(0.9, COARTICULATION[phoneme] * self._speaker.coarticulation)
        found = locus + give * (vowel - locus)
        found[0] = locus[0] + (0.05 if phoneme in GLIDES else 0.12) * (vowel[0] - locus[0])
        return found


def _formant_tracks(
    segments: Sequence[Segment],
    times: Track,
    clock: Track,
    speaker: Speaker,
    rng: np.random.Generator,
) -> Track:
    points = sorted(_Formants(segments, times, speaker, rng).points, key=lambda point: point[0])
    if not points:
        points = [(0.0, np.array(NEUTRAL, float))]
    at = np.array([time for time, _ in points])
    values = np.array([value for _, value in points])
    tracks = np.empty((len(clock), FORMANTS))
    for k in range(3):
        line = np.interp(clock, at, values[:, k])
        tracks[:, k] = smoothed(line, 10 * speaker.coarticulation)
    drift = 0.12 * (tracks[:, 2] - 2_500.0)
    tracks[:, 3] = np.maximum(speaker.fourth + drift, tracks[:, 2] + 350)
    tracks[:, 4] = np.maximum(4_400 * speaker.high + drift, tracks[:, 3] + 500)
    tracks[:, 5] = 5_450 * speaker.high
    tracks[:, 6] = 6_600 * speaker.high
    return tracks * speaker.formant_scale


_CONTOURS: dict[Melody, tuple[float, float, float]] = {
    "fall": (0.7, -0.6, 0.0),
    "rise": (0.7, 1.2, 0.0),
    "list": (0.5, 0.35, 0.0),
    "command": (0.95, -0.9, 0.25),
    "wh": (0.8, -0.5, 0.4),
}
"""By melody, in swings of the speaker: how far pitch falls over the phrase, what it does in the
last 0.3 s, and how much higher it begins."""


def _pitch_track(
    segments: Sequence[Segment],
    times: Track,
    clock: Track,
    speaker: Speaker,
    rng: np.random.Generator,
    melody: Melody,
) -> Track:
    """Declination, a peak on each stressed vowel, an end by its melody, and small unevenness."""
    fall, end_semitones, start = _CONTOURS[melody]
    voiced = [k for k, each in enumerate(segments) if each.kind != "silence"]
    end = float(times[voiced[-1] + 1]) if voiced else float(clock[-1])
    swing = speaker.pitch_range
    semitones = swing * (0.35 + start - fall * clock / max(end, 0.3))
    for k, segment in enumerate(segments):
        if segment.kind == "vowel" and segment.stress == "1":
            centre = (times[k] + times[k + 1]) / 2
            height = swing * rng.uniform(0.1, 0.7)
            semitones += height * np.exp(-0.5 * ((clock - centre) / 0.09) ** 2)
        if segment.phoneme in VOICELESS:
            since = clock - times[k + 1]
            semitones += 0.5 * np.exp(-np.clip(since, 0, 1) / 0.03) * (since >= 0)
    closing = np.clip((clock - (end - 0.3)) / 0.3, 0, 1)
    semitones += closing * swing * end_semitones
    semitones += smoothed(rng.normal(0, 1, len(clock)), 61) * 1.2
    return np.clip(speaker.pitch * 2 ** (semitones / 12), 55, 450)


def build(
    segments: Sequence[Segment],
    speaker: Speaker,
    rng: np.random.Generator,
    *,
    melody: Melody = "fall",
) -> Tracks:
    """Parameter tracks for timed segments, silence among them."""
    times = np.cumsum([0.0, *(each.seconds for each in segments)])
    count = int(times[-1] * FRAMES_PER_SECOND) + 1
    clock = np.arange(count) / FRAMES_PER_SECOND
    voicing, aspiration, frication, bursts, nasal = (np.zeros(count) for _ in range(5))
    wide = np.ones(count)
    gains = np.zeros((count, FORMANTS))
    noise = 10 ** (speaker.frication / 20)
    for place, segment in enumerate(segments):
        first, last = (round(float(t) * FRAMES_PER_SECOND) for t in times[place : place + 2])
        here = slice(first, last)
        kind, phoneme = segment.kind, segment.phoneme
        if phoneme in FRICATION:
            levels = np.array(FRICATION[phoneme]) + np.array(speaker.hiss.get(phoneme, 0.0))
            gains[here] = 10 ** (levels / 20)
        if kind == "vowel":
            voicing[here] = _STRESS_LEVELS[segment.stress] * np.exp(rng.normal(0, 0.06))
        elif kind == "glide":
            voicing[here] = 0.6
        elif kind == "nasal":
            voicing[here], nasal[here], wide[here] = 0.5, 1.0, 1.6
        elif kind == "breath":
            aspiration[here], wide[here] = 0.3, 2.2
            if place and segments[place - 1].kind in ("vowel", "glide", "nasal"):
                voicing[here] = 0.25
        elif kind == "flap":
            voicing[here] = 0.35
        elif kind == "closure" and phoneme in ("B", "D", "G", "JH"):
            voicing[here] = 0.14 * speaker.voice_bar
        elif kind == "burst":
            # It is loudest when the closure opens, and gone when the burst is over.
            length = max(1, last - first)
            bursts[here] = 0.28 * noise * np.exp(-2.2 * np.arange(last - first) / length)
        elif kind == "aspiration":
            aspiration[here], wide[here] = 0.3, 2.2
        elif kind == "friction":
            frication[here] = 0.24 * noise
            if phoneme in ("V", "DH"):
                voicing[here] = 0.42
                frication[here] *= 0.7
            elif phoneme in ("Z", "ZH", "JH"):
                voicing[here] = 0.26
                if place + 1 < len(segments) and segments[place + 1].kind == "silence":
                    voicing[first + int((last - first) * 0.6) : last] = 0.05
    voicing = smoothed(voicing, 9 * (1 + 2 * speaker.softness))
    formants = _formant_tracks(segments, times, clock, speaker, rng)
    nasal = smoothed(nasal, 24) * speaker.nasality
    bandwidths = np.tile(_BANDWIDTHS * speaker.bandwidth, (count, 1))
    bandwidths[:, 0] = bandwidths[:, 0] * smoothed(wide, 7) + 0.04 * formants[:, 0]
    bandwidths[:, 1] *= 1 + nasal
    return Tracks(
        formants,
        bandwidths,
        nasal,
        voicing,
        smoothed(aspiration, 5) + voicing * speaker.breath,
        smoothed(frication, 19 * (1 + 1.5 * speaker.softness)) + bursts,
        np.stack([smoothed(gains[:, k], 3) for k in range(FORMANTS)], axis=1),
        _pitch_track(segments, times, clock, speaker, rng, melody),
    )
