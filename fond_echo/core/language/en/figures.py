"""Figures as they are said: times, dates, money, fractions, units, codes, addresses (English)."""

from __future__ import annotations

import re

from fond_echo.core.language.en.numbers import (
    MAX_FIGURES,
    TENS,
    cardinal,
    cardinal_of,
    digits,
    ordinal,
    year,
)

MONTHS = (
    "january february march april may june july august september october november december"
).split()

UNITS = {
    "km/h": ("kilometre an hour", "kilometres an hour"),
    "m/s": ("metre a second", "metres a second"),
    "mph": ("mile an hour", "miles an hour"),
    "km": ("kilometre", "kilometres"),
    "kg": ("kilogram", "kilograms"),
    "kn": ("knot", "knots"),
    "kt": ("knot", "knots"),
    "mm": ("millimetre", "millimetres"),
    "cm": ("centimetre", "centimetres"),
    "ml": ("millilitre", "millilitres"),
    "ft": ("foot", "feet"),
    "lb": ("pound", "pounds"),
    "kb": ("kilobyte", "kilobytes"),
    "mb": ("megabyte", "megabytes"),
    "gb": ("gigabyte", "gigabytes"),
    "sqm": ("square metre", "square metres"),
    "sqkm": ("square kilometre", "square kilometres"),
    "sqcm": ("square centimetre", "square centimetres"),
    "cum": ("cubic metre", "cubic metres"),
    "kwh": ("kilowatt hour", "kilowatt hours"),
    "kw": ("kilowatt", "kilowatts"),
    "hz": ("hertz", "hertz"),
    "khz": ("kilohertz", "kilohertz"),
    "min": ("minute", "minutes"),
    "mins": ("minute", "minutes"),
    "sec": ("second", "seconds"),
    "secs": ("second", "seconds"),
    "hr": ("hour", "hours"),
    "hrs": ("hour", "hours"),
    "h": ("hour", "hours"),
    "m": ("metre", "metres"),
    "g": ("gram", "grams"),
    "l": ("litre", "litres"),
    "p": ("penny", "pence"),
    "°c": ("degree celsius", "degrees celsius"),
    "°f": ("degree fahrenheit", "degrees fahrenheit"),
}
"""What stands behind an amount, for one and for more."""

_SINGLE_LETTERS = frozenset("hmglp")
"""In capitals they are no units: 5G, 2M."""

_CURRENCIES = {
    "£": ("pound", "pounds", "pence"),
    "$": ("dollar", "dollars", "cents"),
    "€": ("euro", "euros", "cents"),
}
_CURRENCY_CODES = {"GBP": "£", "USD": "$", "EUR": "€"}
_LARGE = {"k": "thousand", "m": "million", "bn": "billion"}
_MARKS = {".": "dot", "@": "at", "/": "slash", "_": "underscore", "+": "plus", "-": "dash"}
_FRACTIONS = {
    "1/2": "half", "1/3": "a third", "2/3": "two thirds", "1/4": "a quarter",
    "3/4": "three quarters",
}  # fmt: skip


def clock(hour: int, minute: int) -> list[str]:
    """A time of day as it is said on a twelve-hour clock: 16:10 → ten past four."""
    if minute == 0 and hour in (0, 12):
        return ["midnight"] if hour == 0 else ["noon"]
    this, following = cardinal((hour - 1) % 12 + 1), cardinal(hour % 12 + 1)
    if minute == 0:
        return [*this, "o'clock"]
    if minute in (15, 30, 45):
        name = {15: "quarter", 30: "half", 45: "quarter"}[minute]
        return [name, "to", *following] if minute == 45 else [name, "past", *this]
    if minute % 5 == 0:
        if minute < 30:
            return [*cardinal(minute), "past", *this]
        return [*cardinal(60 - minute), "to", *following]
    return [*this, *(["oh"] if minute < 10 else []), *cardinal(minute)]


def number(text: str) -> list[str]:
    sign = ["minus"] if text.startswith("-") else []
    whole, _, fraction = text.lstrip("-").replace(",", "").partition(".")
    if not whole:
        return [*sign, "point", *digits(fraction)]
    long = len(whole) > 6 and "," not in text and not whole.endswith("000")
    if len(whole) > 1 and (whole.startswith("0") or long):
        words = digits(whole)
    elif len(whole) == 4 and not fraction and "," not in text and 1_900 <= int(whole) <= 2_099:
        words = year(int(whole))
    else:
        words = cardinal_of(whole)
    return sign + words + (["point", *digits(fraction)] if fraction else [])


def code(text: str) -> list[str]:
    """Letters and digits together: KS4L, AB123, B12, mp3, covid19."""
    runs = re.findall(r"[^\W\d_]+|\d+", text)
    words: list[str] = []
    spelled = False
    for run in runs:
        if run[0].isdecimal():
            short = len(runs) == 2 and len(run) < 3 and run[0] != "0"
            words += cardinal_of(run) if short or not spelled else digits(run)
            continue
        vowels = set(run.lower()) & set("aeiouy")
        spelled = run.isupper() or len(run) < 3 or not vowels
        words += list(run.lower()) if spelled else [run.lower()]
    return words


def time(text: str) -> list[str]:
    match = re.match(r"(\d+)(?:[:.](\d\d))?\s?([ap])?", text, re.IGNORECASE)
    assert match is not None
    hour, minute, half = int(match[1]), int(match[2] or 0), match[3]
    if half:
        words = cardinal(hour) + ([] if not minute else _minutes(minute))
        return [*words, half.lower(), "m"]
    return clock(hour, minute)


def clock_time(text: str) -> list[str]:
    """With seconds: 16:10:30."""
    hour, minute, second = map(int, text.split(":"))
    unit = "second" if second == 1 else "seconds"
    return [*cardinal(hour), *_minutes(minute), "and", *cardinal(second), unit]


def _minutes(minute: int) -> list[str]:
    return (["oh"] if minute < 10 else []) + cardinal(minute)


def date(text: str) -> list[str]:
    """Of figures: the year first, or the day."""
    pieces = [int(piece) for piece in re.split(r"[-/.]", text)]
    years, month, day = pieces if "-" in text else pieces[::-1]
    if not (1 <= month <= 12 and 1 <= day <= 31):
        return digits(text)
    return ["the", *ordinal(day), "of", MONTHS[month - 1], *year(years)]


def day(text: str) -> list[str]:
    """3 May, 24 Dec 2026; December 24, May 3, 2026."""
    figures = re.findall(r"\d+", text)
    named = re.search(r"[^\W\d_]+", text)
    assert named is not None
    month = next(each for each in MONTHS if each.startswith(named[0].lower()[:3]))
    day = ordinal(int(figures[0]))
    said = ["the", *day, "of", month] if text[0].isdecimal() else [month, "the", *day]
    return said + (year(int(figures[1])) if figures[1:] else [])


def currency(text: str) -> list[str]:
    """£4.50, £1.5m, € 4,50, 5 $, 20 EUR."""
    sign = next((each for each in _CURRENCIES if each in text), "") or next(
        sign for code, sign in _CURRENCY_CODES.items() if code in text
    )
    one, many, small = _CURRENCIES[sign]
    amount, large = re.findall(r"\d[\d,.]*", text)[0], re.search(r"[a-z]+$", text, re.IGNORECASE)
    if re.fullmatch(r"\d+,\d\d", amount):
        amount = amount.replace(",", ".")
    if large and large[0].upper() not in _CURRENCY_CODES:
        return [*number(amount), _LARGE.get(large[0].lower(), large[0].lower()), many]
    whole, _, part = amount.replace(",", "").partition(".")
    value = int(whole) if len(whole) <= MAX_FIGURES else None
    words = [*cardinal_of(whole), one if value == 1 else many]
    if len(part) > 2:
        return [*number(amount), many]
    part = part.ljust(2, "0")
    if int(part) == 0:
        return words
    if value == 0:
        return [*cardinal(int(part)), small]
    return words + cardinal(int(part))


def fraction(text: str) -> list[str]:
    """1/2, 2 3/4; anything else is said as it stands."""
    whole, _, part = text.rpartition(" ")
    words = _FRACTIONS.get(part)
    if words is None:
        return [word for figure in re.findall(r"\d+", text) for word in cardinal_of(figure)]
    if not whole:
        return words.split()
    return [*number(whole), "and", *("a half" if words == "half" else words).split()]


def decade(text: str) -> list[str]:
    """The 90s, the 1990s."""
    tens = TENS[int(text[-3])][:-1] + "ies"
    return [*(cardinal(int(text[:2])) if len(text) > 3 else []), tens]


def unit(text: str) -> list[str]:
    """An amount with a unit."""
    match = re.match(r"(.*?\d)\s?([^\d\s,.]\S*)$", text)
    assert match is not None
    if match[2].lower() in _SINGLE_LETTERS and match[2].isupper():
        return [*number(match[1]), match[2].lower()]
    one, many = UNITS[match[2].lower()]
    return [*number(match[1]), *(one if match[1] in ("1", "-1") else many).split()]


def address(text: str) -> list[str]:
    """Of mail or of a page: every dot and slash is said."""
    words: list[str] = []
    text = re.sub(r"^https?://", "", text)
    for piece in re.findall(r"[^\W\d_]+|\d+|[.@/_+-]", text):
        if piece in _MARKS:
            words.append(_MARKS[piece])
        elif piece.isdecimal():
            words += digits(piece)
        else:
            words += list("www") if piece.lower() == "www" else [piece.lower()]
    return words
