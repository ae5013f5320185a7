"""Messages of a network side by side: which field is there in which kind, what is mapped on one
kind only, and a first draft of the `message:` part."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from fond_echo.contract.base import JsonObject
from fond_echo.documents.connector import MessageMap, Receive
from fond_echo.documents.paths import json_path

KINDS = ("text", "voice note", "file", "button", "other")

NAMES: dict[str, tuple[str, ...]] = {
    "id": (r"^(message_?)?id$", r"^(uuid|key|mid)$"),
    "conversation": (r"^(room|chat|channel|thread|conversation|group|space)(_?id)?$",),
    "contact": (r"^(from|sender|author|user|member|contact)(_?id)?$",),
    "name": (r"^(display_?|full_?|user_?|first_?)?name$", r"^nick"),
    "text": (r"^(text|words|body|content|message|caption)$",),
    "choice": (r"^(value|payload|data|callback_?data|button|choice)$",),
    "sound": (r"^(handle|file_?id|media_?id|sound|audio|voice|url|href)$",),
    "seconds": (r"^(seconds|duration|length)$",),
}
"""What the last part of a path is called, for each part of `message:`; the likelier first."""

ABOVE: dict[str, str] = {
    "conversation": r"room|chat|channel|thread|conversation|group|space",
    "contact": r"from|sender|author|user|member|contact",
    "name": r"from|sender|author|user|member|contact",
    "choice": r"press|button|callback|choice|interactive|reply",
    "sound": r"sound|audio|voice|note|media|attachment",
    "seconds": r"sound|audio|voice|note|media|attachment",
}
"""What stands above it, where one part must or may."""


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
        for path, value in leaves(message):
            found.setdefault(path, dict.fromkeys(KINDS, 0))[kind] += 1
            examples.setdefault(path, value)
    return [
        Field(path, there, examples[path], names.get(path, "")) for path, there in found.items()
    ]


def leaves(value: Any, path: str = "$") -> list[tuple[str, Any]]:
    """Each value that holds no others, with its JSONPath (RFC 9535); of a list the first."""
    if isinstance(value, dict) and value:
        found = []
        for key, each in value.items():
            plain = re.fullmatch(r"[A-Za-z_]\w*", key)
            found += leaves(each, f"{path}.{key}" if plain else f"{path}[{key!r}]")
        return found
    if isinstance(value, list) and value:
        return leaves(value[0], f"{path}[0]")
    return [(path, value)]


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
    total = len(messages)
    there: dict[str, int] = {}
    examples: JsonObject = {}
    for _, message in messages:
        for path, value in leaves(message):
            there[path] = there.get(path, 0) + 1
            examples.setdefault(path, value)
    found: dict[str, str] = {}
    for name, patterns in NAMES.items():
        always = name in ("id", "conversation", "contact")
        best: tuple[int, int, str] | None = None
        for path, count in there.items():
            if (
                (always and count < total)
                or not _fits(name, examples[path])
                or path in found.values()
            ):
                continue
            *above, last = re.findall(r"[A-Za-z_]\w*", path) or [""]
            rank = _rank(name, last, above, patterns)
            if rank is not None and (best is None or (rank, len(above)) < best[:2]):
                best = rank, len(above), path
        if best is not None:
            found[name] = best[2]
    return found


def _rank(name: str, last: str, above: Sequence[str], patterns: Sequence[str]) -> int | None:
    """How well the parts of a path fit, 0 the best; None where they do not."""
    parent = above[-1] if above else ""
    beneath = bool(re.fullmatch(ABOVE.get(name, "(?!)"), parent, re.IGNORECASE))
    if (
        name in ("conversation", "contact")
        and beneath
        and re.fullmatch(r"_?id", last, re.IGNORECASE)
    ):
        return 0
    for rank, pattern in enumerate(patterns):
        if re.match(pattern, last, re.IGNORECASE):
            if name in ("choice", "sound", "seconds", "name") and not beneath:
                return None if name != "name" else 3
            return rank + 1
    return None


def _fits(name: str, value: Any) -> bool:
    if name == "seconds":
        return isinstance(value, int | float) and not isinstance(value, bool)
    return isinstance(value, str) or (name in ("id", "conversation", "contact", "sound")
                                      and isinstance(value, int))  # fmt: skip
