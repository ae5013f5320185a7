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
from fond_echo.core.language.en.numbers import digits, ordinal
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
}
_SIGNS = {
    "&": ["and"], "+": ["plus"], "=": ["equals"], "@": ["at"], "°": ["degrees"], "#": ["number"],
    "×": ["times"],
}  # fmt: skip

_MONTH = "|".join(
    # "I may 3 times" has no date in it, and "march 5 miles" neither.
    f"(?-i:{month[:3].capitalize()}(?:{month[3:]})?)"
    if month in ("march", "may")
    else f"{month[:3]}(?:{'t|' if month == 'september' else ''}{month[3:]})?"
    for month in MONTHS
)
_AMOUNT = r"\d+(?:,\d+)*(?:\.\d+)?"
_LARGE = r"(?:\s?(?:k|m|bn|thousand|million|billion)\b)?"
_TOKEN = re.compile(
    r"""
      (?P<address>\b[\w.+-]+@[\w-]+(?:\.[\w-]+)+ | \bwww\.[\w-]+(?:\.[\w-]+)+(?:/[\w/-]+)?)
    | (?P<phone>\+\d[\d ()-]{6,}\d | \b0\d{3,4}[ ]\d{6}\b)
    | (?P<date>\b\d{4}-\d{2}-\d{2}\b | (?<![\w/.])\d{1,2}/\d{1,2}/\d{4}(?![\w/])
      | (?<![\w/.])\d{1,2}\.\d{1,2}\.\d{4}\b)
    | (?P<day>\b(?:[12]\d|3[01]|0?[1-9])\s(?:MONTH|may|march)\b\.?(?:,?\s(?:19|20)\d\d\b)?)
    | (?P<month>\b(?:MONTH)\b\.?\s(?:[12]\d|3[01]|0?[1-9])\b(?![:.,]?\d|\s?[ap]m)
      (?:,?\s(?:19|20)\d\d\b)?)
    | (?P<currency>[£$€]\s?\d+,\d\d(?!\d|,\d) | [£$€]\s?AMOUNT LARGE
      | (?<!\w)AMOUNT\s?(?:[£$€]|(?-i:GBP|EUR|USD)\b))
    | (?P<time>\b(?:[01]?\d|2[0-3])[:.][0-5]\d(?!\d|[.:]\d)(?:\s?[ap]\.?m\b\.?)?)
    | (?P<hour>\b(?:1[0-2]|[1-9])\s?[ap]\.?m\b\.?)
    | (?P<fraction>(?<![\d/])(?:\d+\s)?[123]/[234](?![\d/]))
    | (?P<percent>AMOUNT\s?%)
    | (?P<ordinal>\b\d+(?:st|nd|rd|th)\b)
    | (?P<decade>\b(?:1[6-9]|20)?[2-9]0s\b)
    | (?P<unit>(?:(?<![\w-])-)?(?<!\w)AMOUNT\s?(?:UNIT)(?!\w))
    | (?P<code>(?<!\w)(?=[^\W\d_]*\d)(?=\d*[^\W\d_])[^\W_]+)
    | (?P<number>(?:(?<![\w-])-)?(?<!\w)AMOUNT)
    | (?P<short>\b(?:e\.g|i\.e|etc|approx|tel|vs|rd|ave|sq)\.(?=\s|$|,) | \bno\.(?=\s?\d)
      | \b(?:mr|mrs|dr)\b\.?(?=\s\w) | \b(?-i:St)\b\.?(?=\s(?-i:[A-Z])))
    | (?P<street>\bst\.(?=\W|$))
    | (?P<word>[^\W\d_]+(?:['’][^\W\d_]+)*)
    | (?P<sign>[&+=@°×] | \#(?=\d))
    """.replace("MONTH", _MONTH)
    .replace("AMOUNT", _AMOUNT)
    .replace("LARGE", _LARGE)
    .replace("UNIT", "|".join(map(re.escape, sorted(UNITS, key=len, reverse=True)))),
    re.VERBOSE | re.IGNORECASE,
)

_FOLDED = str.maketrans({"\u2044": "/", "\u0131": "i", "\u0130": "I"})
"""The slash of fractions, and letters that match i where case does not count, and are not it."""

_RANGES = (
    re.compile(r"(\d(?:\s?[ap]m)?)\s?[–—]\s?(?=[£$€]?\d)"),
    re.compile(r"(\d[:.][0-5]\d)\s?-\s?(?=\d?\d[:.][0-5]\d)"),
    re.compile(r"(?<![\d.:-])(\d{1,2})-(?=\d{1,2}(?![\d-]))"),
)
"""From … to: of any figures with a dash, of times and small numbers with a hyphen too."""


def _word(text: str) -> list[str]:
    if text.isupper() and 2 <= len(text) <= 5 and not set(text) & set("AEIOUY"):
        return list(text.lower())
    return [text.lower().replace("’", "'")]


_READERS: dict[str, Callable[[str], list[str]]] = {
    "address": figures.address,
    "phone": digits,
    "date": figures.date,
    "day": figures.day,
    "month": figures.day,
    "time": figures.time,
    "hour": figures.time,
    "currency": figures.currency,
    "fraction": figures.fraction,
    "percent": lambda text: [*figures.number(text.rstrip("% ")), "percent"],
    "ordinal": lambda text: ordinal(int(text[:-2])),
    "decade": figures.decade,
    "unit": figures.unit,
    "code": figures.code,
    "number": figures.number,
    "short": lambda text: _ABBREVIATIONS[text.rstrip(".").lower()],
    "street": lambda text: ["street"],
    "word": _word,
    "sign": lambda text: _SIGNS[text],
}


def spoken_tokens(text: str) -> list[str]:
    """The words that are said for a text; signs without a sound are left out.

    >>> spoken_tokens("The 16:10 costs £4.50!")
    ['the', 'ten', 'past', 'four', 'costs', 'four', 'pounds', 'fifty']
    """
    text = unicodedata.normalize("NFKC", text).translate(_FOLDED)
    for between in _RANGES:
        text = between.sub(r"\1 to ", text)
    tokens: list[str] = []
    for match in _TOKEN.finditer(text):
        assert match.lastgroup is not None
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
        short = re.search(r"\b(mr|mrs|dr|st|no|e\.g|i\.e|approx|tel)$", text[: match.start()], re.I)
        if match[0] == "." and short:
            continue
        pieces.append(text[start : match.end()])
        start = match.end()
    return [*pieces, text[start:]]
