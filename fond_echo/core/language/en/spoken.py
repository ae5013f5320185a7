"""Text as it is spoken: one list of lower-case words, no digits, no signs (English).

This is the form in which typed and heard text meet: examples, typed questions and transcripts
are all compared as spoken tokens, and the synthesizer speaks them.
"""

from __future__ import annotations

import re
import unicodedata
from collections.abc import Callable

from fond_echo.core.language.en import figures
from fond_echo.core.language.en.figures import MONTHS, UNITS
from fond_echo.core.language.en.numbers import cardinal, digits, ordinal, ordinal_of
from fond_echo.core.language.language import UNFINISHED, Melody, Phrase

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
    "tel": ["telephone"],
    "vs": ["versus"],
    "rd": ["road"],
    "ave": ["avenue"],
    "sq": ["square"],
    "ms": ["miz"],
    "prof": ["professor"],
    "capt": ["captain"],
    "rev": ["reverend"],
    "p": ["page"],
    "pp": ["pages"],
    "max": ["maximum"],
    "min": ["minimum"],
    "ltd": ["limited"],
    "dept": ["department"],
}
_SIGNS = {
    "&": ["and"], "+": ["plus"], "=": ["equals"], "@": ["at"], "°": ["degrees"], "#": ["number"],
    "×": ["times"], "~": ["about"], "≈": ["about"], "≥": ["at", "least"], "≤": ["at", "most"],
    "±": ["plus", "or", "minus"], "<": ["under"], ">": ["over"],
}  # fmt: skip

_MONTH = "|".join(
    # "I may 3 times" has no date in it, and "march 5 miles" neither.
    f"(?-i:{month[:3].capitalize()}(?:{month[3:]})?)"
    if month in ("march", "may")
    else f"{month[:3]}(?:{'t|' if month == 'september' else ''}{month[3:]})?"
    for month in MONTHS
)
_AMOUNT = r"(?:\d+(?:,\d+)*(?:\.\d+)?|(?<![\w.])\.\d+)"
_DAYS = {
    "mon": "monday", "tue": "tuesday", "tues": "tuesday", "wed": "wednesday", "thu": "thursday",
    "thur": "thursday", "thurs": "thursday", "fri": "friday", "sat": "saturday", "sun": "sunday",
}  # fmt: skip
_DAY = "(?-i:" + "|".join(each.capitalize() for each in sorted(_DAYS, key=len, reverse=True)) + ")"
_HOURS_BEFORE = "|".join(
    rf"(?<=\b{word}\s)" for word in "at by from until till before after around about to the".split()
)
"""Words after which figures with a stop between them are a time: "at 9.30"."""

_SPELLED_OUT = frozenset("UK USA EU UN URL FAQ UFO ATM AGM EV ID AI UAE ETA EIN".split())
_ROMAN = {
    "II": 2, "III": 3, "IV": 4, "VI": 6, "VII": 7, "VIII": 8, "IX": 9, "XI": 11, "XII": 12,
    "XIII": 13, "XIV": 14, "XV": 15, "XVI": 16, "XIX": 19, "XX": 20,
}  # fmt: skip
_COUNTED = frozenset("chapter part volume section book act phase type class level".split())
_LARGE = r"(?:\s?(?:k|m|bn|thousand|million|billion)\b)?"
_TOKEN = re.compile(
    r"""
      (?P<address>\b[\w.+-]+@[\w-]+(?:\.[\w-]+)+ | \bwww\.[\w-]+(?:\.[\w-]+)+(?:/[\w./-]*\w)?
      | https?://[\w-]+(?:\.[\w-]+)*(?::\d+)?(?:/[\w./-]*\w)?
      | \b[\w-]+(?:\.[\w-]+)*\.(?:com|org|net|info|example|edu|gov|io|uk|eu|ie)\b(?:/[\w./-]*\w)?)
    | (?P<phone>\+\d[\d ()-]{6,}\d | \b0\d{3,4}[ ]\d{6}\b | \b0\d{2,4}(?:[ -]\d{3,4}){1,3}\b
      | (?<![\w-])\d{3}-\d{3,4}(?:-\d{2,4})?(?![\w-]))
    | (?P<date>\b\d{4}-\d{2}-\d{2}\b | (?<![\w/.])\d{1,2}/\d{1,2}/\d{4}(?![\w/])
      | (?<![\w/.])\d{1,2}\.\d{1,2}\.\d{4}\b)
    | (?P<day>\b(?:[12]\d|3[01]|0?[1-9])\s(?:MONTH|may|march)\b\.?(?:,?\s(?:19|20)\d\d\b)?)
    | (?P<month>\b(?:MONTH)\b\.?\s(?:[12]\d|3[01]|0?[1-9])\b(?![:.,]?\d|\s?[ap]m)
      (?:,?\s(?:19|20)\d\d\b)?)
    | (?P<currency>[£$€]\s?\d+,\d\d(?!\d|,\d) | [£$€]\s?AMOUNT LARGE
      | (?<!\w)AMOUNT\s?(?:[£$€]|(?-i:GBP|EUR|USD)\b) | \b(?-i:GBP|EUR|USD)\s?AMOUNT)
    | (?P<clock>\b(?:[01]?\d|2[0-3]):[0-5]\d:[0-5]\d\b)
    | (?P<time>\b(?:[01]?\d|2[0-3]):[0-5]\d(?!\d|[.:]\d)(?:\s?[ap]\.?m\b\.?)?
      | \b(?:[01]?\d|2[0-3])\.[0-5]\d\s?[ap]\.?m\b\.?
      | \A(?:[01]?\d|2[0-3])\.[0-5]\d\Z
      | (?:HOURS)(?:[01]?\d|2[0-3])\.[0-5]\d(?!\d|[.:]\d|\s?(?:UNIT|%)(?!\w)))
    | (?P<hour>\b(?:1[0-2]|[1-9])\s?[ap]\.?m\b\.?)
    | (?P<fraction>(?<![\d/])(?:\d+\s)?[123]/[234](?![\d/]))
    | (?P<percent>AMOUNT\s?%)
    | (?P<ordinal>\b\d+(?:st|nd|rd|th)\b)
    | (?P<decade>\b(?:1[6-9]|20)?[2-9]0s\b)
    | (?P<unit>(?:(?<![\w-])-)?(?<!\w)AMOUNT\s?(?:UNIT)(?!\w))
    | (?P<code>(?<!\w)(?=[^\W\d_]*\d)(?=\d*[^\W\d_])[^\W_]+)
    | (?P<number>(?:(?<![\w-])-)?(?<!\w)AMOUNT)
    | (?P<short>\b(?:e\.g|i\.e|etc|approx|tel|vs|rd|ave|sq)\.(?=\s|$|,) | \bno\.(?=\s?\d)
      | \b(?:pp?|max|min)\.(?=\s?\d) | \b(?:prof|capt|rev|dept)\.(?=\s) | \b(?-i:Ltd)\b\.?
      | \b(?:mr|mrs|ms|dr)\b\.?(?=\s\w) | \b(?-i:St)\b\.?(?=\s(?-i:[A-Z])))
    | (?P<weekday>\bDAY\b\.?(?=\s\d|,|\s(?:MONTH)\b|\sat\b))
    | (?P<roman>(?<=\w\s)(?-i:ROMAN)\b)
    | (?P<street>\bst\.(?=\W|$))
    | (?P<word>[^\W\d_]+(?:['’][^\W\d_]+)*)
    | (?P<sign>[&+=@°×±] | \#(?=\d) | [~≈≥≤<>](?=\s?[£$€]?\d))
    """.replace("MONTH", _MONTH)
    .replace("AMOUNT", _AMOUNT)
    .replace("LARGE", _LARGE)
    .replace("HOURS", _HOURS_BEFORE)
    .replace("DAY", _DAY)
    .replace("ROMAN", "|".join(sorted(_ROMAN, key=len, reverse=True)))
    .replace("UNIT", "|".join(map(re.escape, sorted(UNITS, key=len, reverse=True)))),
    re.VERBOSE | re.IGNORECASE,
)

_FOLDED = str.maketrans({"\u2044": "/", "\u0131": "i", "\u0130": "I"})
"""The slash of fractions, and letters that match i where case does not count, and are not it."""

_RANGES = (
    re.compile(r"(\d(?:\s?[ap]m)?)\s?[–—]\s?(?=[£$€]?\d)"),
    re.compile(r"(\d[:.][0-5]\d)\s?-\s?(?=\d?\d[:.][0-5]\d)"),
    re.compile(r"(?<![\d.:-])(\d{1,2})-(?=\d{1,2}(?![\d-]))"),
    re.compile(r"([£$€]\d[\d.,]*)\s?-\s?(?=[£$€]\d)"),
    re.compile(r"(?<![\d-])((?:19|20)\d\d)\s?-\s?(?=(?:19|20)\d\d(?![\d-]))"),
)
_FIGURE = re.compile(r"\d")
_TIMES_RANGE = re.compile(
    r"(?<![\d.])([01]?\d|2[0-3])\.([0-5]\d)\s?[-–]\s?([01]?\d|2[0-3])\.([0-5]\d)(?![\d.])"
)
_DAYS_RANGE = re.compile(rf"\b({_DAY})\b\.?\s?[-–—]\s?({_DAY})\b\.?")
_GROUPS = re.compile("(?<=\\d)[\u00a0\u202f\u2009](?=\\d{3}(?!\\d))")
_POWERS = {"km²": "sqkm", "cm²": "sqcm", "m²": "sqm", "m³": "cum"}
"""From … to: of any figures with a dash, of times and small numbers with a hyphen too."""


_PLAIN = re.compile(r"[A-Za-z'’ ,?!]*\.?\s*")
_PLAIN_WORD = re.compile(r"[A-Za-z]+(?:['’][A-Za-z]+)*")
_ODD = frozenset((*_DAYS, *_ABBREVIATIONS))
"""Most texts are words and nothing else; in those that have none of these, words are just that."""


def _word(text: str) -> list[str]:
    if text in _SPELLED_OUT:
        return list(text.lower())
    if text.isupper() and 2 <= len(text) <= 5 and not set(text) & set("AEIOUY"):
        return list(text.lower())
    return [text.lower().replace("’", "'")]


_READERS: dict[str, Callable[[str], list[str]]] = {
    "address": figures.address,
    "phone": digits,
    "date": figures.date,
    "day": figures.day,
    "month": figures.day,
    "clock": figures.clock_time,
    "time": figures.time,
    "hour": figures.time,
    "currency": figures.currency,
    "fraction": figures.fraction,
    "percent": lambda text: [*figures.number(text.rstrip("% ")), "percent"],
    "ordinal": lambda text: ordinal_of(text[:-2]),
    "decade": figures.decade,
    "unit": figures.unit,
    "code": figures.code,
    "number": figures.number,
    "short": lambda text: _ABBREVIATIONS[text.rstrip(".").lower()],
    "weekday": lambda text: [_DAYS[text.rstrip(".").lower()]],
    "street": lambda text: ["street"],
    "word": _word,
    "sign": lambda text: _SIGNS[text],
}


def spoken_tokens(text: str) -> list[str]:
    """The words that are said for a text; signs without a sound are left out.

    >>> spoken_tokens("The 16:10 costs £4.50!")
    ['the', 'ten', 'past', 'four', 'costs', 'four', 'pounds', 'fifty']
    """
    if _PLAIN.fullmatch(text):
        words = _PLAIN_WORD.findall(text)
        if not any(word.lower() in _ODD or not word[1:].islower()
                   for word in words if len(word) > 1):  # fmt: skip
            return [word.lower().replace("’", "'") for word in words]
    return tokens_of(text)


def tokens_of(text: str) -> list[str]:
    """The same for a text of any kind, whatever is in it."""
    if _FIGURE.search(text):
        text = _GROUPS.sub(",", text)
    for sign, name in _POWERS.items():
        text = text.replace(sign, name)
    text = unicodedata.normalize("NFKC", text).translate(_FOLDED)
    if _FIGURE.search(text):
        text = _TIMES_RANGE.sub(r"\1:\2 to \3:\4", text)
        for between in _RANGES:
            text = between.sub(r"\1 to ", text)
    text = _DAYS_RANGE.sub(lambda m: f"{_DAYS[m[1].lower()]} to {_DAYS[m[2].lower()]}", text)
    tokens: list[str] = []
    for match in _TOKEN.finditer(text):
        assert match.lastgroup is not None
        if match.lastgroup == "roman":
            counted = bool(tokens) and tokens[-1] in _COUNTED
            value = _ROMAN[match[0]]
            tokens += cardinal(value) if counted else ["the", *ordinal(value)]
        else:
            tokens += _READERS[match.lastgroup](match[0])
    return tokens


_PAUSES = {".": 0.42, "!": 0.42, "?": 0.45, "\n": 0.5, ";": 0.3, ":": 0.28, ",": 0.18}
_ORDERS = frozenset("press say choose call ring bring send take wait mind please hold".split())
_YES_NO = frozenset(
    "is are was were do does did can could will would shall should may have has am".split()
)


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
        pause = _PAUSES.get(end, UNFINISHED)
        found.append(Phrase(tokens, pause, _melody(tokens, piece.rstrip()[-1:])))
    return found


def _melody(tokens: tuple[str, ...], mark: str) -> Melody:
    if mark == "?":
        return "rise" if tokens[0] in _YES_NO else "wh"
    if mark in (",", ";"):
        return "list"
    return "command" if mark == "!" or tokens[0] in _ORDERS else "fall"


def _cut(text: str) -> list[str]:
    pieces: list[str] = []
    start = 0
    for match in re.finditer(r"[.!?;:,—–]+(?=[\s\"')]|$)|\n+", text):
        short = re.search(
            r"\b(mr|mrs|dr|st|no|e\.g|i\.e|approx|tel)$",
            text[max(0, match.start() - 8) : match.start()],
            re.I,
        )
        if match[0] == "." and short:
            continue
        pieces.append(text[start : match.end()])
        start = match.end()
    return [*pieces, text[start:]]
