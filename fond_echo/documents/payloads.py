"""Messages of a network side by side: which field is there in which kind, what is mapped on one
kind only, and a first draft of the `message:` part."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from fond_echo.contract.base import JsonObject
from fond_echo.documents.connector import MessageMap, Receive
from fond_echo.documents.drafting.example import json_path as path_of
from fond_echo.documents.drafting.example import leaves_of
from fond_echo.documents.drafting.messages import by_names
from fond_echo.documents.paths import json_path

KINDS = ("text", "voice note", "file", "button", "other")


@dataclass(frozen=True)
class Field:
    """A field of the messages: its path in each, how often it is there by kind, and an example."""

    path: str
    there: Mapping[str, int]
    example: Any
    mapped: str = ""


def messages_in(payload: Any, each: str) -> list[Any]:
    """The messages of what came in."""
    return [node.value for node in json_path(each).find(payload)]


def kind_of(message: Any, receive: Receive) -> str:
    """Which kind a message is, as far as the mapping says."""

    def at(path: str | None) -> Any:
        nodes = json_path(path).find(message) if path else ()
        return nodes[0].value if nodes else None

    mapped = receive.message
    if at(mapped.choice) is not None:
        return "button"
    if at(mapped.sound) is not None:
        kind = at(mapped.sound_kind)
        return "voice note" if kind in (None, receive.note_when) else "file"
    if at(mapped.document) is not None:
        return "file"
    return "text" if at(mapped.text) else "other"


def fields(messages: Sequence[tuple[str, Any]], mapped: MessageMap) -> list[Field]:
    """Every field of some messages, each given with its kind, in the order of their paths."""
    names = {path: name for name, path in mapped.model_dump(exclude={"files"}).items() if path}
    found: dict[str, dict[str, int]] = {}
    examples: JsonObject = {}
    for kind, message in messages:
        for path, value in leaves(message).items():
            found.setdefault(path, dict.fromkeys(KINDS, 0))[kind] += 1
            examples.setdefault(path, value)
    return [
        Field(path, there, examples[path], names.get(path, "")) for path, there in found.items()
    ]


def leaves(message: Any) -> dict[str, Any]:
    """Each value that holds no others by its JSONPath (RFC 9535); of a list the first."""
    return {
        path_of(place): value for place, value in leaves_of(message)
        if not any(isinstance(part, int) and part for part in place)
    }  # fmt: skip


def one_kind_only(
    messages: Sequence[tuple[str, Any]], mapped: MessageMap
) -> list[tuple[str, str, str]]:
    """What is mapped where only one kind has it, though every kind should: (name, path, kind)."""
    kinds = {kind for kind, _ in messages}
    found = []
    for name in ("id", "conversation", "contact", "name"):
        path = getattr(mapped, name)
        if not path:
            continue
        having = {kind for kind, message in messages if json_path(path).find(message)}
        if len(kinds) > 1 and len(having) == 1:
            found.append((name, path, having.pop()))
    return found


def draft(messages: Sequence[tuple[str, Any]]) -> dict[str, str]:
    """A first `message:` part, by the names of fields: to be looked over."""
    return {name: path_of(place) for name, place in by_names([m for _, m in messages]).items()}
