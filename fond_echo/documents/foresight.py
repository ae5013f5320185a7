"""Warnings: what will go wrong with an assistant though nothing in its files is an error."""

from __future__ import annotations

import re
from collections.abc import Iterable, Iterator, Mapping, Sequence

from fond_echo.core.caching import Recent
from fond_echo.core.dialogue.examples import reader_of
from fond_echo.core.dialogue.phrases import PLACE, has_place
from fond_echo.core.dialogue.shaping import speakable
from fond_echo.core.grammar.lists import names_in
from fond_echo.core.language.language import Language
from fond_echo.core.language.placeholders import PLACEHOLDER
from fond_echo.documents.assistant import MAIN_FILE, AssistantFile
from fond_echo.documents.case import is_case
from fond_echo.documents.errors import FileError
from fond_echo.documents.source import Source, read_yaml

ALIKE = 0.8
"""Names that sound at least this alike cannot be told apart when they are heard."""

_TOP_KEY = re.compile(r"([a-z_]+)\s*:")

MAX_SPOKEN_WORDS = 60
MAX_SHOWN = 100
"""So many findings of a kind are shown, and how many more there are."""

MAX_PAIRS = 2_000
"""So many pairs that sound alike are remembered, so that what is new need only be compared."""


def warnings(assistant: AssistantFile, files: Mapping[str, str]) -> list[FileError]:
    """What will go wrong: examples nearer to another route, names that sound alike, replies too
    long to be listened to, unfilled placeholders. Each stands at its place, like
    errors."""
    source = read_yaml(files[MAIN_FILE], MAIN_FILE)
    found = [*_strays(assistant, source), *_same_sounds(assistant, source)]
    found += _shown(placeholders(files, assistant.allowed_placeholders), "unfilled placeholders")
    found += _shown(_long_replies(assistant, source), "replies are too long to be listened to")
    found += _shown(_unasked(assistant, source), "words to read back are never said")
    return sorted(found)


def _shown(found: Iterable[FileError], what: str, total: int = 0) -> Iterator[FileError]:
    """The first findings of a kind, and how many more there are.

    Args:
        total: of them, where not all are given.
    """
    listed = list(found)
    yield from listed[:MAX_SHOWN]
    more = max(total, len(listed)) - MAX_SHOWN
    if more > 0:
        last = listed[MAX_SHOWN - 1]
        yield FileError(last.file, last.line, last.column, f"{more:,} more {what}",
                        "correct these first, then check again")  # fmt: skip


def placeholders(files: Mapping[str, str], allowed: Sequence[str] = ()) -> list[FileError]:
    """Unfilled placeholders in the assistant's file and its documents, but those that are
    allowed."""
    return [each for each in _placeholders(files) if not any(a in each.what for a in allowed)]


def _placeholders(files: Mapping[str, str]) -> Iterator[FileError]:
    for name, text in files.items():
        if not name.endswith((".yaml", ".md")) or is_case(name) or not PLACEHOLDER.search(text):
            continue
        section = ""
        for number, line in enumerate(text.splitlines(), 1):
            if name.endswith(".yaml") and (key := _TOP_KEY.match(line)):
                section = key[1]
            # How business logic is asked is not said, but for what is said when it fails.
            if section == "allowed_placeholders" or (section == "logic" and "failed:" not in line):
                continue
            for found in PLACEHOLDER.finditer(line.partition(" #")[0]):
                what = f"{found[0]!r} looks like an unfilled placeholder: it would be said as it is"
                yield FileError(name, number, found.start() + 1, what, "write what is meant")


def _strays(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    """Every example is judged without itself: does its route win?"""
    from fond_echo.core.dialogue.strays import strays  # compiled code, which takes time to load

    read = reader_of(assistant.its_language).read
    at = [
        (place, number)
        for place, route in enumerate(assistant.routes)
        for number, _ in enumerate(route.examples)
    ]
    texts = [assistant.routes[place].examples[number] for place, number in at]
    examples = [read(PLACE.sub(" ", text)) for text in texts]
    found = strays(examples, [place for place, _ in at], assistant.its_language.wording)
    listed = []
    for each in found[:MAX_SHOWN]:
        place, number = at[each.place]
        other = assistant.routes[at[each.nearest][0]].route
        what = (
            f"{texts[each.place]!r} is nearer to {other} ({texts[each.nearest]!r})"
            f" than to {assistant.routes[place].route}"
        )
        path = ("routes", place, "examples", number)
        listed.append(source.error(path, what, "give its own route more examples like it"))
    yield from _shown(listed, "examples are nearer to another route than to their own", len(found))


def _same_sounds(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    """Names of one list, and whole examples of different routes, that sound alike."""
    language = assistant.its_language
    for name, rule in assistant.rules.rules.items() if assistant.grammar else ():
        listed = sorted(set(names_in(rule.body)))
        names = [said for said, _ in listed]
        pairs, total = _alike((assistant.assistant, name), language, ALIKE, names,
                              [worth for _, worth in listed])  # fmt: skip
        place = rule.line or 1, rule.column or 1
        found = [
            FileError(
                assistant.grammar, *place,
                f"in ${name}, {names[a]!r} and {names[b]!r} sound too alike to be told apart",
                "give one of them another name that can be said",
            )
            for a, b in pairs[:MAX_SHOWN]
        ]  # fmt: skip
        yield from _shown(found, f"pairs of names in ${name} sound too alike", total)
    said = [
        (" ".join(reader_of(language).spoken(text)), route.route, ("routes", place, "examples", at))
        for place, route in enumerate(assistant.routes)
        for at, text in enumerate(route.examples)
        if not has_place(text)
    ]
    lines, routes = [line for line, _, _ in said], [route for _, route, _ in said]
    pairs, total = _alike((assistant.assistant, ""), language, ALIKE + 0.05, lines, routes)
    found = [
        source.error(
            said[b][2], f"{said[b][0]!r} sounds like {said[a][0]!r} of {said[a][1]}",
            "word one of them differently",
        )
        for a, b in pairs[:MAX_SHOWN]
    ]  # fmt: skip
    yield from _shown(found, "pairs of examples sound alike", total)


_finders: Recent[tuple[str, ...], object] = Recent(64)


def _alike(
    of: tuple[str, str], language: Language, least: float,
    phrases: Sequence[str], groups: Sequence[str],
) -> tuple[list[tuple[int, int]], int]:  # fmt: skip
    """Pairs that sound alike; of an assistant that is checked again, only what is new is compared.

    Args:
        of: what they are phrases of: an assistant, and its rule.
    """
    from fond_echo.core.language.alike import AlikeFinder  # as above

    key = *of, language.code
    finder = _finders.get(key)
    if not isinstance(finder, AlikeFinder):
        finder = AlikeFinder(language.letters, least, MAX_PAIRS)
        _finders.keep(key, finder)
    return finder.pairs(phrases, groups)


def _long_replies(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    spoken = reader_of(assistant.its_language).spoken
    for _, path, reply in assistant.replies():
        text = reply.spoken or reply.text
        words = len(spoken(speakable(text)))
        if words > MAX_SPOKEN_WORDS and not (reply.sentences or reply.summary):
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
