"""Telephone numbers as people write them, in the one form in which they are compared (E.164)."""

from __future__ import annotations

import re
from collections.abc import Iterable

from fond_echo.core.telephony.errors import MalformedValue

_WRITTEN = re.compile(r"[+0-9 ()./\-]+")
_NAME = re.compile(r"[A-Za-z0-9][A-Za-z0-9._\-]*")
MAX_DIGITS = 15
"""Digits of a number in the world (E.164 §6)."""

MIN_DIGITS = 7
"""With fewer digits it is an extension, and stays as it is."""


def normalized(text: str, country: str = "") -> str:
    """A number as + and digits; extensions and names as they are.

    Args:
        country: the code that a national number, one that begins with 0, is completed by.

    Raises:
        MalformedValue: it is no number.
    """
    stripped = text.strip()
    if not _WRITTEN.fullmatch(stripped):
        if _NAME.fullmatch(stripped) and len(stripped) <= 60:
            return stripped
        raise MalformedValue(f"{text[:60]!r} is no number")
    stripped = stripped.replace("(0)", "").lstrip("(")
    digits = re.sub(r"\D", "", stripped)
    if stripped.startswith("+"):
        found = digits
    elif stripped.startswith("00"):
        found = digits[2:]
    elif stripped.startswith("0") and country:
        found = country + digits[1:]
    elif len(digits) < MIN_DIGITS:
        if not digits:
            raise MalformedValue(f"{text[:60]!r} is no number")
        return digits
    else:
        found = digits
    if not MIN_DIGITS <= len(found) <= MAX_DIGITS or found.startswith("0") or "+" in stripped[1:]:
        raise MalformedValue(f"{text[:60]!r} is no number of the world: + and 7 to 15 digits")
    return f"+{found}"


def is_allowed(number: str, patterns: Iterable[str], country: str = "") -> bool:
    """Whether a number is among those allowed: as it is, or as a beginning before a `*`."""
    for pattern in patterns:
        if pattern.endswith("*"):
            begin = pattern[:-1].replace(" ", "")
            if begin and number.startswith(begin):
                return True
        elif normalized(pattern, country) == number:
            return True
    return False
