"""Reading an assistant's bundle of files, with every fault at its place."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from fnmatch import fnmatch
from typing import Any

from fond_echo.core.dialogue.pages import Pages
from fond_echo.core.dialogue.routing import DID_YOU_MEAN, OTHERWISE
from fond_echo.core.grammar.abnf import read_abnf
from fond_echo.core.grammar.check import check_grammar
from fond_echo.core.grammar.model import Grammar, GrammarFault
from fond_echo.core.grammar.values import builtin_grammar, kinds
from fond_echo.core.grammar.xml_form import read_xml
from fond_echo.core.language.languages import LANGUAGES
from fond_echo.core.language.pls import LexiconFault, read_pls
from fond_echo.core.language.spoken import spoken_tokens
from fond_echo.core.language.templates import TemplateFault, compile_template
from fond_echo.core.synthesis.speaker import VOICES
from fond_echo.documents.assistant import (
    MAIN_FILE,
    MOST_FILES,
    TEMPLATE_NAMES,
    AssistantFile,
    RouteSpec,
)
from fond_echo.documents.faults import Fault, FaultyFile, nearest
from fond_echo.documents.sounds import sound_faults
from fond_echo.documents.source import Path, Source, read_yaml
from fond_echo.documents.validate import validated

GRAMMARS = (".abnf", ".grxml")
_PLACEHOLDER = re.compile(r"\{\{(?:(?!\{\{|\}\}).)*\}\}|\bTODO\b|\bTBD\b|\bXXX\b")


def read_assistant(files: Mapping[str, str]) -> AssistantFile:
    """Read and check a bundle of files.

    Args:
        files: contents by name; `assistant.yaml` must be among them.

    Raises:
        FaultyFile: with every fault that was found.
    """
    if MAIN_FILE not in files:
        have = ", ".join(sorted(files)[:8]) or "no files"
        raise FaultyFile([Fault(MAIN_FILE, 1, 1, "the file is missing", f"there is: {have}")])
    if len(files) > MOST_FILES:
        raise FaultyFile([Fault(MAIN_FILE, 1, 1, f"more than {MOST_FILES} files")])
    source = read_yaml(files[MAIN_FILE], MAIN_FILE)
    assistant = validated(source, AssistantFile)
    faults: list[Fault] = []
    grammars = _grammars(files, faults)
    if assistant.grammar and assistant.grammar not in grammars and not faults:
        known = nearest(assistant.grammar, grammars)
        what = f"there is no file {assistant.grammar!r}"
        faults.append(source.fault(("grammar",), what, known))
    faults += _lexicon(assistant, files, source)
    assistant._grammar = grammars.get(assistant.grammar, builtin_grammar())
    if faults:
        # What stands on a grammar that cannot be read is not judged.
        raise FaultyFile(faults)
    faults += _faults(assistant, source)
    faults += _pages(assistant, files, source)
    faults += sound_faults(assistant, files, source)
    if faults:
        raise FaultyFile(faults)
    return assistant


def _grammars(files: Mapping[str, str], faults: list[Fault]) -> dict[str, Grammar]:
    """All grammars of the bundle; they may refer to one another."""
    found: dict[str, Grammar] = {"builtin:": builtin_grammar()}
    for name, text in files.items():
        if name.endswith(GRAMMARS):
            try:
                read = read_abnf(text) if name.endswith(".abnf") else read_xml(text)
            except GrammarFault as error:
                faults.append(_grammar_fault(name, error))
                continue
            found[name] = Grammar(read.rules, read.root, read.language, found)
    for name, grammar in found.items():
        if name == "builtin:" or faults:
            continue
        try:
            check_grammar(grammar)
        except GrammarFault as error:
            faults.append(_grammar_fault(name, error))
    return found


def _lexicon(assistant: AssistantFile, files: Mapping[str, str], source: Source) -> Iterator[Fault]:
    """Give the assistant the words of its lexicon."""
    name = assistant.lexicon
    if not name:
        return
    if name not in files:
        known = nearest(name, [each for each in files if each.endswith(".pls")])
        yield source.fault(("lexicon",), f"there is no file {name!r}", known)
        return
    try:
        assistant._pronounced = read_pls(files[name])
    except LexiconFault as error:
        yield Fault(name, error.line, error.column, error.what, error.remedy)


def _grammar_fault(file: str, error: GrammarFault) -> Fault:
    return Fault(file, max(1, error.line), max(1, error.column), error.what, error.remedy)


def _pages(assistant: AssistantFile, files: Mapping[str, str], source: Source) -> Iterator[Fault]:
    """Give every reply with pages its pages."""
    for route, path, reply in assistant.replies():
        chosen: dict[str, str] = {}
        for number, pattern in enumerate(reply.pages):
            matching = {name: text for name, text in files.items() if fnmatch(name, pattern)}
            if not matching:
                there = nearest(pattern, [name for name in files if name.endswith(".md")])
                yield source.fault((*path, "pages", number), f"no file is {pattern!r}", there)
            chosen |= matching
        for name, text in chosen.items():
            yield from _unfilled(name, text)
        if chosen:
            assistant._pages[route] = Pages(chosen)


def _unfilled(name: str, text: str) -> Iterator[Fault]:
    for number, line in enumerate(text.splitlines(), 1):
        for found in _PLACEHOLDER.finditer(line):
            what = f"{found[0]!r} stands in a page, and nothing fills it in"
            yield Fault(name, number, found.start() + 1, what, "write what is meant")


def _faults(assistant: AssistantFile, source: Source) -> Iterator[Fault]:
    if assistant.language not in LANGUAGES:
        known = nearest(assistant.language, LANGUAGES)
        yield source.fault(("language",), f"no ear for {assistant.language!r}", known)
    if assistant.voice not in VOICES:
        known = nearest(assistant.voice, VOICES)
        yield source.fault(("voice",), f"there is no voice {assistant.voice!r}", known)
    for name in ("greeting", "goodbye", "person"):
        yield from _template_faults(source, (name,), getattr(assistant, name))
    yield from _doubles(assistant, source)
    for place, route in enumerate(assistant.routes):
        path: Path = ("routes", place)
        if route.route in (OTHERWISE, DID_YOU_MEAN):
            yield source.fault(
                (*path, "route"), f"{route.route} is not a route", "use another name"
            )
        if route.said and route.said not in assistant.rules.rules:
            known = nearest(route.said, assistant.rules.rules)
            yield source.fault((*path, "said"), f"there is no rule {route.said!r}", known)
        yield from _slot_faults(assistant, source, path, route)
    for _, path, reply in assistant.replies():
        yield from _template_faults(source, (*path, "text"), reply.text)
        yield from _template_faults(source, (*path, "spoken"), reply.spoken)
        for name in ("unknown", "kept", "to"):
            yield from _template_faults(source, (*path, name), getattr(reply, name))
        service = reply.logic.partition(".")[0]
        if service and service not in assistant.logic:
            known = nearest(service, assistant.logic)
            yield source.fault((*path, "logic"), f"there is no logic {service!r}", known)
        if reply.then == "person" and not assistant.person:
            what = "there is no person to hand over to"
            yield source.fault((*path, "then"), what, "say so with person: …")


def _doubles(assistant: AssistantFile, source: Source) -> Iterator[Fault]:
    """Names, commands, keys and examples that are there twice."""
    known: dict[tuple[str, Any], tuple[str, Path]] = {}
    for place, route in enumerate(assistant.routes):
        path: Path = ("routes", place)
        unique: list[tuple[str, Any, str, Path]] = [
            ("route", route.route, route.route, (*path, "route")),
            ("key", route.key, route.key, (*path, "key")),
            ("typed", route.typed.lower(), route.typed, (*path, "typed")),
        ]
        for number, example in enumerate(route.like):
            tokens = tuple(spoken_tokens(example))
            if not tokens:
                yield source.fault((*path, "like", number), f"{example!r} has no word in it")
            unique.append(("example", tokens, example, (*path, "like", number)))
        for kind, value, shown, at in unique:
            if not value:
                continue
            owner, first = known.setdefault((kind, value), (route.route, at))
            if first == at or (kind == "example" and owner == route.route):
                continue
            what = {
                "route": f"a second route {shown!r}",
                "key": f"the key {shown} leads to {owner} too",
                "typed": f"{shown!r} is typed for {owner} too",
                "example": f"{shown!r} is an example of {owner} too",
            }[kind]
            yield source.fault(at, what, f"see line {source.place(first).line}")


def _slot_faults(
    assistant: AssistantFile, source: Source, path: Path, route: RouteSpec
) -> Iterator[Fault]:
    for name, slot in route.slots.items():
        at: Path = (*path, "slots", name)
        if slot.rule and slot.rule not in assistant.rules.rules:
            known = nearest(slot.rule, assistant.rules.rules)
            yield source.fault((*at, "rule"), f"there is no rule {slot.rule!r}", known)
        if slot.kind and slot.kind not in kinds():
            yield source.fault(
                (*at, "kind"), f"no kind is {slot.kind!r}", nearest(slot.kind, kinds())
            )
        if slot.needed and not slot.wordings[0]:
            yield source.fault(at, "a slot that is needed must be asked for", "ask: Which …?")
        for number, text in enumerate(slot.wordings):
            where = (*at, "ask") if isinstance(slot.ask, str) else (*at, "ask", number)
            yield from _template_faults(source, where, text)
        for number, must in enumerate(slot.must):
            yield from _template_faults(source, (*at, "must", number, "that"), must.that, "value")
            yield from _template_faults(
                source, (*at, "must", number, "otherwise"), must.otherwise, "value"
            )
    if any(slot.confirm for slot in route.slots.values()) and not route.read_back:
        what = "a slot is confirmed, and nothing is read back"
        yield source.fault(
            (*path, "slots"), what, "read_back: To {{ slots.island }}. Is that right?"
        )
    yield from _template_faults(source, (*path, "read_back"), route.read_back)


def _template_faults(source: Source, path: Path, text: str, *more: str) -> Iterator[Fault]:
    try:
        names = compile_template(text).names
    except TemplateFault as error:
        yield source.fault(path, f"in the template, line {error.line}: {error.what}")
        return
    for name in sorted(names - TEMPLATE_NAMES - set(more)):
        known = nearest(name, TEMPLATE_NAMES | set(more))
        yield source.fault(path, f"nothing fills in {{{{ {name} }}}}", known)
