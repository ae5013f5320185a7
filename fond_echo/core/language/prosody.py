"""How words are said: pace, pitch, loudness, emphasis, as markup asks for them (SSML 1.1 §3.2)."""

from __future__ import annotations

import math
import re
from collections.abc import Mapping
from dataclasses import dataclass, replace

from fond_echo.core.language.errors import BadValue

SEMITONES = 12.0
SILENT = -96.0
"""dB."""

RATES = {"x-slow": 0.5, "slow": 0.75, "medium": 1.0, "fast": 1.25, "x-fast": 1.6}
PITCHES = {"x-low": -6.0, "low": -3.0, "medium": 0.0, "high": 3.0, "x-high": 6.0}
RANGES = {"x-low": 0.3, "low": 0.6, "medium": 1.0, "high": 1.5, "x-high": 2.0}
VOLUMES = {"silent": SILENT, "x-soft": -12.0, "soft": -6.0, "medium": 0.0, "loud": 4.0,
           "x-loud": 8.0}  # fmt: skip
EMPHASES = {"strong": 2.0, "moderate": 1.0, "none": 0.0, "reduced": -1.0}
SLOWEST, FASTEST = 0.25, 3.0
HIGHEST, LOUDEST = 24.0, 20.0
"""Semitones up or down; dB up."""

_NUMBER = r"[+-]?(?:\d+(?:\.\d*)?|\.\d+)"
_POINT = re.compile(rf"\(\s*({_NUMBER})%\s*,\s*([^)\s]+)\s*\)")


@dataclass(frozen=True)
class Prosody:
    """How a word is said, beside how its voice says words.

    Attributes:
        rate: pace, times.
        pitch: semitones higher.
        hertz: Hz higher.
        at_hertz: Hz at which it lies; 0 is where the voice lies.
        range: movement of pitch, times.
        volume: dB louder.
        emphasis: 2 strong, 1 moderate, −1 reduced.
    """

    rate: float = 1.0
    pitch: float = 0.0
    hertz: float = 0.0
    at_hertz: float = 0.0
    range: float = 1.0
    volume: float = 0.0
    emphasis: float = 0.0

    def lift(self, median: float) -> float:
        """Semitones above a voice whose median pitch is so many Hz."""
        base = self.at_hertz or median
        raised = max(20.0, base * 2 ** (self.pitch / SEMITONES) + self.hertz)
        return SEMITONES * math.log2(raised / median)


PLAIN = Prosody()


def _number(text: str, unit: str) -> float | None:
    match = re.fullmatch(rf"({_NUMBER}){re.escape(unit)}", text, re.IGNORECASE)
    return float(match[1]) if match else None


def _bounded(value: float, low: float, high: float) -> float:
    return min(high, max(low, value))


def rate_of(text: str) -> float:
    """A label, a percentage ("80%"), a change ("+10%") or a factor. Raises BadValue."""
    if text in RATES or text == "default":
        return RATES.get(text, 1.0)
    share, factor = _number(text, "%"), _number(text, "")
    if share is not None:
        factor = 1 + share / 100 if text[0] in "+-" else share / 100
    if factor is None or factor <= 0:
        raise BadValue(f"rate {text!r} is not one of {', '.join(RATES)}, nor like 80% or 1.2")
    return _bounded(factor, SLOWEST, FASTEST)


def pitched(prosody: Prosody, text: str) -> Prosody:
    """With a pitch: a label, "+2st", "-10%", "+20Hz" or "120Hz". Raises BadValue."""
    if text in PITCHES or text == "default":
        return replace(prosody, pitch=PITCHES.get(text, 0.0), hertz=0.0, at_hertz=0.0)
    semitones, share, hertz = (_number(text, unit) for unit in ("st", "%", "Hz"))
    if share is not None and share > -100:
        semitones = SEMITONES * math.log2(1 + share / 100)
    if semitones is not None:
        return replace(prosody, pitch=_bounded(prosody.pitch + semitones, -HIGHEST, HIGHEST))
    if hertz is not None and text[0] in "+-":
        return replace(prosody, hertz=prosody.hertz + hertz)
    if hertz is not None and 20 <= hertz <= 600:
        return replace(prosody, at_hertz=hertz, pitch=0.0, hertz=0.0)
    raise BadValue(
        f"pitch {text!r} is not one of {', '.join(PITCHES)}, nor like +2st, -10% or 120Hz"
    )


def range_of(text: str) -> float:
    """A label or a change ("+50%"). Raises BadValue."""
    if text in RANGES or text == "default":
        return RANGES.get(text, 1.0)
    share = _number(text, "%")
    if share is None:
        raise BadValue(f"range {text!r} is not one of {', '.join(RANGES)}, nor like +50%")
    return _bounded(1 + share / 100 if text[0] in "+-" else share / 100, 0.0, 4.0)


def volume_of(text: str) -> float:
    """dB of a label, of "+6dB", or of 0 to 100 (SSML 1.0). Raises BadValue."""
    if text in VOLUMES or text == "default":
        return VOLUMES.get(text, 0.0)
    decibels, hundredths = _number(text, "dB"), _number(text, "")
    if decibels is None and hundredths is not None and 0 <= hundredths <= 100:
        decibels = 20 * math.log10(hundredths / 100) if hundredths else SILENT
    if decibels is None:
        raise BadValue(f"volume {text!r} is not one of {', '.join(VOLUMES)}, nor like +6dB")
    return _bounded(decibels, SILENT, LOUDEST)


def seconds_of(text: str) -> float:
    """Of "300ms" or "1.5s". Raises BadValue."""
    milliseconds, seconds = _number(text, "ms"), _number(text, "s")
    found = milliseconds / 1_000 if milliseconds is not None else seconds
    if found is None or found < 0:
        raise BadValue(f"time {text!r} is not like 300ms or 1s")
    return min(found, 60.0)


def contour_of(text: str) -> tuple[tuple[float, Prosody], ...]:
    """Points of a pitch contour, "(0%,+20Hz) (100%,-2st)": a place from 0 to 1 and the pitch there.
    Raises BadValue."""
    points = [(float(place) / 100, pitched(PLAIN, pitch)) for place, pitch in _POINT.findall(text)]
    if not points or _POINT.sub("", text).strip(" ,"):
        raise BadValue(f"contour {text[:40]!r} is not like (0%,+20Hz) (100%,-2st)")
    return tuple(sorted(points, key=lambda point: point[0]))


def emphasized(prosody: Prosody, level: str) -> Prosody:
    """Raises BadValue."""
    if level not in EMPHASES:
        raise BadValue(f"level {level!r} is not one of {', '.join(EMPHASES)}")
    return replace(prosody, emphasis=EMPHASES[level])


def with_prosody(prosody: Prosody, attributes: Mapping[str, str]) -> Prosody:
    """As a prosody element asks: what it says is beside what is around it. Raises BadValue."""
    if "rate" in attributes:
        rate = prosody.rate * rate_of(attributes["rate"])
        prosody = replace(prosody, rate=_bounded(rate, SLOWEST, FASTEST))
    if "pitch" in attributes:
        prosody = pitched(prosody, attributes["pitch"])
    if "range" in attributes:
        prosody = replace(prosody, range=prosody.range * range_of(attributes["range"]))
    if "volume" in attributes:
        volume = prosody.volume + volume_of(attributes["volume"])
        prosody = replace(prosody, volume=_bounded(volume, SILENT, LOUDEST))
    return prosody
