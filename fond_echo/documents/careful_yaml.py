"""YAML read slowly, with words for everything that is wrong in it."""

from __future__ import annotations

from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.error import MarkedYAMLError, YAMLError
from ruamel.yaml.events import AliasEvent, CollectionStartEvent, NodeEvent
from ruamel.yaml.nodes import MappingNode, Node, ScalarNode, SequenceNode

from fond_echo.contract.base import JsonObject
from fond_echo.documents.errors import FileError, InvalidFile
from fond_echo.documents.source import DEEPEST, MAX_BYTES, Path, Place, Source, scalar_value


def read_carefully(text: str, file: str) -> Source:
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
        return scalar_value(str(node.value), plain=node.style is None)
    if isinstance(node, SequenceNode):
        return [
            _value(each, (*path, place), places, keys, errors, file)
            for place, each in enumerate(node.value)
        ]
    assert isinstance(node, MappingNode)
    found: JsonObject = {}
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
