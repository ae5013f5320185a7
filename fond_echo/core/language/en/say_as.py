"""Texts whose kind is known, as they are said: letters, dates, telephone numbers (English)."""

from __future__ import annotations

import re
from collections.abc import Callable

from fond_echo.core.language.en import figures
from fond_echo.core.language.en.numbers import digits, ordinal, ordinal_of
from fond_echo.core.language.en.spoken import spoken_tokens

_NAMES = {
    ".": "dot", "-": "dash", "@": "at", "/": "slash", "_": "underscore", "+": "plus", "#": "hash",
    "*": "star", "&": "and", ":": "colon", "!": "exclamation mark", "?": "question mark",
    "'": "apostrophe", ",": "comma", "%": "percent", "=": "equals", "(": "bracket", ")": "bracket",
}  # fmt: skip
_PLACES = {"d": "day", "m": "month", "y": "year"}


def _characters(text: str) -> list[list[str]]:
    groups: list[list[str]] = []
    for word in text.split():
        said: list[str] = []
        for character in word:
            if character.isdecimal():
                said += digits(character)
            elif character.isalpha():
                said.append(character.lower())
            else:
                said += _NAMES.get(character, "").split()
        groups.append(said)
    return groups


def _telephone(text: str) -> list[list[str]]:
    plus = ["plus"] if text.strip().startswith("+") else []
    groups = [digits(each) for each in re.findall(r"\d+", text)]
    return [plus + groups[0], *groups[1:]] if groups else []


def _date(text: str, given: str) -> list[list[str]]:
    """In the order of "dmy", "mdy", "ymd", "dm", "my" and the like."""
    numbers = re.findall(r"\d+", text)
    if not given or len(numbers) != len(given) or set(given) - set(_PLACES):
        return [spoken_tokens(text)]
    found = dict(zip(given, map(int, numbers), strict=True))
    said: list[str] = []
    if "d" in found:
        said = ["the", *ordinal(found["d"])]
    if 1 <= found.get("m", 0) <= 12:
        said += (["of"] if said else []) + [figures.MONTHS[found["m"] - 1]]
    return [said + (figures.number(str(found["y"])) if "y" in found else [])]


def _ordinal(text: str) -> list[list[str]]:
    number = re.sub(r"\D", "", text)
    return [ordinal_of(number)] if number else [spoken_tokens(text)]


def _number(text: str) -> list[list[str]]:
    number = re.sub(r"[^\d.-]", "", text)
    if not re.fullmatch(r"-?\d+(?:\.\d+)?", number):
        return [spoken_tokens(text)]
    # A year is a number like others here.
    return [figures.number(f"{float(number):,.{len(number.partition('.')[2])}f}")]


_KINDS: dict[str, Callable[[str], list[list[str]]]] = {
    "characters": _characters,
    "spell-out": _characters,
    "verbatim": _characters,
    "digits": lambda text: [digits(text)],
    "telephone": _telephone,
    "number": _number,
    "cardinal": _number,
    "ordinal": _ordinal,
}


def say_as(kind: str, text: str, given: str) -> list[list[str]]:
    """The words of a text whose kind is known, in groups with small pauses between them.

    >>> say_as("ordinal", "3", "")
    [['third']]
    """
    if kind == "date":
        return _date(text, given)
    found = _KINDS[kind](text) if kind in _KINDS else [spoken_tokens(text)]
    return [group for group in found if group]
