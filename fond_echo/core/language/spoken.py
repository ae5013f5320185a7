"""Text as it is spoken: one list of lower-case words, no digits, no signs (English).

This is the form in which typed and heard text meet: examples, typed questions and transcripts
are all compared as spoken tokens, and the synthesizer speaks them.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable
from dataclasses import dataclass

from fond_echo.core.language.numbers import cardinal, digits, ordinal, year

MONTHS = (
    "january february march april may june july august september october november december"
).split()

_ABBREVIATIONS = {
    "mr": ["mister"],
    "mrs": ["missus"],
    "dr": ["doctor"],
    "st": ["saint"],
    "no": ["number"],
    "e.g": ["for", "example"],
    "i.e": ["that", "is"],
    "etc": ["and", "so", "on"],
    "approx": ["approximately"],
    "min": ["minutes"],
    "hrs": ["hours"],
    "tel": ["telephone"],
}
_SIGNS = {"&": ["and"], "+": ["plus"], "=": ["equals"], "@": ["at"], "°": ["degrees"]}
_CURRENCIES = {
    "£": ("pound", "pounds", "pence"),
    "$": ("dollar", "dollars", "cents"),
    "€": ("euro", "euros", "cents"),
}
_UNITS = {
    "km": "kilometres",
    "kg": "kilograms",
    "kn": "knots",
    "kt": "knots",
    "mm": "millimetres",
    "cm": "centimetres",
    "°c": "degrees celsius",
    "p": "pence",
}

_MONTH = "|".join(
    # "I may 3 times" has no date in it, and "march 5 miles" neither.
    f"(?-i:{month[:3].capitalize()}(?:{month[3:]})?)"
    if month in ("march", "may")
    else f"{month[:3]}(?:{'t|' if month == 'september' else ''}{month[3:]})?"
    for month in MONTHS
)
_TOKEN = re.compile(
    r"""
      (?P<phone>\+\d[\d ()-]{6,}\d | \b0\d{3,4}[ ]\d{6}\b)
    | (?P<date>\b\d{4}-\d{2}-\d{2}\b | (?<![\w/.])\d{1,2}/\d{1,2}/\d{4}(?![\w/])
      | (?<![\w/.])\d{1,2}\.\d{1,2}\.\d{4}\b)
    | (?P<day>\b(?:[12]\d|3[01]|0?[1-9])\s(?:MONTH|may|march)\b\.?(?:,?\s(?:19|20)\d\d\b)?)
    | (?P<month>\b(?:MONTH)\b\.?\s(?:[12]\d|3[01]|0?[1-9])\b(?![:.,]?\d|\s?[ap]m)
      (?:,?\s(?:19|20)\d\d\b)?)
    | (?P<time>\b(?:[01]?\d|2[0-3])[:.][0-5]\d(?!\d|[.:]\d)(?:\s?[ap]\.?m\b\.?)?)
    | (?P<hour>\b(?:1[0-2]|[1-9])\s?[ap]\.?m\b\.?)
    | (?P<money>[£$€]\s?\d[\d,]*(?:\.\d{2})?)
    | (?P<percent>\d[\d,]*(?:\.\d+)?\s?%)
    | (?P<ordinal>\b\d+(?:st|nd|rd|th)\b)
    | (?P<unit>-?\d[\d,]*(?:\.\d+)?\s?(?:km|kg|kn|kt|mm|cm|°c)\b | \b\d+p\b)
    | (?P<code>(?<!\w)(?!\d+s\b)(?=[^\W\d_]*\d)(?=\d*[^\W\d_])[^\W_]+)
    | (?P<number>(?:(?<![\w-])-)?(?<!\w)\d[\d,]*(?:\.\d+)?)
    | (?P<short>\b(?:mr|mrs|dr|st|no|e\.g|i\.e|etc|approx|min|hrs|tel)\.(?=\s|$|,))
    | (?P<word>[^\W\d_]+(?:['’][^\W\d_]+)*)
    | (?P<sign>[&+=@°])
    """.replace("MONTH", _MONTH),
    re.VERBOSE | re.IGNORECASE,
)


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


def _number(text: str) -> list[str]:
    sign = ["minus"] if text.startswith("-") else []
    whole, _, fraction = text.lstrip("-").replace(",", "").partition(".")
    if len(whole) > 1 and (whole.startswith("0") or (len(whole) > 6 and "," not in text)):
        words = digits(whole)
    elif len(whole) == 4 and not fraction and "," not in text and 1_900 <= int(whole) <= 2_099:
        words = year(int(whole))
    else:
        words = cardinal(int(whole))
    return sign + words + (["point", *digits(fraction)] if fraction else [])


def _code(text: str) -> list[str]:
    """Letters and digits together: KS4L, AB123, B12, mp3, covid19."""
    runs = re.findall(r"[^\W\d_]+|\d+", text)
    words: list[str] = []
    spelled = False
    for run in runs:
        if run[0].isdigit():
            short = len(runs) == 2 and len(run) < 3 and run[0] != "0"
            words += cardinal(int(run)) if short or not spelled else digits(run)
            continue
        vowels = set(run.lower()) & set("aeiouy")
        spelled = run.isupper() or len(run) < 3 or not vowels
        words += list(run.lower()) if spelled else [run.lower()]
    return words


def _time(text: str) -> list[str]:
    match = re.match(r"(\d+)(?:[:.](\d\d))?\s?([ap])?", text, re.IGNORECASE)
    assert match is not None
    hour, minute, half = int(match[1]), int(match[2] or 0), match[3]
    if half:
        words = cardinal(hour) + ([] if not minute else _minutes(minute))
        return [*words, half.lower(), "m"]
    return clock(hour, minute)


def _minutes(minute: int) -> list[str]:
    return (["oh"] if minute < 10 else []) + cardinal(minute)


def _money(text: str) -> list[str]:
    one, many, small = _CURRENCIES[text[0]]
    whole, _, part = text[1:].strip().replace(",", "").partition(".")
    words = [*cardinal(int(whole)), one if int(whole) == 1 else many]
    if not part or int(part) == 0:
        return words
    if int(whole) == 0:
        return [*cardinal(int(part)), small]
    return words + cardinal(int(part))


def _date(text: str) -> list[str]:
    """Of figures: the year first, or the day."""
    pieces = [int(piece) for piece in re.split(r"[-/.]", text)]
    years, month, day = pieces if "-" in text else pieces[::-1]
    if not (1 <= month <= 12 and 1 <= day <= 31):
        return digits(text)
    return ["the", *ordinal(day), "of", MONTHS[month - 1], *year(years)]


def _day(text: str) -> list[str]:
    """3 May, 24 Dec 2026; December 24, May 3, 2026."""
    figures = re.findall(r"\d+", text)
    named = re.search(r"[^\W\d_]+", text)
    assert named is not None
    month = next(each for each in MONTHS if each.startswith(named[0].lower()[:3]))
    day = ordinal(int(figures[0]))
    said = ["the", *day, "of", month] if text[0].isdigit() else [month, "the", *day]
    return said + (year(int(figures[1])) if figures[1:] else [])


def _word(text: str) -> list[str]:
    if text.isupper() and 2 <= len(text) <= 5 and not set(text) & set("AEIOUY"):
        return list(text.lower())
    return [text.lower().replace("’", "'")]


def _unit(text: str) -> list[str]:
    match = re.match(r"(.*?\d)\s?([^\d\s]+)$", text)
    assert match is not None
    return _number(match[1]) + _UNITS[match[2].lower()].split()


_READERS: dict[str, Callable[[str], list[str]]] = {
    "phone": digits,
    "date": _date,
    "day": _day,
    "month": _day,
    "time": _time,
    "hour": _time,
    "money": _money,
    "percent": lambda text: [*_number(text.rstrip("% ")), "percent"],
    "ordinal": lambda text: ordinal(int(text[:-2])),
    "unit": _unit,
    "code": _code,
    "number": _number,
    "short": lambda text: _ABBREVIATIONS[text[:-1].lower()],
    "word": _word,
    "sign": lambda text: _SIGNS[text],
}


def spoken_tokens(text: str) -> list[str]:
    """The words that are said for a text; signs without a sound are left out.

    >>> spoken_tokens("The 16:10 costs £4.50!")
    ['the', 'ten', 'past', 'four', 'costs', 'four', 'pounds', 'fifty']
    """
    text = unicodedata.normalize("NFKC", text)
    tokens: list[str] = []
    for match in _TOKEN.finditer(text):
        assert match.lastgroup is not None
        tokens += _READERS[match.lastgroup](match[0])
    return tokens


@dataclass(frozen=True)
class Phrase:
    """A stretch spoken in one breath.

    Attributes:
        tokens: spoken words.
        pause: seconds of silence after it.
        question: its melody rises.
    """

    tokens: tuple[str, ...]
    pause: float
    question: bool = False


_PAUSES = {".": 0.42, "!": 0.42, "?": 0.45, "\n": 0.5, ";": 0.3, ":": 0.28, ",": 0.18}
_YES_NO = frozenset(
    "is are was were do does did can could will would shall should may have has am".split()
)
DEFAULT_PAUSE = 0.16


def phrases(text: str) -> list[Phrase]:
    """A text cut at its punctuation into phrases with the pauses between them.

    A full stop inside a number, a time or an abbreviation does not cut.
    """
    found: list[Phrase] = []
    for piece in _cut(unicodedata.normalize("NFKC", text)):
        tokens = tuple(spoken_tokens(piece))
        if not tokens:
            continue
        end = piece.rstrip(" ")[-1:]
        asks = piece.rstrip().endswith("?") and tokens[0] in _YES_NO
        found.append(Phrase(tokens, _PAUSES.get(end, DEFAULT_PAUSE), asks))
    return found


def _cut(text: str) -> list[str]:
    pieces: list[str] = []
    start = 0
    for match in re.finditer(r"[.!?;:,—–]+(?=[\s\"')]|$)|\n+", text):
        short = re.search(r"\b(mr|mrs|dr|st|no|e\.g|i\.e|approx|tel)$", text[: match.start()], re.I)
        if match[0] == "." and short:
            continue
        pieces.append(text[start : match.end()])
        start = match.end()
    return [*pieces, text[start:]]
