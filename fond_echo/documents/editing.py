"""Changes to files that people write, which leave everything else as it stands."""

from __future__ import annotations

import json
from typing import Any

from ruamel.yaml import YAML
from ruamel.yaml.nodes import MappingNode, SequenceNode

from fond_echo.documents.errors import FileError, InvalidFile


def with_example(text: str, route: str, example: str, *, among: str = "examples") -> str:
    """An assistant's file with one more example of a route; its comments and layout stay.

    Args:
        text: a file that can be read.
        among: `examples`, or `widened`, those that were proposed and approved.

    Raises:
        InvalidFile: there is no such route in it.

    >>> print(with_example("routes:\\n  - route: fares\\n    examples: [What is it?]\\n", "fares",
    ...                    "How much?"), end="")
    routes:
      - route: fares
        examples: [What is it?, "How much?"]
    """
    root = YAML(typ="rt").compose(text)
    found = next((each for each in _items(root, "routes") if _word(each, "route") == route), None)
    if found is None:
        raise InvalidFile([FileError("assistant.yaml", 1, 1, f"there is no route {route!r}")])
    quoted = json.dumps(example, ensure_ascii=False)
    examples = _value(found, among)
    if not isinstance(examples, SequenceNode) or not examples.value:
        # It has none: they stand below its name.
        name = _value(found, "route")
        at = _end_of_line(text, name.end_mark.index)
        indent = " " * found.start_mark.column
        return f"{text[:at]}\n{indent}{among}: [{quoted}]{text[at:]}"
    last = examples.value[-1]
    if examples.flow_style:
        at = last.end_mark.index
        return f"{text[:at]}, {quoted}{text[at:]}"
    # What is written over several lines ends with its last one.
    at = _end_of_line(text, len(text[: last.end_mark.index].rstrip()))
    indent = " " * examples.value[0].start_mark.column
    mark = indent[:-2] + "- "
    return f"{text[:at]}\n{mark}{quoted}{text[at:]}"


def _end_of_line(text: str, index: int) -> int:
    found = text.find("\n", index)
    return len(text) if found < 0 else found


def _value(node: Any, name: str) -> Any:
    if not isinstance(node, MappingNode):
        return None
    return next((value for key, value in node.value if key.value == name), None)


def _word(node: Any, name: str) -> str:
    found = _value(node, name)
    return str(found.value) if found is not None else ""


def _items(node: Any, name: str) -> list[Any]:
    found = _value(node, name)
    return list(found.value) if isinstance(found, SequenceNode) else []
