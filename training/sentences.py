"""What is said: sentences of a grammar of our own, sentences from open texts, and lists of words.

A sentence is a list of spoken words in lower case, as the lexicon knows them. Every sentence whose
text falls into one part in fifty belongs to the test, and never occurs in training.
"""

from __future__ import annotations

import random
import re
import zlib
from collections.abc import Callable, Iterable
from pathlib import Path

from fond_echo.core.language.en.figures import MONTHS, clock
from fond_echo.core.language.en.numbers import cardinal, digits, ordinal
from fond_echo.core.language.en.spoken import spoken_tokens

GRAMMAR = Path(__file__).parent / "data" / "sentences.txt"
MAX_WORDS = 18
TEST_PART = 50


def is_test(words: Iterable[str]) -> bool:
    """Whether a sentence belongs to the test."""
    return zlib.crc32(" ".join(words).encode()) % TEST_PART == 0


class Grammar:
    """Sentences with slots, from a file: `name = a | b` and one sentence a line."""

    def __init__(self, text: str | None = None) -> None:
        self._slots: dict[str, list[str]] = {}
        self._sentences: list[str] = []
        whole = text or GRAMMAR.read_text(encoding="utf-8")
        for line in map(str.strip, whole.splitlines()):
            if not line or line.startswith("#"):
                continue
            name, equals, ways = line.partition(" = ")
            if equals:
                self._slots[name] = [each.strip() for each in ways.split("|")]
            else:
                self._sentences.append(line)

    def one(self, rng: random.Random) -> list[str]:
        """A sentence."""
        return self._filled(rng.choice(self._sentences), rng)

    def _filled(self, text: str, rng: random.Random) -> list[str]:
        def fill(match: re.Match[str]) -> str:
            name = match[1]
            if name in MADE:
                return " ".join(MADE[name](rng))
            return " ".join(self._filled(rng.choice(self._slots[name]), rng))

        return re.sub(r"\{(\w+)\}", fill, text).split()


def _time(rng: random.Random) -> list[str]:
    hour, minute = rng.randrange(24), rng.choice([0, 0, 15, 30, 45, rng.randrange(60)])
    if rng.random() < 0.3:
        said = [*cardinal(hour % 12 + 1), *(cardinal(minute) if minute > 9 else [])]
        return [*said, rng.choice(["a", "p"]), "m"]
    return clock(hour, minute)


def _date(rng: random.Random) -> list[str]:
    day, month = ordinal(rng.randint(1, 31)), rng.choice(MONTHS)
    said = ["the", *day, "of", month] if rng.random() < 0.6 else [month, "the", *day]
    return said + (_year(rng) if rng.random() < 0.2 else [])


def _year(rng: random.Random) -> list[str]:
    value = rng.randint(1_900, 2_060)
    first, last = divmod(value, 100)
    if 2_000 <= value < 2_010:
        return ["two", "thousand", *(["and", *cardinal(last)] if last else [])]
    if not last:
        return [*cardinal(first), "hundred"]
    return [*cardinal(first), *(["oh"] if last < 10 else []), *cardinal(last)]


def _currency(rng: random.Random) -> list[str]:
    unit = rng.choice(["pounds", "euros", "dollars"])
    said = [*cardinal(rng.randint(2, rng.choice([20, 100, 900]))), unit]
    return said + (cardinal(rng.randint(2, 99)) if rng.random() < 0.4 else [])


def _digits(rng: random.Random) -> list[str]:
    said = digits("".join(rng.choice("0123456789") for _ in range(rng.randint(3, 11))))
    if rng.random() < 0.4:
        said = ["oh" if word == "zero" else word for word in said]
    if rng.random() < 0.15:
        place = rng.randrange(len(said))
        said = [*said[:place], "double", *said[place:]]
    return said


MADE: dict[str, Callable[[random.Random], list[str]]] = {
    "small": lambda rng: cardinal(rng.choice([*range(13), rng.randrange(100)])),
    "number": lambda rng: cardinal(
        rng.choice([rng.randrange(100), rng.randrange(1_000), rng.randrange(100_000)])
    ),
    "decimal": lambda rng: [*cardinal(rng.randrange(40)), "point", *digits(str(rng.randrange(99)))],
    "ordinal": lambda rng: ordinal(rng.choice([rng.randint(1, 12), rng.randint(1, 99)])),
    "digits": _digits,
    "letters": lambda rng: [
        rng.choice("abcdefghijklmnopqrstuvwxyz") for _ in range(rng.randint(2, 8))
    ],
    "time": _time,
    "date": _date,
    "year": _year,
    "currency": _currency,
}


def wordnet(folder: Path, *, examples_only: bool = False) -> list[list[str]]:
    """Example sentences and glosses of Debian's package wordnet-base, unpacked in a folder."""
    found: set[tuple[str, ...]] = set()
    for file in sorted(folder.glob("**/data.*")):
        for line in file.read_text(encoding="latin-1").splitlines():
            if line.startswith("  ") or "|" not in line:
                continue
            gloss = line.partition("|")[2]
            cut = re.findall(r'"([^"]+)"', gloss) if examples_only else re.split(r"[;\"]", gloss)
            for piece in cut:
                words = spoken_tokens(re.sub(r"\([^)]*\)", " ", piece.replace("`", "'")))
                if 2 <= len(words) <= MAX_WORDS:
                    found.add(tuple(words))
    return [list(each) for each in sorted(found)]


class Sentences:
    """A mixture of all kinds of sentences.

    Args:
        texts: sentences of open texts; those with words that the lexicon lacks are left out.
        words: a vocabulary for lists of words that make no sense, so that what is heard does not
            lean on what is likely.
    """

    def __init__(
        self, texts: list[list[str]], words: list[str], known: Callable[[str], bool]
    ) -> None:
        self._grammar = Grammar()
        self._words = words
        whole = [each for each in texts if all(known(word) for word in each)]
        self.texts = [each for each in whole if not is_test(each)]
        self.test_texts = [each for each in whole if is_test(each)]

    def one(self, rng: random.Random) -> list[str]:
        """A sentence of the training."""
        while True:
            chance = rng.random()
            if chance < 0.32:
                words = self._grammar.one(rng)
            elif chance < 0.58:
                words = rng.choice(self.texts)
            elif chance < 0.88:
                words = rng.choices(self._words, k=rng.choice([1, 1, 1, 2, 2, 3, 4, 6, 8]))
            else:
                words = MADE[rng.choice(["digits", "letters", "number", "time", "date"])](rng)
            if len(words) <= MAX_WORDS and not is_test(words):
                return words

    def test(self, rng: random.Random) -> list[str]:
        """A sentence of the test, as people talk."""
        while True:
            words = self._grammar.one(rng)
            if 3 <= len(words) <= MAX_WORDS and is_test(words):
                return words
