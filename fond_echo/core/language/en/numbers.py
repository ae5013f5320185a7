"""Numbers as words, and words as numbers (English)."""

from __future__ import annotations

from collections.abc import Sequence

UNITS = (
    "zero one two three four five six seven eight nine ten eleven twelve thirteen "
    "fourteen fifteen sixteen seventeen eighteen nineteen"
).split()
TENS = ["zero", "ten", "twenty", "thirty", "forty", "fifty", "sixty", "seventy", "eighty", "ninety"]
SCALES = ((10**9, "billion"), (10**6, "million"), (1_000, "thousand"))
MAX_VALUE = 10**12
TIMES = frozenset(("double", "triple"))
"""Said before a digit that comes more than once."""

_ORDINALS = {
    "one": "first",
    "two": "second",
    "three": "third",
    "five": "fifth",
    "eight": "eighth",
    "nine": "ninth",
    "twelve": "twelfth",
}
_VALUES = {word: value for value, word in enumerate(UNITS)} | {
    word: value * 10 for value, word in enumerate(TENS) if value > 1
}
_SCALE_VALUES = {word: value for value, word in SCALES} | {"hundred": 100}
_ORDINAL_UNITS = {ordinal: cardinal for cardinal, ordinal in _ORDINALS.items()}


def cardinal(number: int) -> list[str]:
    """42 → forty two; below zero begins with "minus". From 10¹² on, digit by digit."""
    if number < 0:
        return ["minus", *cardinal(-number)]
    if number >= MAX_VALUE:
        return digits(str(number))
    if number < 20:
        return [UNITS[number]]
    if number < 100:
        return [TENS[number // 10]] + ([UNITS[number % 10]] if number % 10 else [])
    if number < 1_000:
        rest = number % 100
        return [UNITS[number // 100], "hundred"] + (["and", *cardinal(rest)] if rest else [])
    scale, name = next(each for each in SCALES if number >= each[0])
    words = [*cardinal(number // scale), name]
    rest = number % scale
    if rest:
        words += (["and"] if rest < 100 else []) + cardinal(rest)
    return words


MAX_FIGURES = 15
"""What has more figures is said digit by digit, and never made a number."""


def cardinal_of(figures: str) -> list[str]:
    """The same of figures, however many: "42" → forty two."""
    return cardinal(int(figures)) if len(figures) <= MAX_FIGURES else digits(figures)


def ordinal_of(figures: str) -> list[str]:
    """Figures as an ordinal; of too many, digit by digit: "42" → forty second."""
    return ordinal(int(figures)) if len(figures) <= MAX_FIGURES else digits(figures)


def ordinal(number: int) -> list[str]:
    """42 → forty second."""
    *head, last = cardinal(number)
    if last in _ORDINALS:
        return [*head, _ORDINALS[last]]
    return [*head, last[:-1] + "ieth" if last.endswith("y") else last + "th"]


def digits(text: str) -> list[str]:
    """Every digit by its name; anything else is left out."""
    return [UNITS[int(character)] for character in text if character.isdecimal()]


def year(number: int) -> list[str]:
    """1984 → nineteen eighty four; 2026 → twenty twenty six; 2005 → two thousand and five."""
    if not 1_100 <= number <= 2_099 or 2_000 <= number <= 2_009 or number % 1_000 == 0:
        return cardinal(number)
    high, low = divmod(number, 100)
    if low == 0:
        return [*cardinal(high), "hundred"]
    return cardinal(high) + (["oh", UNITS[low]] if low < 10 else cardinal(low))


def is_number_word(token: str) -> bool:
    return token in _VALUES or token in _SCALE_VALUES


def value_of(tokens: list[str]) -> int | None:
    """The number that cardinal words make: forty two → 42; None where they make none.

    Digit by digit ("one six three two") is not a cardinal: that is `digits_of`.
    """
    total, current, seen, last = 0, 0, False, 10**12
    for token in tokens:
        if token == "and" and seen:
            continue
        if token in _VALUES:
            value = _VALUES[token]
            if seen and (value >= last or last < 20):
                return None
            if 0 < current % 100 < 20 or (current % 10 and value < 100):
                return None
            current, last = current + value, value if value else 1
        elif token == "hundred" and 0 < current < 100:
            current, last = current * 100, 100
        elif token in _SCALE_VALUES and current:
            total, current, last = total + current * _SCALE_VALUES[token], 0, 1_000
        else:
            return None
        seen = True
    return total + current if seen else None


def prefix_value(tokens: Sequence[str]) -> tuple[int, int] | None:
    """The number that the first tokens make, as many of them as make one, and how many they are."""
    longest = 0
    while longest < len(tokens) and (
        is_number_word(tokens[longest]) or (longest and tokens[longest] == "and")
    ):
        longest += 1
    for used in range(longest, 0, -1):
        value = value_of(list(tokens[:used])) if tokens[used - 1] != "and" else None
        if value is not None:
            return value, used
    return None


def digit_by_digit(tokens: Sequence[str]) -> list[tuple[str, int, int]]:
    """Tokens with every number in them as its digits, each with the tokens that it stands for, from
    and to: "two hundred and fourteen" → two one four."""
    found: list[tuple[str, int, int]] = []
    at = 0
    while at < len(tokens):
        value, used = prefix_value(tokens[at:]) or (None, 1)
        words = [tokens[at]] if value is None else digits(str(value))
        found += [(word, at, at + used) for word in words]
        at += used
    return found


def years_as_numbers(tokens: Sequence[str]) -> list[tuple[str, int, int]]:
    """Tokens with every year from 1900 to 2099 in them as a number, each with the tokens that it
    stands for: "nineteen eighty four" → one thousand nine hundred and eighty four."""
    found: list[tuple[str, int, int]] = []
    at = 0
    while at < len(tokens):
        high, low = _VALUES.get(tokens[at]), prefix_value(tokens[at + 1 : at + 3])
        words, used = [tokens[at]], 1
        if high in (19, 20) and low is not None and 10 <= low[0] < 100:
            words, used = cardinal(high * 100 + low[0]), 1 + low[1]
        found += [(word, at, at + used) for word in words]
        at += used
    return found


def digits_of(tokens: list[str]) -> str | None:
    """The digits that digit names make ("oh" is 0); None where other words are among them."""
    names = {name: str(value) for value, name in enumerate(UNITS[:10])} | {"oh": "0"}
    if not tokens or any(token not in names for token in tokens):
        return None
    return "".join(names[token] for token in tokens)


def ordinal_value(tokens: list[str]) -> int | None:
    """forty second → 42; None where the words are no ordinal."""
    if not tokens:
        return None
    last = tokens[-1]
    if last in _ORDINAL_UNITS:
        base = _ORDINAL_UNITS[last]
    elif last.endswith("ieth"):
        base = last[:-4] + "y"
    elif last.endswith("th"):
        base = last[:-2]
    else:
        return None
    return value_of([*tokens[:-1], base])
