"""The filters of templates: what may stand behind a bar."""

from __future__ import annotations

import base64
from collections.abc import Callable, Iterable
from datetime import datetime
from typing import Any
from urllib.parse import quote

from jinja2 import StrictUndefined

from fond_echo.core.audio.columns import resized, scaled
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.template_bounds import (
    MAX_DIGITS,
    MAX_OUTPUT,
    TOO_LARGE,
    counted,
    measured,
    written,
)


def join(values: Iterable[Any], between: str = "") -> str:
    parts: list[str] = []
    size = 0
    for value in counted(values):
        parts.append(written(value))
        size += len(parts[-1]) + len(between)
        if size > MAX_OUTPUT + len(between):
            raise TemplateFailed(TOO_LARGE)
    return str(between).join(parts)


def _replace(value: Any, old: str, new: str) -> str:
    text = written(value)
    grown = len(text) + text.count(old) * (len(new) - len(old)) if old else len(text) * len(new)
    if grown > MAX_OUTPUT:
        raise TemplateFailed(TOO_LARGE)
    return str(text.replace(old, new))


def _comparable(values: Iterable[Any]) -> list[Any]:
    """Values of which many pairs are about to be compared."""
    return list(measured(list(counted(values))))


def _points(waveform: list[float], count: int) -> list[float]:
    if not 1 <= count <= 1_000:
        raise TemplateFailed("a waveform has 1 to 1,000 points")
    return resized(waveform, count)


def _default(value: Any, fallback: Any = "") -> Any:
    return fallback if value is None or isinstance(value, StrictUndefined) else value


def _base64(value: Any) -> str:
    """Base64 of text, or of a fact that holds bytes (sound, a file)."""
    data = getattr(value, "data", value)
    return base64.b64encode(data if isinstance(data, bytes) else written(data).encode()).decode()


def _round(number: Any, digits: int = 0) -> Any:
    if abs(digits) > MAX_DIGITS:
        raise TemplateFailed(f"a number is rounded to at most {MAX_DIGITS} digits")
    return round(number, digits) if digits else round(number)


def _day(value: Any) -> str:
    """A date as it is said: Friday, 27 November."""
    at = value if hasattr(value, "strftime") else datetime.fromisoformat(written(value))
    return f"{at:%A}, {at.day} {at:%B}"


class Verbatim(str):
    """A text that goes into an address as it is."""

    __slots__ = ()


def _path(value: Any) -> Verbatim:
    """A path, each of its segments percent-encoded and the slashes between them kept."""
    return Verbatim(quote(written(value), safe="/"))


def in_an_address(value: Any) -> str:
    """What stands for a value in an address: percent-encoded, whatever it is made of."""
    return value if isinstance(value, Verbatim) else quote(written(value), safe="")


FILTERS: dict[str, Callable[..., Any]] = {
    "base64": _base64,
    "capitalize": lambda text: written(text)[:1].upper() + written(text)[1:],
    "date": lambda at: f"{at:%Y-%m-%d}",
    "day": _day,
    "default": _default,
    "first": lambda values: next(iter(values), None),
    "float": float,
    "int": int,
    "join": join,
    "last": lambda values: list(counted(values))[-1] if values else None,
    "length": len,
    "list": lambda values: list(counted(values)),
    "lower": lambda text: written(text).lower(),
    "max": lambda values: max(_comparable(values)),
    "min": lambda values: min(_comparable(values)),
    "path": _path,
    "points": _points,
    "scale": scaled,
    "replace": _replace,
    "round": _round,
    "sort": lambda values: sorted(_comparable(values)),
    "string": written,
    "sum": lambda values: sum(counted(values)),
    "time": lambda at: f"{at:%H:%M}",
    "title": lambda text: written(text).title(),
    "trim": lambda text: written(text).strip(),
    "upper": lambda text: written(text).upper(),
}
"""What may stand behind a bar. `date`, `time` and `day` write an instant down; `points` and `scale`
shape a waveform for a network's field."""

GIVE_WHAT_CAME = frozenset({"base64", "default", "first", "last"})
"""Filters that make nothing grow: Base64 of sound is as large as the sound."""
