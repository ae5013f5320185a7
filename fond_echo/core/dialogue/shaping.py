"""A written reply as it is spoken: markup gone, lists and tables as sentences."""

from __future__ import annotations

import re
from collections import Counter

from fond_echo.core.language.language import Language

_LINK = re.compile(r"!?\[([^\]]*)\]\([^)]*\)")
_BARE_LINK = re.compile(r"<?https?://\S+?>?(?=[.,;:!?)\]]*(?:\s|$))")
"""Without the sign that ends the sentence behind it."""

FIRST, MATTERS, PLEASANTRY = 1.6, 0.5, 0.2
"""How much more the first sentence tells, what a figure and a thing to be done add, and what is
left of a pleasantry."""

_MARKS = re.compile(r"(\*\*|__|~~|`+|(?<!\w)[*_](?=\S)|(?<=\S)[*_](?!\w))")
_BULLET = re.compile(r"^\s*(?:[-*+•]|\d+[.)])\s+")
_HEADING = re.compile(r"^\s{0,3}#{1,6}\s+")
_RULE = re.compile(r"^\s*(?:\|?\s*:?-{3,}:?\s*)+\|?\s*$")


def speakable(text: str, link: str = "") -> str:
    """What is said for a written reply.

    Links keep their words and lose their addresses; one without words is said as `link` ("a
    link"); a heading, a list item or a table row becomes a
    sentence of its own; a table's column names are said before its values.
    """
    lines: list[str] = []
    head: list[str] | None = None
    for raw in text.splitlines():
        line = raw.strip()
        if line.startswith("|") and line.endswith("|") and len(line) > 1:
            cells = [cell.strip() for cell in line.strip("|").split("|")]
            if _RULE.match(line):
                continue
            if head is None:
                head = cells
            else:
                lines.append(_sentence(_row(head, cells)))
            continue
        head = None
        if not line or _RULE.match(line):
            continue
        heading = _HEADING.match(line)
        line = _HEADING.sub("", line)
        item = _BULLET.match(line)
        lines.append(_sentence(_BULLET.sub("", line)) if item or heading else line)
    spoken = " ".join(lines)
    spoken = _BARE_LINK.sub(link, _LINK.sub(lambda found: found[1] or link, spoken))
    spoken = re.sub(r"\s+([.,;:!?])(?=\s|$)", r"\1", _MARKS.sub("", spoken))
    return re.sub(r"\s+", " ", spoken).strip()


def first_sentences(text: str, most: int, language: Language) -> str:
    """The first sentences of a text that is spoken; SSML is left as it is."""
    if text.startswith("<speak"):
        return text
    return " ".join(language.writing.sentences_of(text)[:most])


def summary(text: str, most: int, language: Language) -> str:
    """The sentences of a text that tell most, in their order; SSML is left as it is."""
    return " ".join(summarized(text, most, language)[0])


def summarized(text: str, most: int, language: Language) -> tuple[list[str], list[str]]:
    """The sentences of a text that tell most, and those that are left out, both in their order.

    A sentence tells by the words in it that the whole text keeps coming back to, among those that
    say something; the first sentence says what the text is about, and counts for more. Steps,
    warnings, codes, times and amounts count for most, pleasantries for little. Nothing is put in
    other words.
    """
    if text.startswith("<speak"):
        return [text], []
    writing, wording = language.writing, language.wording
    sentences = writing.sentences_of(text)
    if len(sentences) <= most:
        return sentences, []
    spoken = [writing.spoken_tokens(each) for each in sentences]
    words = [[wording.stem(w) for w in each if w not in wording.FILLERS] for each in spoken]
    often = Counter(word for each in words for word in set(each))

    def tells(place: int) -> float:
        mean = sum(often[word] for word in words[place]) / (len(words[place]) + 3)
        if place == 0:
            mean *= FIRST
        said = set(spoken[place])
        if any(each.isdecimal() for each in sentences[place]) or any(
            language.numbers.is_number_word(word) for word in said
        ):
            mean += MATTERS
        if said & wording.URGENT:
            mean += MATTERS
        elif said & wording.PLEASANT:
            mean *= PLEASANTRY
        return mean

    best = set(sorted(range(len(sentences)), key=tells, reverse=True)[:most])
    kept = [each for place, each in enumerate(sentences) if place in best]
    return kept, [each for place, each in enumerate(sentences) if place not in best]


def _row(head: list[str], cells: list[str]) -> str:
    named = [
        f"{name} {cell}" if name else cell
        for name, cell in zip(head + [""] * len(cells), cells, strict=False)
        if cell
    ]
    return ", ".join(named)


def _sentence(text: str) -> str:
    return text if not text or text[-1] in ".!?:" else text + "."


def numbered(text: str, choices: list[str]) -> str:
    """A text with its choices as a numbered list, for lines without buttons."""
    if not choices:
        return text
    listed = "\n".join(f"{number}. {choice}" for number, choice in enumerate(choices, 1))
    return f"{text}\n\n{listed}" if text else listed
