"""Words said in a prosody of their own: longer or shorter, higher or lower, louder or softer."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace

import numpy as np
import numpy.typing as npt

from fond_echo.core.audio.clip import Clip
from fond_echo.core.language.prosody import PLAIN, SEMITONES, SILENT, Prosody
from fond_echo.core.synthesis.segments import Segment
from fond_echo.core.synthesis.speaker import Speaker
from fond_echo.core.synthesis.tracks import FRAMES_PER_SECOND, Track, Tracks, smoothed

EMPHASIS_LENGTH, EMPHASIS_SEMITONES, EMPHASIS_DECIBELS = 0.14, 1.6, 2.0
"""By one step of emphasis: longer by such a share, higher, louder."""

GLIDE_FRAMES = 17
"""Pitch and level go from one word's to the next's within about 40 ms."""

MAX_PEAK = 0.98
Samples = npt.NDArray[np.float32]


def under(whole: Prosody, own: Prosody) -> Prosody:
    """A prosody within another: of a word within all that is asked for."""
    return Prosody(
        whole.rate * own.rate,
        whole.pitch + own.pitch,
        whole.hertz + own.hertz,
        own.at_hertz or whole.at_hertz,
        whole.range * own.range,
        whole.volume + own.volume,
        own.emphasis or whole.emphasis,
    )


def paced(segments: Sequence[Segment], prosodies: Sequence[Prosody]) -> list[Segment]:
    """Segments as long as their words' prosodies want them."""
    found = []
    for segment in segments:
        if segment.word < 0:
            found.append(segment)
            continue
        prosody = prosodies[segment.word]
        longer = 1.0 + EMPHASIS_LENGTH * prosody.emphasis
        found.append(replace(segment, seconds=segment.seconds * longer / prosody.rate))
    return found


def fitted(segments: Sequence[Segment], seconds: float) -> list[Segment]:
    """Segments that together last so many seconds; silence stays as it is."""
    said = sum(each.seconds for each in segments if each.word >= 0)
    still = sum(each.seconds for each in segments if each.word < 0)
    factor = min(8.0, max(0.2, (seconds - still) / max(said, 1e-3)))
    return [
        replace(each, seconds=each.seconds * factor) if each.word >= 0 else each
        for each in segments
    ]


def pitched(
    tracks: Tracks, segments: Sequence[Segment], prosodies: Sequence[Prosody], speaker: Speaker
) -> Tracks:
    """Tracks with the pitch that the words' prosodies want."""
    count = len(tracks.pitch)
    lift = _by_word(
        count,
        segments,
        [m.lift(speaker.pitch) + EMPHASIS_SEMITONES * m.emphasis for m in prosodies],
    )
    spread = _by_word(count, segments, [m.range for m in prosodies], around=1.0)
    moved = SEMITONES * np.log2(tracks.pitch / speaker.pitch) * spread + lift
    return replace(tracks, pitch=np.clip(speaker.pitch * 2 ** (moved / SEMITONES), 40, 600))


def loud(clip: Clip, segments: Sequence[Segment], prosodies: Sequence[Prosody]) -> Clip:
    """A clip with the levels that the words' prosodies want; never over full scale."""
    if all(m.volume == 0.0 and m.emphasis == 0.0 for m in prosodies):
        return clip
    frames = int(clip.seconds * FRAMES_PER_SECOND) + 1
    levels = [m.volume + EMPHASIS_DECIBELS * m.emphasis for m in prosodies]
    decibels = _by_word(frames, segments, levels)
    silent = _by_word(frames, segments, [float(m.volume <= SILENT) for m in prosodies])
    gain = 10 ** (decibels / 20) * (silent < 0.5)
    at = np.arange(len(clip.samples)) * FRAMES_PER_SECOND / clip.rate
    samples = clip.samples * np.interp(at, np.arange(frames), gain)
    peak = float(np.abs(samples).max(initial=0.0))
    scale = min(1.0, MAX_PEAK / peak) if peak else 1.0
    return Clip((samples * scale).astype(np.float32), clip.rate)


def _by_word(
    count: int, segments: Sequence[Segment], values: Sequence[float], around: float = 0.0
) -> Track:
    """A track that has each word's value while it lasts, and glides between them."""
    track = np.full(count, np.nan)
    clock = 0.0
    for segment in segments:
        first, clock = clock, clock + segment.seconds
        if segment.word >= 0:
            begin, end = (round(t * FRAMES_PER_SECOND) for t in (first, clock))
            track[begin:end] = values[segment.word]
    known = np.flatnonzero(~np.isnan(track))
    if not len(known):
        return np.full(count, around)
    filled = np.interp(np.arange(count), known, track[known])
    return smoothed(filled, GLIDE_FRAMES)


def all_plain(prosodies: Sequence[Prosody]) -> bool:
    """Whether nothing is to be changed."""
    return all(each == PLAIN for each in prosodies)
