"""What figures in a text say that its spoken words do not.

"09:30" is in the morning and "16:10" in the afternoon, though both are said on a clock of twelve
hours; "960-123" is six digits.
"""

from __future__ import annotations

import re

_CLOCK = re.compile(
    r"(?<![\d:.])(0\d|1[3-9]|2[0-3]|0)[:.]([0-5]\d)(?![\d:.]*\d|\s?[ap]\.?m\b)", re.I
)
_HOURS = re.compile(r"(?<!\d)([01]\d|2[0-3])([0-5]\d)\s?(?:hours|hrs|h)\b", re.I)
_FIGURES = re.compile(r"\+?\d[\d\s()./-]*")


def typed_time(text: str) -> str | None:
    """The one time in a text that can be meant but once a day, as HH:MM; None where there is none,
    or more."""
    found = [*_CLOCK.findall(text), *_HOURS.findall(text)]
    return f"{int(found[0][0]):02d}:{found[0][1]}" if len(found) == 1 else None


def typed_digits(text: str) -> str | None:
    """All digits of a text that is nothing but figures and the signs that stand between them."""
    text = text.strip().rstrip(".!?").lstrip("(")
    return re.sub(r"\D", "", text) if _FIGURES.fullmatch(text) else None
