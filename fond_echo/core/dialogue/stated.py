"""What a text states that can be right or wrong: its numbers, times and names, and whether it says
that something is not so."""

from __future__ import annotations

import re
from collections.abc import Iterator, Sequence

from fond_echo.core.language.language import Language, Numbers

MAX_RECKONED = 40
"""So many times of a text are held against each other."""


def worth_of(text: str, language: Language) -> dict[str, float]:
    """What the words of a text stand for, and how much each carries."""
    wording = language.wording
    found: dict[str, float] = {}
    for token in language.writing.spoken_tokens(text):
        meant = wording.concept(token)
        if {token, meant} & wording.PASSING:
            continue
        weak = bool({token, meant} & wording.WEAK)
        found[meant] = 0.15 if weak else wording.rarity(token)
    return found


def names_in(sentence: str, language: Language) -> Iterator[str]:
    """Words with a capital letter, but for the first unless another follows it."""
    wording = language.wording
    words = re.findall(r"[^\W\d_]+(?:['’][^\W\d_]+)?", sentence)
    for place, word in enumerate(words):
        bare = re.split(r"['’]", word)[0]
        if not bare[0].isupper() or bare in wording.CAPITALIZED or len(bare) < 2:
            continue
        follows = place + 1 < len(words) and words[place + 1][0].isupper()
        if place or (follows and words[1] not in wording.CAPITALIZED):
            if place == 0 and wording.common(bare.lower()):
                continue
            yield bare


def numbers_in(text: str, language: Language, least: float = 2) -> set[float]:
    """The numbers of a text from some on, in figures and in words; a time is its hour and its
    minutes. From 2 on, since "the one at the quay" counts nothing."""
    found: set[float] = set()
    for digits in re.findall(r"\d+(?:[.,]\d+)*", text):
        if (value := _value(digits)) >= least:
            found.add(value)
    words = re.sub(r"\d+(?:[.,:]\d+)*", " ", text)
    tokens = list(language.writing.spoken_tokens(words))
    numbers = language.numbers
    at = 0
    while at < len(tokens):
        size = next(
            (
                size
                for size in range(min(6, len(tokens) - at), 0, -1)
                if _value_of(numbers, tokens[at : at + size]) is not None
            ),
            0,
        )
        if size:
            number = _value_of(numbers, tokens[at : at + size])
            if number is not None and number >= least:
                found.add(float(number))
        at += size or 1
    return found


def negations_in(text: str, language: Language) -> set[str]:
    """The words of a text that say that something is not so."""
    return set(language.writing.spoken_tokens(text)) & language.wording.NEGATING


def times_in(text: str) -> list[tuple[int, int]]:
    """The times of a text that stand in figures: hour and minute."""
    found = re.findall(r"\b(\d{1,2})[:.](\d{2})\b", text)
    return [(int(h), int(m)) for h, m in found if int(h) < 25 and int(m) < 60]


def numbers_of_times(times: Sequence[tuple[int, int]]) -> set[float]:
    """How the hours and minutes of times are said, and how many minutes lie between two."""
    found: set[float] = set()
    for hour, minute in times:
        found |= {hour, minute, (hour + 12) % 24, (hour - 12) % 24, 60 - minute}
        if minute >= 30:
            found |= {(hour + 1) % 24, (hour + 13) % 24}
    minutes = [60 * hour + minute for hour, minute in times[:MAX_RECKONED]]
    found |= {abs(one - other) for one in minutes for other in minutes}
    return {float(each) for each in found}


def _value(digits: str) -> float:
    plain = digits.replace(",", ".") if digits.count(",") == 1 else digits.replace(",", "")
    try:
        return float(plain)
    except ValueError:
        return float(re.sub(r"\D", "", digits) or 0)


def _value_of(numbers: Numbers, tokens: list[str]) -> int | None:
    value = numbers.value_of(tokens)
    return value if value is not None else numbers.ordinal_value(tokens)
