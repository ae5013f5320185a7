"""What an answer of business logic in its own shape gives beside words."""

from __future__ import annotations

from typing import Any

from pydantic import ValidationError

from fond_echo.connectors.answers import found_at, taken
from fond_echo.connectors.errors import LogicFailed
from fond_echo.contract.reply import MAX_ELEMENTS, Reply
from fond_echo.documents.services import Given, LogicService

THEN = {"end": "end", "operator": "operator", "transfer": "transfer"}
"""What may come after an answer, and its name in a reply."""


def reply_given(service: LogicService, document: Any) -> Reply:
    """The reply that an answer comes to, by the places that the assistant's file names.

    Raises:
        LogicFailed: there are no words and nothing in their place, or what stands at a place
            cannot be used: it says where, and what was found.
    """
    given, found = service.gives or Given(), dict[str, Any]()
    assert service.answer is not None
    found["text"] = _words(service.answer, document)
    for name in ("spoken", "voice", "route"):
        if path := getattr(given, name):
            found[name] = _words(path, document)
    if given.choices:
        found["choices"] = _listed(given.choices, document)[:MAX_ELEMENTS]
    for name in ("remember", "slots"):
        if (path := getattr(given, name)) and (value := taken(document, path)) is not None:
            if not isinstance(value, dict):
                raise _wrong(service, path, value, "an object")
            found[name] = value
    if found.get("remember"):
        found["remember_days"] = given.remember_days
    if given.file and (address := _words(given.file, document)):
        found["attachments"] = [{"url": address}]
    if given.rate and (rate := taken(document, given.rate)) is not None:
        found["prosody"] = {"rate": rate}
    if given.then and (word := _words(given.then, document).lower()):
        if word not in THEN:
            raise _wrong(service, given.then, word, f"one of {', '.join(THEN)}")
        to = {"to": _words(given.to, document)} if word == "transfer" and given.to else {}
        found["then"] = {"kind": THEN[word], **to}
    try:
        return Reply.model_validate(found)
    except ValidationError as error:
        first = error.errors()[0]
        if not first["loc"]:
            raise LogicFailed("its answer is empty", where=service.url) from error
        where = ".".join(str(each) for each in first["loc"])
        raise LogicFailed(f"its answer, {where}: {first['msg']}", where=service.url) from error


def _words(path: str, document: Any) -> str:
    """The text at a place, nothing where there is none."""
    value = taken(document, path)
    return "" if value is None else str(value).strip()


def _listed(path: str, document: Any) -> list[str]:
    """The texts at a place: those of a list, or each that the path finds."""
    values = found_at(document, path)
    if len(values) == 1 and isinstance(values[0], list):
        values = values[0]
    return [str(each)[:80] for each in values if isinstance(each, str | int | float) and str(each)]


def _wrong(service: LogicService, path: str, value: Any, wanted: str) -> LogicFailed:
    shown = repr(value)[:60]
    return LogicFailed(f"its answer has {shown} at {path}, not {wanted}", where=service.url)
