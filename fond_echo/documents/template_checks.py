"""Templates of an assistant's file: whether something fills in all that they ask for."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from typing import Any

from fond_echo.contract.logic import LogicContact, LogicConversation, LogicRequest, LogicTurn
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.arrival_checks import BY_LOGIC, arrival_errors
from fond_echo.documents.assistant import TEMPLATE_NAMES, TEMPLATE_PARTS, AssistantFile
from fond_echo.documents.errors import FileError, nearest
from fond_echo.documents.services import LogicService
from fond_echo.documents.source import Path, Source
from fond_echo.documents.steps import names_in

LOGIC_PARTS: dict[str, Collection[str]] = {
    "turn": tuple(LogicTurn.model_fields),
    "contact": tuple(LogicContact.model_fields),
    "conversation": tuple(LogicConversation.model_fields),
}
"""What there is in the values of a question to business logic."""


def own_template_errors(
    source: Source, path: Path, text: str, *more: str, slots: Collection[str] = ()
) -> Iterator[FileError]:
    """What is wrong with a template.

    Args:
        more: names that it may ask for beside those of every template.
        slots: of its route.
    """
    parts = {**TEMPLATE_PARTS, "slots": frozenset(slots)}
    yield from template_errors(source, path, text, TEMPLATE_NAMES | set(more), parts)


def template_errors(
    source: Source, path: Path, text: str, known: Collection[str],
    parts: Mapping[str, Collection[str]],
) -> Iterator[FileError]:  # fmt: skip
    """What is wrong with a template that may ask for some values, and for some parts of them."""
    try:
        template = compile_template(text)
    except TemplateFailed as error:
        yield source.error(path, f"in the template, line {error.line}: {error.what}")
        return
    for name in sorted(template.names - set(known)):
        what = f"nothing fills in {{{{ {name} }}}}"
        yield source.error(path, what, nearest(name, known))
    for name, part in sorted(template.parts):
        if name in parts and part not in parts[name]:
            what = f"nothing fills in {{{{ {name}.{part} }}}}"
            yield source.error(path, what, nearest(part, parts[name]))


BRIEF_NAMES = frozenset(
    ("now", "channel", "language", "arrived_as", "confidence", "aloud", "in_call")
)
"""What a brief may ask for: nothing in it is a person's."""


def brief_errors(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    """What is wrong with briefs for engines, and with what is asked before a function is called."""
    briefs: list[tuple[Path, str]] = [(("brief",), assistant.brief)]
    briefs += [(("briefs", name, "brief"), each.brief) for name, each in assistant.briefs.items()]
    if assistant.briefs and not any(reply.free for _, _, reply in assistant.replies()):
        what = "no engine is asked for a reply, and nothing goes by these briefs"
        yield source.error(("briefs",), what, "free: true in a reply, such as that of fallback")
    for _, path, reply in assistant.replies():
        briefs.append(((*path, "brief"), reply.brief))
        for name, function in reply.functions.items():
            at = (*path, "functions", name, "confirm")
            parts = {**TEMPLATE_PARTS, "arguments": frozenset(function.arguments)}
            yield from template_errors(
                source, at, function.confirm, TEMPLATE_NAMES | {"arguments"}, parts
            )
    parts = {"now": TEMPLATE_PARTS["now"]}
    for path, brief in briefs:
        try:
            names = compile_template(brief).names
        except TemplateFailed as error:
            yield source.error(path, f"in the template, line {error.line}: {error.what}")
            continue
        for name in sorted(names & TEMPLATE_NAMES - BRIEF_NAMES):
            yield source.error(
                path,
                f"{{{{ {name} }}}} is the person's, and a brief is an instruction",
                "leave it out: name, memory and what was said go to the engine beside the brief",
            )
        if not names & TEMPLATE_NAMES - BRIEF_NAMES:
            yield from template_errors(source, path, brief, BRIEF_NAMES, parts)


def logic_errors(assistant: AssistantFile, source: Source) -> Iterator[FileError]:
    """What is wrong with the questions to services that are asked in their own shape."""
    slots = {name for route in assistant.routes for name in route.slots}
    functions = [each for _, _, reply in assistant.replies() for each in reply.functions.values()]
    slots |= {name for function in functions for name in function.arguments}
    parts = {**LOGIC_PARTS, "slots": slots}
    for name, service in assistant.logic.items():
        known = {*LogicRequest.model_fields, "text", "secrets"}
        found: list[FileError] = []
        for path, text in _templates_of(service):
            more = {*service.poll.take} if service.poll is not None and path[0] == "poll" else set()
            at = ("logic", name, *path)
            found += template_errors(source, at, text, known | more, parts)
        yield from found
        if service.request is not None and not found:
            asked_for = names_in([service.url, service.request, service.headers_as_text])
            where = ("logic", name, "request")
            yield from arrival_errors(source, where, asked_for, BY_LOGIC, "the request")


def _templates_of(service: LogicService) -> Iterator[tuple[Path, str]]:
    """The templates of a service, with their places in it."""
    yield from _texts(service.request, ("request",))
    for name, value in service.headers.items():
        if isinstance(value, str):
            yield ("headers", name), value
    if service.poll is not None:
        yield ("poll", "get"), service.poll.get


def _texts(tree: Any, path: Path) -> Iterator[tuple[Path, str]]:
    if isinstance(tree, str):
        yield path, tree
    elif isinstance(tree, Mapping):
        for name, value in tree.items():
            yield from _texts(value, (*path, str(name)))
    elif isinstance(tree, list):
        for place, value in enumerate(tree):
            yield from _texts(value, (*path, place))
