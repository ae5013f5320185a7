"""What the built-in types are worth: numbers, times, dates, durations, money, spelled words.

Each has a rule in builtin.abnf, which says how it sounds; here the tokens that the rule matched
become a value. Relative ones are meant from a clock that is handed in.
"""

from __future__ import annotations

from collections.abc import Callable, Sequence
from datetime import date, datetime, timedelta
from functools import lru_cache
from importlib import resources
from typing import Any

from fond_echo.core.grammar.abnf import read_abnf
from fond_echo.core.grammar.model import Grammar
from fond_echo.core.language.en.figures import MONTHS
from fond_echo.core.language.en.numbers import digits_of, ordinal_value, value_of
from fond_echo.core.language.en.spoken import spoken_tokens

WEEKDAYS = "monday tuesday wednesday thursday friday saturday sunday".split()
SPOTTED = ("date", "time", "duration", "currency")
BEFORE_HALF = ((), ("in", "the"))
OPENING = frozenset(
    [
        *MONTHS,
        *WEEKDAYS,
        *"today tonight tomorrow yesterday noon midnight midday half quarter".split(),
    ]
)
_SECONDS = {"second": 1, "minute": 60, "hour": 3_600, "day": 86_400, "week": 604_800}
_PAST = {"five": 5, "ten": 10, "quarter": 15, "twenty": 20, "half": 30}
_CURRENCY = {
    "pound": "GBP",
    "dollar": "USD",
    "euro": "EUR",
    "pence": "GBP",
    "pee": "GBP",
    "cent": "USD",
}

Tokens = Sequence[str]


@lru_cache(maxsize=1)
def builtin_grammar() -> Grammar:
    """The rules of the built-in types."""
    text = (resources.files(__package__) / "builtin.abnf").read_text("utf-8")
    grammar = read_abnf(text, spoken=spoken_tokens)
    return Grammar(grammar.rules, grammar.root, grammar.language, {"builtin:": grammar})


def _number(tokens: Tokens) -> int | float | None:
    rest = list(tokens)
    sign = -1 if rest[:1] == ["minus"] else 1
    rest = rest[1:] if sign < 0 else rest
    named = _NAMED_NUMBERS.get(" ".join(rest))
    if named is not None:
        return named
    if rest[-3:] == ["and", "a", "half"]:
        half = _number(rest[:-3])
        return None if half is None else sign * (half + 0.5)
    words, _, fraction = _split(rest, "point")
    words = ["one" if word == "a" else word for word in words]
    whole = value_of(words)
    if whole is None:
        return None
    if not fraction:
        return sign * whole
    behind = digits_of(fraction)
    return None if behind is None else sign * float(f"{whole}.{behind}")


_NAMED_NUMBERS = {"a dozen": 12, "half a dozen": 6, "a couple": 2}


def _split(tokens: list[str], word: str) -> tuple[list[str], str, list[str]]:
    if word not in tokens:
        return tokens, "", []
    at = tokens.index(word)
    return tokens[:at], word, tokens[at + 1 :]


def _digits(tokens: Tokens) -> str | None:
    found, times = "", 1
    for token in tokens:
        if token in ("double", "triple"):
            times = 2 if token == "double" else 3
            continue
        digit = digits_of([token])
        if digit is None:
            return None
        found, times = found + digit * times, 1
    return found or None


def _spelled(tokens: Tokens) -> str | None:
    found, words = "", list(tokens)
    while words:
        word = words.pop(0)
        digit = digits_of([word]) if word != "o" else None
        found += digit or word
        if words[:1] == ["for"]:
            # "b for boat": what comes up to the next letter says nothing new.
            words.pop(0)
            while words and len(words[0]) > 1 and digits_of([words[0]]) is None:
                words.pop(0)
    return found.upper() or None


_PARTS = {
    ("a", "m"): "am", ("p", "m"): "pm", ("am",): "am", ("pm",): "pm",
    ("in", "the", "morning"): "am", ("this", "morning"): "am",
    ("in", "the", "afternoon"): "pm", ("this", "afternoon"): "pm", ("in", "the", "evening"): "pm",
    ("this", "evening"): "pm", ("at", "night"): "pm", ("tonight",): "pm",
}  # fmt: skip


def _time(tokens: Tokens, now: datetime) -> str | None:
    words, half = list(tokens), ""
    if words[:1] == ["in"]:
        seconds = _seconds(words[1:])
        return None if seconds is None else f"{now + timedelta(seconds=seconds):%H:%M}"
    for ending, named in _PARTS.items():
        if tuple(words[-len(ending) :]) == ending:
            words, half = words[: -len(ending)], named
            break
    if words[:1] == ["at"]:
        words = words[1:]
    named_hour = {"noon": 12, "midday": 12, "midnight": 0}.get(words[0] if words else "")
    if named_hour is not None:
        return f"{named_hour:02d}:00"
    found = _hour_and_minute([word for word in words if word != "a"])
    if found is None:
        return None
    hour, minute = found
    if hour > 12 or hour == 0:
        return f"{hour % 24:02d}:{minute:02d}"
    if half:
        return f"{hour % 12 + (12 if half == 'pm' else 0):02d}:{minute:02d}"
    return f"{_next_of(hour % 12, minute, now):02d}:{minute:02d}"


def _next_of(hour: int, minute: int, now: datetime) -> int:
    """Of the two times a day that an hour names, the one that comes next."""
    minutes = now.hour * 60 + now.minute
    return min((hour, hour + 12), key=lambda h: (h * 60 + minute - minutes) % 1_440)


def _hour_and_minute(words: list[str]) -> tuple[int, int] | None:
    for between in ("past", "to"):
        before, found, after = _split(words, between)
        if found:
            minute = sum(_PAST.get(word, 0) for word in before)
            named = value_of(after)
            if named is None or not minute:
                return None
            return (named, minute) if between == "past" else ((named - 2) % 12 + 1, 60 - minute)
    words = [word for word in words if word not in ("o'clock", "hundred", "hours")]
    for cut in range(len(words), 0, -1):
        hour = value_of(words[:cut])
        rest = words[cut:]
        past = 0 if not rest else value_of(rest[1:] if rest[0] == "oh" else rest)
        if hour is not None and past is not None and hour < 24 and past < 60:
            return hour, past
    return None


def _seconds(tokens: Tokens) -> float | None:
    """How long a duration lasts."""
    total, last = 0.0, 0
    words: list[str] = []
    left = list(tokens)
    while left:
        word = left.pop(0)
        unit = _SECONDS.get(word.removesuffix("s"))
        if unit is None:
            if word != "and" or words:
                words.append(word)
            if words == ["a", "half"] and not left and last:
                total += last / 2
                words = []
            continue
        amount = _amount(words)
        if amount is None:
            return None
        total, words, last = total + amount * unit, [], unit
    return total if not words else None


def _amount(words: list[str]) -> float | None:
    if words in (["a"], ["an"]):
        return 1.0
    if words[:1] == ["half"]:
        return 0.5
    if words == ["a", "couple", "of"]:
        return 2.0
    if words[-3:] == ["and", "a", "half"]:
        whole = value_of(words[:-3])
        return None if whole is None else whole + 0.5
    number = _number(words)
    return None if number is None else float(number)


def _duration(tokens: Tokens) -> str | None:
    """ISO 8601."""
    seconds = _seconds(tokens)
    if seconds is None:
        return None
    left, text = round(seconds), "P"
    days, left = divmod(left, 86_400)
    text += f"{days}D" if days else ""
    if left or not days:
        text += "T"
        for unit, size in (("H", 3_600), ("M", 60), ("S", 1)):
            count, left = divmod(left, size)
            text += f"{count}{unit}" if count else ""
        text = text if text[-1] != "T" else "PT0S"
    return text


def _date(tokens: Tokens, now: datetime) -> str | None:
    found = _day(list(tokens), now.date())
    return found.isoformat() if found else None


def _day(words: list[str], today: date) -> date | None:
    fixed = {"today": 0, "tonight": 0, "tomorrow": 1, "yesterday": -1, "the day after tomorrow": 2,
             "a week today": 7, "a week tomorrow": 8}  # fmt: skip
    text = " ".join(words)
    if text in fixed:
        return today + timedelta(days=fixed[text])
    if words[:1] == ["in"]:
        count = 1 if words[1] == "a" else value_of(words[1:-1])
        size = {"week": 7, "weeks": 7, "fortnight": 14}.get(words[-1], 1)
        return None if count is None else today + timedelta(days=count * size)
    weekday = next((word for word in words if word in WEEKDAYS), None)
    rest = [
        w for w in words if w not in ("on", "the", "of", "this", "next", "coming") and w != weekday
    ]
    if weekday and rest in (["a", "week"], ["week"]):
        return today + timedelta(days=(WEEKDAYS.index(weekday) - today.weekday()) % 7 + 7)
    if not rest:
        assert weekday is not None
        ahead = (WEEKDAYS.index(weekday) - today.weekday()) % 7
        if ahead == 0 and "this" not in words:
            ahead = 7
        return today + timedelta(days=ahead)
    month = next((MONTHS.index(word) + 1 for word in rest if word in MONTHS), None)
    before, _, after = _split(rest, MONTHS[month - 1] if month else "")
    return _calendar_day(before, after, month, today)


def _calendar_day(
    before: list[str], after: list[str], month: int | None, today: date
) -> date | None:
    day = _day_number(before) if before else None
    year: int | None = None
    if before and after:
        year = _year(after)
    elif after:
        for cut in range(len(after), 0, -1):
            day = _day_number(after[:cut])
            if day is not None and (cut == len(after) or _year(after[cut:])):
                year = _year(after[cut:]) if cut < len(after) else None
                break
    if day is None:
        return None
    for ahead in range(13):
        months = (month or today.month + ahead) - 1
        this_year = year or today.year + (ahead if month else 0) + months // 12
        try:
            found = date(this_year, months % 12 + 1, day)
        except ValueError:
            continue
        if year or found >= today:
            return found
    return None


def _day_number(words: list[str]) -> int | None:
    number = ordinal_value(words)
    if number is None:
        number = value_of(words)
    return number if number is not None and 1 <= number <= 31 else None


def _year(words: list[str]) -> int | None:
    whole = value_of(words)
    if whole is not None and 1_900 <= whole <= 2_099:
        return whole
    high = value_of(words[:1]) if words else None
    rest = [word for word in words[1:] if word != "oh"]
    low = value_of(rest) if rest else None
    if high in (19, 20) and low is not None and low < 100:
        return high * 100 + low
    return None


def _money(tokens: Tokens) -> dict[str, Any] | None:
    words = [word for word in tokens if word != "and"]
    names = [word for word in words if word.removesuffix("s") in _CURRENCY]
    currency = _CURRENCY[names[0].removesuffix("s")]
    if names[0].removesuffix("s") in ("pence", "pee", "cent"):
        small = value_of(words[: words.index(names[0])])
        return None if small is None else {"amount": small / 100, "currency": currency}
    before, _, after = _split(words, names[0])
    whole = value_of(["one" if word == "a" else word for word in before])
    left = [word for word in after if word not in names and word not in ("pence", "pee")]
    part = value_of(left) if left else 0
    if whole is None or part is None:
        return None
    return {"amount": whole + part / 100, "currency": currency}


_PLAIN: dict[str, Callable[[Tokens], Any]] = {
    "number": _number,
    "digits": _digits,
    "digit": _digits,
    "spelled": _spelled,
    "duration": _duration,
    "currency": _money,
}
_CLOCKED: dict[str, Callable[[Tokens, datetime], Any]] = {"time": _time, "date": _date}


def value_of_kind(kind: str, tokens: Tokens, literal: str | None, now: datetime) -> Any:
    """The value of a built-in type: a number, or text; money as {amount, currency}, times as
    HH:MM, dates and durations in ISO 8601. None where the tokens make none."""
    if kind == "boolean":
        return literal == "yes"
    if kind in _CLOCKED:
        return _CLOCKED[kind](tokens, now)
    return _PLAIN[kind](tokens)


def shortened(kind: str, tokens: Tokens) -> list[str] | None:
    """Where a time is asked for, "about nine" is one; "no, the other one" is a no."""
    words = list(tokens)
    if kind == "boolean":
        return words[:1]
    if kind != "time":
        return None
    while words and words[0] in ("at", "about", "around", "say", "maybe", "by", "from"):
        words = words[1:]
    return ["at", *words]
