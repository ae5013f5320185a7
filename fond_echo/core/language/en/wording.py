"""Words as they mean: stems, filler words, and groups of words that ask for the same (English).

The groups are everyday ones that occur in requests of any kind; an assistant adds nothing here,
its examples do.
"""

from __future__ import annotations

import math
from collections.abc import Sequence
from functools import lru_cache
from importlib import resources

from fond_echo.core.language.en import answering, frames, questions

FACTS = questions.FACTS
kind_of_question = questions.kind_of_question
other_wordings = frames.other_wordings
EVASIONS, CAPITALIZED = answering.EVASIONS, answering.CAPITALIZED

COMMON = 5.2
"""Occurrences in a billion words, as a power of ten: "where" has 5.9, "bell" 4.7."""

KNOWN = 3.3
"""The same: "umbrella" has 3.9, "recieve" 2.8."""

FILLERS = frozenset(
    (
        "a an the of to in on at for by with from and or but so is are was were be been "
        "am do does did i me my we us our you your it its this that these those there "
        "here have has had can could would will shall should may might must please just "
        "also too very well um uh er hello hi hey dear thanks thank if as than then "
        "some any about into up out get got getting tell say know like want wanted need "
        "needed let i'd i'm i'll i've it's that's what's there's let's ok okay good "
        "morning afternoon evening help maybe kindly something anything nothing everything "
    ).split()
)
"""Words that say little about what is asked."""

GOES_ON = frozenset(
    (
        "a an the this these those my your his her its our their and or but nor so because since "
        "although while if when where which who that than as of to in on at by for from with "
        "without into onto about between through over under after before until is are was were be "
        "been am has have had will would can could shall should may might must do does did not "
        "very really quite just i we you he she they um uh er"
    ).split()
)
ASKING = frozenset("what which who whom whose where why how when".split())
"""Words that say that something is asked, and a little of what."""

AROUND = frozenset(
    "please thanks thank you hello hi hey um uh er well so ok okay now then and".split()
)
"""Greetings and thanks at the ends of a request."""

URGENT = frozenset(
    (
        "never not must always only careful caution danger dangerous warning beware avoid stop "
        "emergency urgent important required need needs deadline before until unless first then "
        "next after finally turn switch press close open lock unplug call ring bring take wait "
        "leave check pay sign send enter dial push pull remove keep code number password"
    ).split()
)
"""Words of what is to be done, and of what is not: a sentence with one is not left out lightly."""

PLEASANT = frozenset(
    (
        "thank thanks welcome pleased pleasure happy glad hope nice great lovely enjoy sorry "
        "appreciate patience hello goodbye bye cheers wonderful kind regards day soon"
    ).split()
)
"""Words of pleasantries."""

PARTICLES = frozenset("on off in out up down over back away through".split())
"""Words that make another verb of the one before them: sign on, sign off."""

PASSING = (
    FILLERS
    | ASKING
    | frozenset(
        (
            "when person thing possible he she him her his they them their one ones more much "
            "many no yes not don't can't won't isn't hasn't haven't didn't aren't doesn't we've "
            "we're we'd you're go going come comes coming still yet now again only even"
        ).split()
    )
)
"""Words, and what words stand for, that explain nothing about what a request is for."""

WEAK = frozenset(
    (
        "today tomorrow tonight monday tuesday wednesday thursday friday saturday sunday weekend "
        "week day month year hour time morning evening afternoon night next last easter christmas "
        "summer winter spring autumn find see look show give take make use put bring work works "
        "send talk speak thing things place people person new old good big small"
    ).split()
)
"""Words that say little alone: when, verbs that go with anything, and what may be anything."""

REPLYING = frozenset("sure certainly absolutely course else question".split())
NEGATING = frozenset(
    (
        "not no never none nobody nothing nowhere neither nor without cannot can't won't don't "
        "isn't aren't wasn't weren't doesn't didn't hasn't haven't hadn't couldn't shouldn't "
        "wouldn't mustn't"
    ).split()
)
DETERMINERS = frozenset("a an any the my your some".split())
"""Words after which a thing is named."""

CORRECTING = frozenset(
    "no nope not actually sorry wait rather i meant mean instead make it change".split()
)
"""Words around a value that takes another's place."""


def _read() -> tuple[dict[str, str], dict[tuple[str, ...], str]]:
    words: dict[str, str] = {}
    phrases: dict[tuple[str, ...], str] = {}
    for line in (resources.files(__package__) / "wording.txt").read_text("utf-8").splitlines():
        name, found, rest = line.partition(":")
        if not found or line.startswith("#"):
            continue
        words[name] = name
        for each in (part.strip() for part in rest.split(",")):
            if each.startswith('"'):
                phrases[tuple(each.strip('"').split())] = name
            elif each:
                words[each] = name
    return words, phrases


_CONCEPTS, _PHRASES = _read()
_ENDINGS = (
    ("iness", "y"),
    ("ness", ""),
    ("ies", "y"),
    ("sses", "ss"),
    ("ing", ""),
    ("edly", ""),
    ("ed", ""),
    ("s", ""),
)
_KEPT = frozenset(
    (
        "this his its is was has news always perhaps bus yes thing something nothing "
        "anything evening morning during red bed need speed feed "
    ).split()
)


@lru_cache(maxsize=50_000)
def common(word: str) -> bool:
    """Whether a word is so common that it is no misspelling of another."""
    return frequency(word) >= COMMON


@lru_cache(maxsize=50_000)
def known(word: str) -> bool:
    """Whether a word is one of the language, so that nobody who typed it meant another."""
    return frequency(word) >= KNOWN


def frequency(word: str) -> float:
    """How often a word is used: occurrences in a billion words, as a power of ten."""
    from wordfreq import get_frequency_dict  # with its own long start

    return math.log10(max(get_frequency_dict("en").get(word, 0.0), 1e-9)) + 9.0


@lru_cache(maxsize=50_000)
def rarity(word: str) -> float:
    """How rare a word is: 0.1 for the commonest, 1 from three in a million down."""
    return min(4.5, max(0.5, 7.5 - frequency(word))) / 4.5


@lru_cache(maxsize=50_000)
def stem(word: str) -> str:
    """A word without its usual endings: boats → boat, carrying → carry."""
    word = word.removesuffix("'s").removesuffix("'")
    if word in _KEPT or len(word) < 4:
        return word
    for ending, instead in _ENDINGS:
        if word.endswith(ending) and len(word) - len(ending) + len(instead) >= 3:
            if ending == "s" and word.endswith(("ss", "us", "is")):
                return word
            found = word[: -len(ending)] + instead
            if ending in ("ing", "ed") and len(found) > 3 and found[-1] == found[-2] not in "lsz":
                found = found[:-1]
            return found
    return word


@lru_cache(maxsize=50_000)
def concept(word: str) -> str:
    """What a word stands for beside others: its group's name, or its stem."""
    return _CONCEPTS.get(word) or _CONCEPTS.get(stem(word)) or stem(word)


def concepts(tokens: Sequence[str]) -> list[str]:
    """Spoken tokens as what they stand for, set phrases first; one for each word of meaning."""
    found: list[str] = []
    at = 0
    while at < len(tokens):
        for size in (4, 3, 2):
            named = _PHRASES.get(tuple(tokens[at : at + size]))
            if named:
                found.append(named)
                at += size
                break
        else:
            found.append(concept(tokens[at]))
            at += 1
    return found
