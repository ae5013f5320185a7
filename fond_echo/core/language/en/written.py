"""Spoken tokens as they are written: numbers, times, dates, money, spelled letters, capitals, a
closing sign (English).

What is written is said again as it was: `spoken_tokens` of it means the same.
"""

from __future__ import annotations

from collections.abc import Callable, Collection, Iterable, Sequence

from fond_echo.core.language.en.figures import MONTHS
from fond_echo.core.language.en.numbers import (
    UNITS,
    digits_of,
    is_number_word,
    ordinal_value,
    prefix_value,
    value_of,
)

_ASKING = frozenset(
    (
        "what when where who whom whose which why how is are was were do does did can could will "
        "would shall should may have has am what's when's where's who's how's why's isn't aren't "
        "wasn't don't doesn't didn't can't couldn't won't wouldn't shouldn't haven't hasn't"
    ).split()
)
_DOUBTFUL = frozenset(("may", "march"))
"""Months that are other words too."""

_BEFORE_A_MONTH = frozenset("of in since until till by next last this early late".split())
_ALWAYS_CAPITAL = (
    frozenset(
        [
            *MONTHS,
            *"monday tuesday wednesday thursday friday saturday sunday i i'm i'll i've i'd".split(),
        ]
    )
    - _DOUBTFUL
)
_PAST = {"five": 5, "ten": 10, "twenty": 20, "quarter": 15, "half": 30}
_BEFORE_A_TIME = frozenset("at by until till before after from since around about".split())
_MONEY = {"pound": "£", "pounds": "£", "dollar": "$", "dollars": "$", "euro": "€", "euros": "€"}
_SMALL = frozenset("pence pee cents cent".split())
_TITLES = {"mister": "Mr.", "missus": "Mrs."}

Tokens = Sequence[str]
Found = tuple[str, int] | None
"""How the first tokens are written, and how many they are."""


def _hour(token: str) -> int | None:
    return UNITS.index(token) if token in UNITS[1:13] else None


def _minutes(tokens: Tokens) -> tuple[int, int] | None:
    """Minutes after an hour and how many words they take: "oh seven", "fifteen", "forty two"."""
    if tokens[:1] == ["oh"] and tokens[1:2] and tokens[1] in UNITS[1:10]:
        return UNITS.index(tokens[1]), 2
    found = prefix_value(tokens[:2])
    return found if found and 10 <= found[0] < 60 else None


def _part(tokens: Tokens) -> tuple[str, int]:
    """ " am" or " pm", and how many words that takes."""
    if tokens[:2] in (["a", "m"], ["p", "m"]):
        return f" {tokens[0]}m", 2
    return "", 0


def _time(tokens: Tokens, before: Tokens) -> Found:
    past = _past(tokens)
    if past is not None:
        return past
    hour = _hour(tokens[0])
    if hour is None:
        return None
    if tokens[1:2] == ["o'clock"]:
        part, used = _part(tokens[2:])
        return f"{hour}:00{part}", 2 + used
    part, used = _part(tokens[1:])
    if part:
        return f"{hour}{part}", 1 + used
    minutes = _minutes(tokens[1:])
    if minutes is None:
        return None
    part, used = _part(tokens[1 + minutes[1] :])
    after = tokens[1 + minutes[1] + used :][:1]
    alone = _last(before) in _BEFORE_A_TIME and not (after and is_number_word(after[0]))
    if part or alone or tokens[1] == "oh":
        return f"{hour}:{minutes[0]:02d}{part}", 1 + minutes[1] + used
    return None


def _past(tokens: Tokens) -> Found:
    """Ten past four, a quarter to twelve."""
    at = 1 if tokens[:2] == ["a", "quarter"] else 0
    if tokens[at : at + 2] == ["twenty", "five"]:
        minutes, at = 25, at + 2
    else:
        minutes, at = _PAST.get(tokens[at], 0), at + 1
    hour = _hour(tokens[at + 1]) if len(tokens) > at + 1 else None
    if not minutes or hour is None or tokens[at] not in ("past", "to"):
        return None
    if tokens[at] == "to":
        hour, minutes = (hour - 2) % 12 + 1, 60 - minutes
    part, used = _part(tokens[at + 2 :])
    return f"{hour}:{minutes:02d}{part}", at + 2 + used


def _money(tokens: Tokens, before: Tokens) -> Found:
    whole = prefix_value(tokens)
    if whole is None or whole[1] == len(tokens) or tokens[whole[1]] not in _MONEY:
        return None
    sign, used = _MONEY[tokens[whole[1]]], whole[1] + 1
    joined = tokens[used : used + 1] == ["and"]
    small = prefix_value(tokens[used + joined :])
    if small and small[0] < 100:
        end = used + joined + small[1]
        named = tokens[end : end + 1] and tokens[end] in _SMALL
        if named or (not joined and small[0] > 9):
            return f"{sign}{_grouped(whole[0])}.{small[0]:02d}", end + bool(named)
    return f"{sign}{_grouped(whole[0])}", used


def _year(tokens: Tokens, before: Tokens) -> Found:
    """Nineteen eighty four, twenty oh five."""
    high = value_of(list(tokens[:1]))
    if high is None or not 17 <= high <= 20 or len(tokens) < 2:
        return None
    if tokens[1] == "oh" and len(tokens) > 2 and tokens[2] in UNITS[1:10]:
        return f"{high}{UNITS.index(tokens[2]):02d}", 3
    low = prefix_value(tokens[1:3])
    after = tokens[1 + low[1] :][:1] if low else ()
    if low is None or not 10 <= low[0] < 100 or (after and is_number_word(after[0])):
        return None
    return f"{high}{low[0]}", 1 + low[1]


def _ordinal(tokens: Tokens, before: Tokens) -> Found:
    """From the tenth on, and every one in a date."""
    for used in range(min(6, len(tokens)), 0, -1):
        place = ordinal_value(list(tokens[:used]))
        if place is None:
            continue
        month = tokens[used + 1 : used + 2] if tokens[used : used + 1] == ["of"] else ()
        named = _last(before, passing="the") in MONTHS or (month and month[0] in MONTHS)
        if place > 9 or named:
            return f"{place}{_ending(place)}", used
        return " ".join(tokens[:used]), used
    return None


def _ending(place: int) -> str:
    return "th" if 10 < place % 100 < 14 else {1: "st", 2: "nd", 3: "rd"}.get(place % 10, "th")


def _code(tokens: Tokens, before: Tokens) -> Found:
    """Letters that are spelled, and digits of which there are three or more in a row."""
    shown, letters, digits = [], 0, 0
    used = 0
    while used < len(tokens):
        times = {"double": 2, "triple": 3}.get(tokens[used], 1)
        here = tokens[used + 1] if times > 1 and used + 1 < len(tokens) else tokens[used]
        digit = digits_of([here])
        if digit is None and not (len(here) == 1 and here.isalpha() and times == 1):
            break
        shown.append((digit or here.upper()) * times)
        letters, digits = letters + (digit is None), digits + times * (digit is not None)
        used += 1 if times == 1 else 2
    while used < len(tokens) and shown and tokens[used - 1] in ("a", "i"):
        # "Plan b, I think": what follows goes on with it.
        shown.pop()
        letters, used = letters - 1, used - 1
    if letters < 2 and (letters or digits < 3):
        return None
    return ("" if digits else " ").join(shown), used


def _number(tokens: Tokens, before: Tokens) -> Found:
    """A number; small ones by themselves stay words."""
    sign = 1 if tokens[0] == "minus" else 0
    found = prefix_value(tokens[sign:])
    if found is None:
        return None
    value, used = found[0], found[1] + sign
    text = "-" * sign + _grouped(value)
    behind, end = "", used + 1
    if tokens[used : used + 1] == ["point"]:
        while end < len(tokens) and tokens[end] in UNITS[:10]:
            end += 1
        behind = digits_of(list(tokens[used + 1 : end])) or ""
    if behind:
        text, used = f"{text}.{behind}", end
    if tokens[used : used + 1] == ["percent"]:
        return f"{text}%", used + 1
    if value % 10**6 == 0 and tokens[used - 1] == "million":
        return f"{'-' * sign}{value // 10**6} million", used
    small = value < 10 and not sign and not behind
    return (" ".join(tokens[:used]) if small else text), used


def _grouped(value: int) -> str:
    return f"{value:,}" if value >= 10_000 else str(value)


_RULES: tuple[Callable[[Tokens, Tokens], Found], ...] = (
    _time, _money, _year, _ordinal, _code, _number,
)  # fmt: skip


def _last(before: Tokens, *, passing: str = "") -> str:
    """The word before, or the one before that where it is one to be passed by."""
    words = [word for word in before[-2:] if word != passing]
    return words[-1] if words else ""


def _capital(word: str) -> str:
    return word[:1].upper() + word[1:]


def _is_month(before: Tokens, after: Tokens) -> bool:
    """Whether "may" or "march" is the month here."""
    rest = list(after[1:] if after[:1] == ["the"] else after)
    if _last(before) in _BEFORE_A_MONTH:
        return True
    return bool(rest) and (
        _year(rest, ()) is not None
        or any(ordinal_value(rest[:size]) is not None for size in (1, 2))
    )


def written_text(tokens: Collection[str], names: Collection[str] = ()) -> str:
    """Spoken tokens in written form.

    Args:
        tokens: spoken words in order.
        names: words written with a capital, in any case ("Brannick", "Little Marrow").

    >>> written_text("when is the boat at ten past four to brannick".split(), ["Brannick"])
    'When is the boat at 4:10 to Brannick?'
    """
    rest, before = list(tokens), list[str]()
    capitals = {
        part.lower() for name in names for part in name.split() if part[:1].isupper()
    } | _ALWAYS_CAPITAL
    asks = bool(rest) and rest[0] in _ASKING
    if rest and rest[0] in _DOUBTFUL:
        asks = asks and not _is_month((), rest[1:])
    out: list[str] = []
    while rest:
        found = next((each for rule in _RULES if (each := rule(rest, before))), None)
        text, used = found or (rest[0], 1)
        word = rest[0]
        if found is None and (
            word in capitals
            or _last(before) in _TITLES
            or (word in _DOUBTFUL and _is_month(before, rest[1:]))
        ):
            text = _capital(word)
        out.append(_TITLES.get(word, text) if found is None else text)
        before, rest = [*before, *rest[:used]][-3:], rest[used:]
    text = " ".join(out)
    return _capital(text) + ("?" if asks else ".") if text else ""


_UNFINISHED = frozenset(
    "a an the my your our his their its this these to of in on at for from with by about than and"
    " or but if because when while as is are was were am be i we they i'm i'd i'll i've would"
    " could should will can".split()
)
"""Words that no sentence ends with."""

_IN_NUMBERS = frozenset("oh double triple point and".split())

_WHOLE = frozenset("yes no hello goodbye okay thanks".split())
"""Words that may be all of one."""


def written_parts(parts: Iterable[Sequence[str]], names: Collection[str] = ()) -> str:
    """Stretches with silence between them in written form: each is a sentence, unless it is cut off
    in the middle of one, or of a number, or is a single word.

    >>> written_parts([["the", "boat", "is", "late"], ["please", "tell", "my"], ["sister"]])
    'The boat is late. Please tell my sister.'
    """
    whole: list[list[str]] = []
    for part in parts:
        if not part:
            continue
        if whole and _goes_on(whole[-1], part):
            whole[-1].extend(part)
        else:
            whole.append(list(part))
    return " ".join(written_text(each, names) for each in whole)


def _goes_on(before: Sequence[str], after: Sequence[str]) -> bool:
    alone = any(len(part) == 1 and part[0] not in _WHOLE for part in (before, after))
    counted = all(
        is_number_word(each) or len(each) == 1 or each in _IN_NUMBERS
        for each in (before[-1], after[0])
    )
    return alone or counted or before[-1] in _UNFINISHED
