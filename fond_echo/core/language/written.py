"""Spoken tokens as they are written: numbers, times, money, capitals, a closing sign (English)."""

from __future__ import annotations

from collections.abc import Collection

from fond_echo.core.language.numbers import (
    UNITS,
    digits_of,
    is_number_word,
    ordinal_value,
    value_of,
)
from fond_echo.core.language.spoken import MONTHS

_ASKING = frozenset(
    (
        "what when where who whom whose which why how is are was were do does did can "
        "could will would shall should may have has am"
    ).split()
)
_ALWAYS_CAPITAL = frozenset(
    [
        *MONTHS,
        *"monday tuesday wednesday thursday friday saturday sunday i i'm i'll i've i'd".split(),
    ]
) - {"may", "march"}
_MINUTES = {"five": 5, "ten": 10, "twenty": 20, "quarter": 15, "half": 30}
_MONEY = {"pound": "£", "pounds": "£", "dollar": "$", "dollars": "$", "euro": "€", "euros": "€"}


def _hour(token: str) -> int | None:
    return UNITS.index(token) if token in UNITS[1:13] else None


def _time(tokens: list[str]) -> tuple[str, int] | None:
    """A time at the start of the tokens: how it is written, and how many tokens it took."""
    if tokens[:1] == ["twenty"] and tokens[1:2] == ["five"]:
        minutes, used = 25, 2
    elif tokens and tokens[0] in _MINUTES:
        minutes, used = _MINUTES[tokens[0]], 1
    else:
        minutes, used = -1, 0
    if minutes > 0 and len(tokens) > used + 1 and tokens[used] in ("past", "to"):
        hour = _hour(tokens[used + 1])
        if hour is not None:
            if tokens[used] == "to":
                hour, minutes = (hour - 2) % 12 + 1, 60 - minutes
            return f"{hour}:{minutes:02d}", used + 2
    hour = _hour(tokens[0]) if tokens else None
    if hour is None or len(tokens) < 2:
        return None
    if tokens[1] == "o'clock":
        return f"{hour}:00", 2
    if tokens[1:3] in (["a", "m"], ["p", "m"]):
        return f"{hour} {tokens[1]}m", 3
    if tokens[1] == "oh" and len(tokens) > 2 and tokens[2] in UNITS[1:10]:
        return f"{hour}:0{UNITS.index(tokens[2])}", 3
    return None


def _run(tokens: list[str]) -> int:
    """How many tokens at the start belong to one number."""
    count = 0
    while count < len(tokens):
        joins = tokens[count] == "and" and count and is_number_word(tokens[count - 1])
        after = tokens[count + 1 : count + 2]
        if (
            is_number_word(tokens[count])
            or (joins and after and is_number_word(after[0]))
            or (tokens[count] == "oh" and count and tokens[count - 1] in UNITS[:10])
        ):
            count += 1
        else:
            break
    return count


def _number(tokens: list[str]) -> tuple[str, int] | None:
    """A number at the start of the tokens; small ones by themselves stay words."""
    count = _run(tokens)
    for used in range(min(count + 1, len(tokens)), 0, -1):
        place = ordinal_value(tokens[:used])
        if place is not None and place > 9 and used > 1:
            ending = (
                "th" if 10 < place % 100 < 14 else {1: "st", 2: "nd", 3: "rd"}.get(place % 10, "th")
            )
            return f"{place}{ending}", used
    if not count:
        return None
    after = tokens[count] if len(tokens) > count else ""
    spelled = digits_of(tokens[:count])
    if spelled is not None and count > 2:
        return spelled, count
    for used in range(count, 0, -1):
        value = value_of(tokens[:used])
        if value is None:
            continue
        if used == count and after in _MONEY:
            return f"{_MONEY[after]}{value}", used + 1
        if used == count and after == "percent":
            return f"{value}%", used + 1
        return (str(value), used) if value > 9 else (" ".join(tokens[:used]), used)
    return None


def written_text(tokens: Collection[str], names: Collection[str] = ()) -> str:
    """Spoken tokens in written form.

    Args:
        tokens: spoken words in order.
        names: words written with a capital, in any case ("Brannick", "Little Marrow").

    >>> written_text("when is the boat at ten past four to brannick".split(), ["Brannick"])
    'When is the boat at 4:10 to Brannick?'
    """
    rest = list(tokens)
    asks = bool(rest) and rest[0] in _ASKING
    capitals = {part.lower() for name in names for part in name.split()} | _ALWAYS_CAPITAL
    out: list[str] = []
    while rest:
        found = _time(rest) or _number(rest)
        if found:
            text, used = found
        else:
            word, used = rest[0], 1
            text = word[0].upper() + word[1:] if word in capitals else word
        out.append(text)
        rest = rest[used:]
    if not out:
        return ""
    text = " ".join(out)
    return text[0].upper() + text[1:] + ("?" if asks else ".")
