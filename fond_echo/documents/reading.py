"""Reading an assistant's bundle of files, with every fault at its place."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from fnmatch import fnmatch
from typing import Any

from fond_echo.core.dialogue.documents import Documents
from fond_echo.core.dialogue.errors import UnreadableDocument
from fond_echo.core.dialogue.examples import reader_of
from fond_echo.core.dialogue.functions import BRIEF, ROUTE
from fond_echo.core.dialogue.outcomes import DID_YOU_MEAN, FALLBACK
from fond_echo.core.dialogue.pages import READABLE, as_markdown
from fond_echo.core.dialogue.phrases import PLACE
from fond_echo.core.grammar.abnf import read_abnf
from fond_echo.core.grammar.check import check_grammar
from fond_echo.core.grammar.errors import GrammarError
from fond_echo.core.grammar.model import Grammar
from fond_echo.core.grammar.xml_form import read_xml
from fond_echo.core.language.errors import LexiconError, SsmlError
from fond_echo.core.language.language import Language
from fond_echo.core.language.placeholders import LEFT_IN_PAGES
from fond_echo.core.language.pls import read_pls
from fond_echo.core.language.registry import codes
from fond_echo.core.language.ssml import is_ssml, lexicons_in, read_ssml, voices_in
from fond_echo.documents.assistant import MAIN_FILE, MAX_FILES, AssistantFile
from fond_echo.documents.case import read_cases
from fond_echo.documents.errors import FileError, InvalidFile, nearest
from fond_echo.documents.media_checks import media_errors
from fond_echo.documents.offered import known_voices
from fond_echo.documents.pdf import SUFFIX, is_pdf, markdown_of_pdf
from fond_echo.documents.route import RouteSpec
from fond_echo.documents.scenario import read_scenarios
from fond_echo.documents.source import Path, Source, read_yaml
from fond_echo.documents.template_checks import brief_errors, logic_errors, own_template_errors
from fond_echo.documents.validate import validated

GRAMMARS = (".abnf", ".grxml")
TEMPLATES_OF_REPLIES = (
    "text", "spoken", "unknown", "kept", "to", "announced", "no_conference", "draw",
)  # fmt: skip


def read_assistant(files: Mapping[str, str]) -> AssistantFile:
    """Read and check a bundle of files.

    Args:
        files: contents by name; `assistant.yaml` must be among them.

    Raises:
        InvalidFile: with every fault that was found.
    """
    if MAIN_FILE not in files:
        have = ", ".join(sorted(files)[:8]) or "no files"
        raise InvalidFile([FileError(MAIN_FILE, 1, 1, "the file is missing", f"there is: {have}")])
    if len(files) > MAX_FILES:
        raise InvalidFile([FileError(MAIN_FILE, 1, 1, f"more than {MAX_FILES} files")])
    source = read_yaml(files[MAIN_FILE], MAIN_FILE)
    assistant = validated(source, AssistantFile)
    if assistant.language not in codes():
        known = nearest(assistant.language, codes())
        what = f"the language {assistant.language!r} is not known"
        raise InvalidFile([source.error(("language",), what, known)])
    language = assistant.its_language
    errors: list[FileError] = []
    grammars = _grammars(files, language, errors)
    if assistant.grammar and assistant.grammar not in grammars and not errors:
        known = nearest(assistant.grammar, grammars)
        what = f"there is no file {assistant.grammar!r}"
        errors.append(source.error(("grammar",), what, known))
    errors += _lexicon(assistant, files, source)
    assistant._grammar = grammars.get(assistant.grammar, language.types.builtin_grammar())
    if errors:
        # What stands on a grammar that cannot be read is not judged.
        raise InvalidFile(errors)
    errors += _errors(assistant, source)
    errors += _documents(assistant, files, source)
    errors += media_errors(assistant, files, source)
    errors += _cases(files)
    if errors:
        raise InvalidFile(errors)
    return assistant


def _cases(files: Mapping[str, str]) -> tuple[FileError, ...]:
    try:
        read_cases(files)
        read_scenarios(files)
    except InvalidFile as error:
        return error.errors
    return ()


def _grammars(
    files: Mapping[str, str], language: Language, errors: list[FileError]
) -> dict[str, Grammar]:
    """All grammars of the bundle; they may refer to one another."""
    found: dict[str, Grammar] = {"builtin:": language.types.builtin_grammar()}
    spoken = language.writing.spoken_tokens
    for name, text in files.items():
        if name.endswith(GRAMMARS):
            try:
                reader = read_abnf if name.endswith(".abnf") else read_xml
                read = reader(text, spoken=spoken)
            except GrammarError as error:
                errors.append(_grammar_fault(name, error))
                continue
            found[name] = Grammar(read.rules, read.root, read.language, found)
    for name, grammar in found.items():
        if name == "builtin:" or errors:
            continue
        try:
            check_grammar(grammar)
        except GrammarError as error:
            errors.append(_grammar_fault(name, error))
    return found


def _lexicon(
    assistant: AssistantFile, files: Mapping[str, str], source: Source
) -> Iterator[FileError]:
    """Give the assistant the words of its lexicon."""
    name = assistant.lexicon
    if not name:
        return
    if name not in files:
        known = nearest(name, [each for each in files if each.endswith(".pls")])
        yield source.error(("lexicon",), f"there is no file {name!r}", known)
        return
    try:
        assistant._pronounced = read_pls(files[name])
    except LexiconError as error:
        yield FileError(name, error.line, error.column, error.what, error.remedy)


def _grammar_fault(file: str, error: GrammarError) -> FileError:
    return FileError(file, max(1, error.line), max(1, error.column), error.what, error.remedy)


def _documents(
    assistant: AssistantFile, files: Mapping[str, str], source: Source
) -> Iterator[FileError]:
    """Give every reply with documents its documents."""
    for route, path, reply in assistant.replies():
        chosen: dict[str, str] = {}
        read: dict[str, str] = {}
        for number, pattern in enumerate(reply.documents):
            matching = {name: text for name, text in files.items() if fnmatch(name, pattern)}
            if not matching:
                there = nearest(pattern, [n for n in files if n.endswith((*READABLE, SUFFIX))])
                yield source.error((*path, "documents", number), f"no file is {pattern!r}", there)
            chosen |= matching
        for name, text in chosen.items():
            reader = markdown_of_pdf if is_pdf(name) else as_markdown
            try:
                read[name] = reader(name, text)
                yield from _unfilled(name, read[name])
            except UnreadableDocument as error:
                yield source.error((*path, "documents"), error.what, error.remedy)
        if read:
            assistant._documents[route] = Documents({}, assistant.its_language, read)


def _unfilled(name: str, text: str) -> Iterator[FileError]:
    for number, line in enumerate(text.splitlines(), 1):
        for found in LEFT_IN_PAGES.finditer(line):
            what = f"{found[0]!r} stands in a page, and nothing fills it in"
            yield FileError(name, number, found.start() + 1, what, "write what is meant")


def _errors(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    if assistant.voice not in known_voices():
        known = nearest(assistant.voice, known_voices())
        yield source.error(("voice",), f"there is no voice {assistant.voice!r}", known)
    yield from logic_errors(assistant, source)
    for name, kind in ((ROUTE, "routes"), (BRIEF, "briefs")):
        if name in assistant.logic:
            what = f"{name} is how an assistant's own {kind} are offered to engines"
            yield source.error(("logic", name), what, "give the service another name")
    own = assistant.greeting
    said: dict[Path, str] = {
        (name,): getattr(assistant, name) for name in ("goodbye", "operator", "operator_closed")
    }
    if own is not None:
        said |= {("greeting",): own.text, ("greeting", "spoken"): own.spoken}
    for at, words in said.items():
        yield from _markup_errors(assistant, source, at, words)
        yield from own_template_errors(source, at, words)
    yield from _doubles(assistant, source)
    yield from brief_errors(assistant, source)
    for place, route in enumerate(assistant.routes):
        path: Path = ("routes", place)
        if route.route in (FALLBACK, DID_YOU_MEAN):
            yield source.error(
                (*path, "route"), f"{route.route} is not a route", "use another name"
            )
        if route.rule and route.rule not in assistant.rules.rules:
            known = nearest(route.rule, assistant.rules.rules)
            yield source.error((*path, "rule"), f"there is no rule {route.rule!r}", known)
        yield from _slot_errors(assistant, source, path, route)
        yield from own_template_errors(source, (*path, "closed"), route.closed, slots=route.slots)
        if route.closed and assistant.hours is None:
            yield source.error(
                (*path, "closed"),
                "the assistant has no hours",
                'hours: {open: {mon-fri: "08:00-18:00"}}',
            )
    yield from _file_errors(assistant, source)
    for name, path, reply in assistant.replies():
        of_route = assistant.route(name)
        slots = of_route.slots if of_route is not None else ()
        yield from _markup_errors(assistant, source, (*path, "spoken"), reply.spoken)
        yield from _markup_errors(assistant, source, (*path, "text"), reply.text)
        if reply.voice and reply.voice not in known_voices():
            known = nearest(reply.voice, known_voices())
            yield source.error((*path, "voice"), f"there is no voice {reply.voice!r}", known)
        for field in TEMPLATES_OF_REPLIES:
            # What comes to be recorded is said after its route: no slot is at hand any more.
            known_slots = () if field == "kept" else slots
            yield from own_template_errors(
                source, (*path, field), getattr(reply, field), slots=known_slots
            )
        for field in ("logic", "undo"):
            service = getattr(reply, field).partition(".")[0]
            if service and service not in assistant.logic:
                known = nearest(service, assistant.logic)
                yield source.error((*path, field), f"there is no logic {service!r}", known)
        for function in reply.functions:
            service = function.partition(".")[0]
            if service not in assistant.logic:
                known = nearest(service, assistant.logic)
                what = f"there is no logic {service!r}"
                yield source.error((*path, "functions", function), what, known)
        if reply.free and not assistant.engines.answer:
            remedy = "name one: engines: {answer: [NAME]}"
            yield source.error((*path, "free"), "no engine answers freely", remedy)
        if reply.then == "operator" and not assistant.operator:
            what = "there is no operator to hand over to"
            yield source.error(
                (*path, "then"), what, "set operator: to what the assistant says when it hands over"
            )


def _file_errors(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    """Files that people send must reach somebody who makes something of them."""
    takes = assistant.accepts_files
    if takes is None:
        return
    if takes.route is not None and assistant.route(takes.route) is None:
        known = nearest(takes.route, [each.route for each in assistant.routes])
        what = f"there is no route {takes.route!r}"
        yield source.error(("accepts_files", "route"), what, known)
    elif not any(reply.logic or reply.free for _, _, reply in assistant.replies()):
        yield source.error(
            ("accepts_files",), "no reply asks business logic or an engine, so files reach nobody",
            "give a route reply: {logic: SERVICE.ACTION}, or the fallback free: true", key=True,
        )  # fmt: skip


def _doubles(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    """Names, commands, keys and examples that are there twice."""
    known: dict[tuple[str, Any], tuple[str, Path]] = {}
    spoken = reader_of(assistant.its_language).spoken
    for place, route in enumerate(assistant.routes):
        path: Path = ("routes", place)
        unique: list[tuple[str, Any, str, Path]] = [
            ("route", route.route, route.route, (*path, "route")),
            ("key", route.key, route.key, (*path, "key")),
            ("command", route.command.lower(), route.command, (*path, "command")),
        ]
        for number, example in enumerate(route.examples):
            words = PLACE.sub(" ", example)
            tokens = spoken(words)
            if not tokens:
                yield source.error((*path, "examples", number), f"{example!r} has no word in it")
            unique.append(
                ("example", (*tokens, words != example), example, (*path, "examples", number))
            )
        for kind, value, shown, at in unique:
            if not value:
                continue
            owner, first = known.setdefault((kind, value), (route.route, at))
            if first == at or (kind == "example" and owner == route.route):
                continue
            what = {
                "route": f"a second route {shown!r}",
                "key": f"the key {shown} leads to {owner} too",
                "command": f"{shown!r} is the command of {owner} too",
                "example": f"{shown!r} is an example of {owner} too",
            }[kind]
            yield source.error(at, what, f"see line {source.place(first).line}")


def _slot_errors(
    assistant: AssistantFile, source: Source, path: Path, route: RouteSpec
) -> Iterator[FileError]:
    for name, slot in route.slots.items():
        at: Path = (*path, "slots", name)
        if slot.rule and slot.rule not in assistant.rules.rules:
            known = nearest(slot.rule, assistant.rules.rules)
            yield source.error((*at, "rule"), f"there is no rule {slot.rule!r}", known)
        kinds = _kinds(assistant.its_language)
        if slot.kind and slot.kind not in kinds:
            yield source.error(
                (*at, "kind"), f"no kind is {slot.kind!r}", nearest(slot.kind, kinds)
            )
        if slot.required and not slot.wordings[0]:
            yield source.error(at, "a slot that is needed must be asked for", "ask: Which …?")
        for number, text in enumerate(slot.wordings):
            where = (*at, "ask") if isinstance(slot.ask, str) else (*at, "ask", number)
            yield from own_template_errors(source, where, text, slots=route.slots)
        for number, wanted in enumerate(slot.conditions):
            for part in ("condition", "message"):
                where = (*at, "validate", number, part)
                text = getattr(wanted, part)
                yield from own_template_errors(source, where, text, "value", slots=route.slots)
    if any(slot.confirm for slot in route.slots.values()) and not route.read_back:
        what = "a slot is confirmed, and nothing is read back"
        yield source.error(
            (*path, "slots"), what, "read_back: To {{ slots.island }}. Is that right?"
        )
    yield from own_template_errors(source, (*path, "read_back"), route.read_back, slots=route.slots)


def _markup_errors(
    assistant: AssistantFile, source: Source, path: Path, text: str
) -> Iterator[FileError]:
    """What is wrong with markup; what a template fills in is known only when it is said."""
    if not is_ssml(text) or "{{" in text or "{%" in text:
        return
    try:
        parts = read_ssml(text)
    except SsmlError as error:
        where = f" ({error.where} of it)" if error.where else ""
        yield source.error(path, f"in the markup: {error.what}{where}", error.remedy)
        return
    for name in lexicons_in(parts):
        if name != assistant.lexicon:
            what = f"in the markup: the lexicon {name!r} is not the assistant's"
            remedy = f"use {assistant.lexicon}" if assistant.lexicon else f"add lexicon: {name}"
            yield source.error(path, what, remedy)
    for name in voices_in(parts):
        if name not in known_voices():
            what = f"in the markup: there is no voice {name!r}"
            yield source.error(path, what, nearest(name, known_voices()))


def _kinds(language: Language) -> list[str]:
    """The names of a language's built-in types."""
    rules = language.types.builtin_grammar().rules
    return sorted([*(name for name, rule in rules.items() if rule.public), "text"])
