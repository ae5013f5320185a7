"""YAML 1.2 with the place of every value: no aliases, no tags, bounded in size and depth."""

from __future__ import annotations

import math
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.error import MarkedYAMLError, YAMLError
from ruamel.yaml.events import AliasEvent, CollectionStartEvent, NodeEvent
from ruamel.yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from fond_echo.documents.errors import FileError, InvalidFile

MAX_BYTES = 1_000_000
DEEPEST = 30

Path = tuple[str | int, ...]


@dataclass(frozen=True)
class Place:
    """A line and a column, from 1."""

    line: int
    column: int


@dataclass(frozen=True)
class Source:
    """A file's values, and where each stands."""

    file: str
    value: Any
    places: dict[Path, Place] = field(repr=False)
    keys: dict[Path, Place] = field(repr=False)

    def place(self, path: Sequence[str | int], *, key: bool = False) -> Place:
        """Where a value (or the key before it) stands; else where the nearest thing around it
        does."""
        known = self.keys if key else self.places
        rest = tuple(path)
        while rest and rest not in known:
            rest, known = rest[:-1], self.places
        return known.get(rest, Place(1, 1))

    def error(
        self, path: Sequence[str | int], what: str, remedy: str = "", *, key: bool = False
    ) -> FileError:
        """A fault at the place of a value or its key."""
        place = self.place(path, key=key)
        return FileError(self.file, place.line, place.column, what, remedy)


def read_yaml(text: str, file: str) -> Source:
    """Read one YAML document.

    Raises:
        InvalidFile: not YAML, or YAML with what is not read here.
    """
    if len(text.encode("utf-8", "replace")) > MAX_BYTES:
        raise InvalidFile([FileError(file, 1, 1, f"the file is over {MAX_BYTES:,} bytes")])
    try:
        _check_events(text, file)
        node = YAML(typ="safe", pure=True).compose(text)
    except MarkedYAMLError as error:
        mark = error.problem_mark or error.context_mark
        line, column = (mark.line + 1, mark.column + 1) if mark else (1, 1)
        raise InvalidFile(
            [FileError(file, line, column, str(error.problem or error.context))]
        ) from error
    except (YAMLError, ValueError) as error:
        raise InvalidFile([FileError(file, 1, 1, str(error).splitlines()[0])]) from error
    places: dict[Path, Place] = {}
    keys: dict[Path, Place] = {}
    errors: list[FileError] = []
    value = _value(node, (), places, keys, errors, file) if node is not None else None
    if errors:
        raise InvalidFile(errors)
    return Source(file, value, places, keys)


def _check_events(text: str, file: str) -> None:
    depth = 0
    for event in YAML(typ="safe", pure=True).parse(text):
        line, column = event.start_mark.line + 1, event.start_mark.column + 1
        if isinstance(event, AliasEvent) or (isinstance(event, NodeEvent) and event.anchor):
            what = "anchors and aliases (& and *) are not read"
            raise InvalidFile([FileError(file, line, column, what, "write the value out")])
        if getattr(event, "tag", None) not in (None, "!"):
            raise InvalidFile(
                [FileError(file, line, column, "tags (!) are not read", "leave it out")]
            )
        if isinstance(event, CollectionStartEvent):
            depth += 1
        elif type(event).__name__.endswith("EndEvent") and depth:
            depth -= 1
        if depth > DEEPEST:
            raise InvalidFile([FileError(file, line, column, f"nested deeper than {DEEPEST}")])


def _value(
    node: Node,
    path: Path,
    places: dict[Path, Place],
    keys: dict[Path, Place],
    errors: list[FileError],
    file: str,
) -> Any:
    places[path] = Place(node.start_mark.line + 1, node.start_mark.column + 1)
    if isinstance(node, ScalarNode):
        return _scalar(node)
    if isinstance(node, SequenceNode):
        return [
            _value(each, (*path, place), places, keys, errors, file)
            for place, each in enumerate(node.value)
        ]
    assert isinstance(node, MappingNode)
    found: dict[str, Any] = {}
    for key_node, value_node in node.value:
        line, column = key_node.start_mark.line + 1, key_node.start_mark.column + 1
        if not isinstance(key_node, ScalarNode):
            errors.append(FileError(file, line, column, "a key must be plain text"))
            continue
        key = str(key_node.value)
        if key in found:
            first = keys[(*path, key)].line
            errors.append(
                FileError(file, line, column, f"{key} is given twice", f"see line {first}")
            )
            continue
        keys[(*path, key)] = Place(line, column)
        found[key] = _value(value_node, (*path, key), places, keys, errors, file)
    return found


_INTEGER = re.compile(r"[-+]?\d+")
_FLOAT = re.compile(r"[-+]?(\.\d+|\d+(\.\d*)?)([eE][-+]?\d+)?")
_WORDS = {"null": None, "~": None, "": None, "true": True, "false": False}


def _scalar(node: ScalarNode) -> Any:
    """The core schema of YAML 1.2 (§10.3.2), without octal, hex and not-a-number."""
    text = str(node.value)
    if node.style is not None:
        return text
    if text.lower() in _WORDS:
        return _WORDS[text.lower()]
    if _INTEGER.fullmatch(text) and len(text) < 18:
        return int(text)
    if _FLOAT.fullmatch(text) and math.isfinite(float(text)):
        return float(text)
    return text
