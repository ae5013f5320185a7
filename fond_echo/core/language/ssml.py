"""Speech Synthesis Markup Language 1.1 (W3C, 2010), read into what is said, and how.

Without document type or entities, bounded in depth and length. Recordings come only from names that
whoever speaks knows; where there is none, the words inside `audio` are said.
"""

from __future__ import annotations

import re
from collections.abc import Iterator
from dataclasses import dataclass, replace

from fond_echo.core.language.errors import BadValue, SsmlError
from fond_echo.core.language.phonemes import PHONEMES, Pronunciation, base
from fond_echo.core.language.pls import MAX_SIGNS, from_ipa
from fond_echo.core.language.prosody import (
    PLAIN,
    Prosody,
    contour_of,
    emphasized,
    seconds_of,
    with_prosody,
)
from fond_echo.core.xml_tree import Element, read_tree

MAX_CHARACTERS = 400_000
DEEPEST = 20
SAY_AS = frozenset(
    "characters spell-out digits number cardinal ordinal telephone date time currency unit "
    "fraction address verbatim".split()
)
STRENGTHS = {"none": 0.0, "x-weak": 0.08, "weak": 0.18, "medium": 0.3, "strong": 0.5,
             "x-strong": 0.9}  # fmt: skip
"""Seconds."""

SENTENCE, PARAGRAPH = 0.42, 0.65


@dataclass(frozen=True)
class Words:
    """Text that is said.

    Attributes:
        voice: another than usual, by name.
        as_kind, as_format: what its figures are (say-as).
        sounds: its phonemes, where they are given.
    """

    text: str
    prosody: Prosody = PLAIN
    voice: str = ""
    as_kind: str = ""
    as_format: str = ""
    sounds: Pronunciation = ()


@dataclass(frozen=True)
class Pause:
    """Nothing is said for so many seconds; `least` where the text may want a longer one."""

    seconds: float
    least: bool = False


@dataclass(frozen=True)
class MarkHere:
    """A place whose time is reported."""

    name: str


@dataclass(frozen=True)
class Recording:
    """A sound by its name, with what is said where no recording has that name."""

    source: str
    instead: tuple[Part, ...] = ()


@dataclass(frozen=True)
class Stretched:
    """What is said in so many seconds, or along a contour of pitch; 0 is as long as it takes."""

    parts: tuple[Part, ...]
    seconds: float = 0.0
    contour: tuple[tuple[float, Prosody], ...] = ()


@dataclass(frozen=True)
class LexiconHere:
    """A lexicon that is to be used, by its name; whoever speaks has its own at hand, or says that
    there is none."""

    source: str


Part = Words | Pause | MarkHere | Recording | Stretched | LexiconHere


def is_ssml(text: str) -> bool:
    """Whether a text is meant as markup."""
    return text.lstrip()[:200].startswith(("<speak", "<?xml"))


def _error_at(what: str, *, line: int, column: int, remedy: str = "") -> SsmlError:
    return SsmlError(what, where=f"line {line}, column {column}", remedy=remedy)


def read_ssml(text: str) -> tuple[Part, ...]:
    """What is said, in order.

    Raises:
        SsmlError: with the line and column of the first thing that is wrong.
    """
    if len(text) > MAX_CHARACTERS:
        raise SsmlError(f"over {MAX_CHARACTERS:,} characters are not spoken at once")
    tree = read_tree(text.strip(), _error_at, deepest=DEEPEST)
    if tree.name != "speak":
        raise tree.error(f"the document is a {tree.name!r}, not speak")
    return tuple(_inside(tree, Words("")))


def _inside(element: Element, how: Words) -> Iterator[Part]:
    for each in element.inside:
        if isinstance(each, str):
            text = re.sub(r"\s+", " ", each)
            if text.strip():
                yield replace(how, text=text)
        else:
            try:
                yield from _of(each, how)
            except BadValue as error:
                raise each.error(str(error)) from None


def _of(element: Element, how: Words) -> Iterator[Part]:
    given = element.attributes
    match element.name:
        case "speak" | "w" | "token" | "lang":
            yield from _inside(element, how)
        case "p" | "s":
            yield from _inside(element, how)
            yield Pause(PARAGRAPH if element.name == "p" else SENTENCE, least=True)
        case "break":
            yield Pause(_pause(given))
        case "emphasis":
            prosody = emphasized(how.prosody, given.get("level", "moderate"))
            yield from _inside(element, replace(how, prosody=prosody))
        case "prosody":
            yield from _prosody(element, how)
        case "voice":
            name = given.get("name", "").split(" ")[0]
            yield from _inside(element, replace(how, voice=name or how.voice))
        case "sub":
            if not given.get("alias"):
                raise element.error("sub needs an alias", 'write <sub alias="doctor">Dr</sub>')
            yield replace(how, text=given["alias"])
        case "say-as":
            kind = given.get("interpret-as", "")
            if kind not in SAY_AS:
                raise element.error(
                    f"interpret-as {kind!r} is not one of {', '.join(sorted(SAY_AS))}"
                )
            yield from _inside(
                element, replace(how, as_kind=kind, as_format=given.get("format", ""))
            )
        case "phoneme":
            yield replace(how, text=_text(element) or "·", sounds=_sounds(element))
        case "mark":
            yield MarkHere(given.get("name", ""))
        case "audio":
            yield Recording(given.get("src", ""), tuple(_inside(element, how)))
        case "lexicon":
            yield LexiconHere(given.get("uri", ""))
        case "lookup":
            yield from _inside(element, how)
        case "desc" | "meta" | "metadata":
            pass
        case _:
            raise element.error(f"<{element.name}> is not spoken", "leave it out")


def _prosody(element: Element, how: Words) -> Iterator[Part]:
    given = element.attributes
    prosody = with_prosody(how.prosody, given)
    parts = tuple(_inside(element, replace(how, prosody=prosody)))
    if "duration" not in given and "contour" not in given:
        yield from parts
        return
    seconds = seconds_of(given["duration"]) if "duration" in given else 0.0
    yield Stretched(parts, seconds, contour_of(given["contour"]) if "contour" in given else ())


def _pause(given: dict[str, str]) -> float:
    if "time" in given:
        return seconds_of(given["time"])
    strength = given.get("strength", "medium")
    if strength not in STRENGTHS:
        raise BadValue(f"strength {strength!r} is not one of {', '.join(STRENGTHS)}")
    return STRENGTHS[strength]


def _text(element: Element) -> str:
    return "".join(
        each if isinstance(each, str) else _text(each) for each in element.inside
    ).strip()


def _sounds(element: Element) -> Pronunciation:
    written, alphabet = element.attributes.get("ph", ""), element.attributes.get("alphabet", "ipa")
    if len(written) > MAX_SIGNS:
        raise element.error(
            f"ph has {len(written):,} signs, and may have {MAX_SIGNS}", "say one word with it"
        )
    if alphabet == "ipa":
        try:
            found = from_ipa(written)
        except ValueError as error:
            raise element.error(f"the sign {error.args[0]!r} in ph is not known") from None
    elif alphabet == "x-arpabet":
        found = tuple(written.upper().split())
        unknown = [each for each in found if base(each) not in PHONEMES]
        if unknown:
            raise element.error(f"{unknown[0]!r} is no phoneme of ARPABET")
    else:
        raise element.error(f"alphabet {alphabet!r} is not one of ipa, x-arpabet")
    if not found:
        raise element.error("ph is empty", 'write <phoneme ph="ˈpɛl">Pell</phoneme>')
    return found


def recordings_in(parts: tuple[Part, ...]) -> Iterator[str]:
    """The names of the recordings that are to be played."""
    for part in parts:
        if isinstance(part, Recording):
            yield part.source
            yield from recordings_in(part.instead)
        elif isinstance(part, Stretched):
            yield from recordings_in(part.parts)


def lexicons_in(parts: tuple[Part, ...]) -> list[str]:
    """The names of the lexicons that are to be used."""
    return [part.source for part in parts if isinstance(part, LexiconHere)]


def voices_in(parts: tuple[Part, ...]) -> Iterator[str]:
    """The names of the voices that are asked for."""
    for part in parts:
        match part:
            case Words(voice=voice) if voice:
                yield voice
            case Recording(instead=inside) | Stretched(parts=inside):
                yield from voices_in(inside)


def plain_of(text: str) -> str:
    """The words of SSML as they are read, with punctuation where it pauses.

    Raises:
        SsmlError: with the place of what is wrong.
    """
    said = re.sub(r"[ \t]+", " ", "".join(_plain(read_ssml(text))))
    said = re.sub(r"\s+([.,;:!?])", r"\1", said)
    return re.sub(r"([.,!?])(?:\s*[.,])+", r"\1", said).strip(" ,\n")


def _plain(parts: tuple[Part, ...]) -> Iterator[str]:
    for part in parts:
        match part:
            case Words(text=text):
                yield text if part.text != "·" else ""
            case Pause(seconds=seconds):
                yield " " if seconds < 0.1 else ", " if seconds < 0.35 else ". "
            case Recording(instead=instead):
                yield from _plain(instead)
            case Stretched(parts=inside):
                yield from _plain(inside)
