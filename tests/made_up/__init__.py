"""Oddrish: a language that nobody speaks, with its own letters, numbers, yes and no, and sentences.

Its code is one of those that ISO 639-2 leaves to everybody's own use. Nothing of the service knows
of it: it is one object, as a language that somebody adds is.
"""

from __future__ import annotations

import re
from types import SimpleNamespace
from typing import Any

from fond_echo.core.grammar.abnf import read_abnf
from fond_echo.core.grammar.model import Grammar
from fond_echo.core.language.language import Language, Phrase

DIGITS = "nul en tva tri fir fem ses sep okt niv".split()
TENS = "tiv"

SOUNDS = {
    "sh": "SH", "ch": "CH", "a": "AA", "e": "EH", "i": "IY", "o": "OW", "u": "UW", "b": "B",
    "d": "D", "f": "F", "g": "G", "h": "HH", "j": "Y", "k": "K", "l": "L", "m": "M", "n": "N",
    "p": "P", "r": "R", "s": "S", "t": "T", "v": "V", "z": "Z",
}  # fmt: skip
VOWELS = ("AA", "EH", "IY", "OW", "UW")


def spoken_tokens(text: str) -> list[str]:
    found: list[str] = []
    for word in re.findall(r"\d+|[^\W\d_]+", text.lower()):
        found += cardinal(int(word)) if word.isdigit() else [word]
    return found


def cardinal(number: int) -> list[str]:
    tens, ones = divmod(number, 10)
    words = ([DIGITS[tens]] if tens > 1 else []) + ([TENS] if tens else [])
    return words + ([DIGITS[ones]] if ones or not tens else [])


def value_of(tokens: list[str]) -> int | None:
    found = [value for value in range(100) if cardinal(value) == list(tokens)]
    return found[0] if found else None


def written_text(tokens: Any, names: Any = ()) -> str:
    capitals = {part.lower() for name in names for part in name.split()}
    text = " ".join(word.capitalize() if word in capitals else word for word in tokens)
    return text[:1].upper() + text[1:] + "." if text else ""


def pronounce_by_letters(word: str) -> tuple[str, ...]:
    sounds = [SOUNDS[each] for each in re.findall("sh|ch|[abd-psztuvjr]", word) if each in SOUNDS]
    first = next((k for k, sound in enumerate(sounds) if sound in VOWELS), 0)
    return tuple(
        sound + ("1" if k == first else "0") if sound in VOWELS else sound
        for k, sound in enumerate(sounds)
    )


def builtin_grammar() -> Grammar:
    digits = " | ".join(DIGITS)
    text = f"""#ABNF 1.0 UTF-8;
language qod;
$d = {digits};
public $boolean = ja {{yes}} | nei {{no}};
public $number = $d | [$d] {TENS} [$d];
"""
    read = read_abnf(text, spoken=spoken_tokens)
    return Grammar(read.rules, read.root, read.language, {"builtin:": read})


def value_of_kind(kind: str, tokens: Any, literal: str | None, now: Any) -> Any:
    return literal == "yes" if kind == "boolean" else value_of(list(tokens))


def as_it_stands(tokens: Any) -> list[tuple[str, int, int]]:
    return [(word, at, at + 1) for at, word in enumerate(tokens)]


INTENTS: dict[tuple[str, ...], Any] = {("farvo",): "goodbye", ("igen",): "again"}

LANGUAGE = Language(
    code="qod",
    name="Oddrish",
    writing=SimpleNamespace(
        spoken_tokens=spoken_tokens,
        phrases=lambda text: [
            Phrase(tuple(words), 0.4, "rise" if piece.endswith("?") else "fall")
            for piece in re.findall(r"[^.?!]+[.?!]?", text)
            if (words := spoken_tokens(piece))
        ],
        say_as=lambda kind, text, given: [spoken_tokens(text)],
        written_text=written_text,
        written_parts=lambda parts, names=(): " ".join(written_text(p, names) for p in parts if p),
        sentences_of=lambda text: [p.strip() for p in re.findall(r"[^.?!]+[.?!]?", text)],
    ),
    numbers=SimpleNamespace(
        TIMES=frozenset(),
        cardinal=cardinal,
        is_number_word=lambda token: token in DIGITS or token == TENS,
        value_of=value_of,
        ordinal_value=lambda tokens: None,
        digit_by_digit=as_it_stands,
        years_as_numbers=as_it_stands,
    ),
    wording=SimpleNamespace(
        FILLERS=frozenset(["o", "an"]), ASKING=frozenset(["ki", "kva"]), GOES_ON=frozenset(["o"]),
        AROUND=frozenset(["hei"]), CORRECTING=frozenset(["nei"]), PARTICLES=frozenset(),
        PASSING=frozenset(), WEAK=frozenset(), DETERMINERS=frozenset(), NEGATING=frozenset(), REPLYING=frozenset(), FACTS=frozenset(), CAPITALIZED=frozenset(),
        EVASIONS=re.compile(r"(?!)"),
        other_wordings=lambda text: (),
        kind_of_question=lambda tokens: "", rarity=lambda word: 1.0,
        URGENT=frozenset(), PLEASANT=frozenset(),
        common=lambda word: False, known=lambda word: False, stem=lambda word: word,
        concept=lambda word: word, concepts=list,
    ),
    types=SimpleNamespace(
        SPOTTED=(), OPENING=frozenset(), BEFORE_HALF=((),), builtin_grammar=builtin_grammar,
        value_of_kind=value_of_kind, shortened=lambda kind, tokens: None,
    ),
    letters=SimpleNamespace(
        NAMES={}, knows=lambda letter: letter.lower() in SOUNDS, pronounce_by_letters=pronounce_by_letters),
    sentences={
        "hello": "Hei.",
        "goodbye": "Farvo.",
        "not-sure": "Eg tvilar.",
        "you-can-ask": "Spor til domes: {examples}",
        "yes": "Ja",
        "no": "Nei",
        "still-not-understood": "Eg tvilar enno.",
    },
    intent_of=lambda tokens: INTENTS.get(tuple(tokens)),
    everywhere=("Farvo.", "Igen."),
    answers=("Ja.", "Nei."),
)  # fmt: skip
