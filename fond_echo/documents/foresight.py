"""Warnings: what will go wrong with an assistant though nothing in its files is an error."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from itertools import combinations

from fond_echo.core.dialogue.matching import ExampleMatcher
from fond_echo.core.dialogue.phrases import PLACE, has_place
from fond_echo.core.dialogue.shaping import speakable
from fond_echo.core.grammar.lists import names_in
from fond_echo.core.language.sounding import sound_likeness
from fond_echo.documents.assistant import MAIN_FILE, AssistantFile
from fond_echo.documents.case import is_case
from fond_echo.documents.errors import FileError
from fond_echo.documents.source import Source, read_yaml

ALIKE = 0.8
"""Names that sound at least this alike cannot be told apart when they are heard."""

PLACEHOLDER = re.compile(
    r"\[[A-Z][A-Z0-9 _'-]{2,}\]"
    r"|<(?:your|the|insert|enter|name|address|number|date|time|company|email|phone)\b[^<>]{0,40}>"
    r"|\bINSERT\b.{0,60}?\bHERE\b"
    r"|\b(?i:your company|company name here|lorem ipsum)\b"
)
"""What stands in for words that somebody was to write. Tags of SSML and HTML are none."""

MAX_SPOKEN_WORDS = 60
MAX_COMPARED = 200


def warnings(assistant: AssistantFile, files: Mapping[str, str]) -> list[FileError]:
    """What will go wrong: examples nearer to another route, names that sound alike, replies too
    long to be listened to, places that nobody filled in. Told at their places, like errors."""
    source = read_yaml(files[MAIN_FILE], MAIN_FILE)
    found = [*_strays(assistant, source), *_same_sounds(assistant, files, source)]
    found += [*placeholders(files, assistant.allowed_placeholders)]
    found += _long_replies(assistant, source)
    return sorted([*found, *_unasked(assistant, source)])


def placeholders(files: Mapping[str, str], allowed: Sequence[str] = ()) -> list[FileError]:
    """Places that nobody filled in, in the assistant's file and its documents, but those that are
    allowed."""
    return [each for each in _placeholders(files) if not any(a in each.what for a in allowed)]


def _placeholders(files: Mapping[str, str]) -> Iterator[FileError]:
    for name, text in files.items():
        if not name.endswith((".yaml", ".md")) or is_case(name):
            continue
        for number, line in enumerate(text.splitlines(), 1):
            if "allowed_placeholders" in line:
                continue
            for found in PLACEHOLDER.finditer(line.partition(" #")[0]):
                what = f"{found[0]!r} looks like a place that nobody filled in: it would be said"
                yield FileError(name, number, found.start() + 1, what, "write what is meant")


def _strays(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    """Every example is judged without itself: does its route win?"""
    spoken = assistant.its_language.writing.spoken_tokens
    examples = {
        route.route: [(text, spoken(PLACE.sub(" ", text))) for text in route.examples]
        for route in assistant.routes
        if route.examples
    }
    matcher = ExampleMatcher(examples, assistant.its_language)
    number = 0
    for place, route in enumerate(assistant.routes):
        for at, text in enumerate(route.examples):
            tokens = spoken(PLACE.sub(" ", text))
            found = dict(zip(matcher.routes, matcher.best(tokens, without=number), strict=True))
            number += 1
            other = max(
                (n for n in found if n != route.route), key=lambda n: found[n].score, default=""
            )
            if not other or found[other].score <= max(0.4, found[route.route].score + 0.05):
                continue
            what = f"{text!r} is nearer to {other} ({found[other].example!r}) than to {route.route}"
            path = ("routes", place, "examples", at)
            yield source.error(path, what, "give its own route more examples like it")


def _same_sounds(
    assistant: AssistantFile, files: Mapping[str, str], source: Source
) -> Iterator[FileError]:
    """Names of one list, and whole examples of different routes, that sound alike."""
    language = assistant.its_language
    letters, spoken = language.letters, language.writing.spoken_tokens
    for name, rule in assistant.rules.rules.items():
        if not assistant.grammar:
            break
        listed = sorted(set(names_in(rule.body)))[:MAX_COMPARED]
        for (first, one), (second, other) in combinations(listed, 2):
            if one != other and sound_likeness(first, second, letters) >= ALIKE:
                what = f"in ${name}, {first!r} and {second!r} sound too alike to be told apart"
                remedy = "give one of them another name that can be said"
                yield FileError(assistant.grammar, rule.line or 1, rule.column or 1, what, remedy)
    said = [
        (" ".join(spoken(text)), route.route, ("routes", place, "examples", at))
        for place, route in enumerate(assistant.routes)
        for at, text in enumerate(route.examples)
        if not has_place(text)
    ][:MAX_COMPARED]
    for (one, first, _), (other, second, path) in combinations(said, 2):
        if first != second and sound_likeness(one, other, letters) >= ALIKE + 0.05:
            what = f"{other!r} sounds like {one!r} of {first}"
            yield source.error(path, what, "word one of them differently")


def _long_replies(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    for _, path, reply in assistant.replies():
        text = reply.spoken or reply.text
        words = len(assistant.its_language.writing.spoken_tokens(speakable(text)))
        if words > MAX_SPOKEN_WORDS and not reply.sentences:
            where = (*path, "spoken" if reply.spoken else "text")
            what = f"spoken, this is {words} words long"
            yield source.error(where, what, "add spoken: with less, or sentences: 2")


def _unasked(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    """Words that read a request back, where nothing is to be confirmed."""
    for place, route in enumerate(assistant.routes):
        if route.read_back and not any(slot.confirm for slot in route.slots.values()):
            what = f"read_back of {route.route} is never said: none of its slots is to be confirmed"
            path = ("routes", place, "read_back")
            yield source.error(path, what, "write confirm: true under a slot, or leave it out")
