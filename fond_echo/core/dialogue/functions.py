"""Functions of business logic that an engine may ask for: how they are described to it, and why a
wish is refused."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date
from typing import Any

MAX_ARGUMENT = 4_000
"""Characters of a text argument."""

MAX_TOGETHER = 20_000
"""Characters of all arguments, written as Python writes them."""

MAX_LISTED = 100
"""Entries of a list that a function is given."""

ROUTE, BRIEF = "route", "brief"
"""The service under which an assistant's routes are offered as functions."""


@dataclass(frozen=True)
class Argument:
    """One argument of a function.

    Attributes:
        kind: text, number, whole (a number), boolean, date (ISO 8601), list or object.
        one_of: all values that it may have, where they are known.
        least, most: bounds of a number; None where there are none.
        entries: what a list holds.
        fields: what an object holds, by name.
    """

    kind: str = "text"
    about: str = ""
    required: bool = True
    one_of: tuple[str, ...] = ()
    least: float | None = None
    most: float | None = None
    entries: Argument | None = None
    fields: Mapping[str, Argument] = field(default_factory=dict)


@dataclass(frozen=True)
class Function:
    """A function that an engine may ask for.

    Attributes:
        name: SERVICE.FUNCTION, or route.ROUTE.
        about: what it does, for the engine.
        arguments: by name: what it is, and whether it is needed.
        confirm: what the person is asked before it is called; "" where it is called at once.
    """

    name: str
    about: str
    arguments: Mapping[str, Argument]
    confirm: str = ""

    @property
    def route(self) -> str:
        """The route that it stands for, or ""."""
        service, _, name = self.name.partition(".")
        return name if service == ROUTE else ""

    @property
    def brief(self) -> str:
        """The brief that the talk is handed to; "" of other functions."""
        service, _, name = self.name.partition(".")
        return name if service == BRIEF else ""


@dataclass(frozen=True)
class Wish:
    """A function that an engine wants called."""

    name: str
    arguments: Any
    id: str = ""


def shown(value: Any) -> str:
    """A value as it stands in a message, however long it is."""
    text = value[:100] if isinstance(value, str) else repr(value)[:100]
    return repr(text) if isinstance(value, str) else text


def refusal(wish: Wish, functions: Sequence[Function]) -> str:
    """Why a function is not called as it is wanted; empty where it may be."""
    permitted = {each.name: each for each in functions}
    function = permitted.get(wish.name)
    if function is None:
        return (
            f"{shown(wish.name)} is not permitted; permitted: {', '.join(permitted) or 'nothing'}"
        )
    if not isinstance(wish.arguments, dict):
        return "the arguments are not an object"
    if len(repr(wish.arguments)) > MAX_TOGETHER:
        return f"the arguments are over {MAX_TOGETHER:,} characters"
    return next(wrong_fields(wish.arguments, function.arguments, "argument"), "")


def wrong_fields(
    given: Mapping[str, Any], expected: Mapping[str, Argument], noun: str, at: str = ""
) -> Iterator[str]:
    """What is wrong with the fields of an object, each in words.

    Args:
        noun: what a field is called.
        at: what stands before its name.
    """
    for name, value in given.items():
        argument = expected.get(name)
        if argument is None:
            yield f"there is no {noun} {shown(at + str(name))}"
        else:
            yield from _wrong(value, argument, f"{at}{name}")
    for name, argument in expected.items():
        if argument.required and given.get(name) in (None, ""):
            yield f"{at}{name} is needed"


_A = {
    "text": "a text",
    "number": "a number",
    "whole": "a whole number",
    "boolean": "true or false",
    "date": "a date such as 2026-05-04",
    "list": "a list",
    "object": "an object",
}


def _wrong(value: Any, argument: Argument, name: str) -> Iterator[str]:
    if value is None and not argument.required:
        return
    if not _fits(value, argument.kind):
        yield f"{name} is not {_A[argument.kind]}: {shown(value)}"
        return
    if argument.one_of and str(value) not in argument.one_of:
        yield f"{name} is one of {', '.join(argument.one_of)}, not {shown(value)}"
    if argument.kind in ("number", "whole"):
        if argument.least is not None and value < argument.least:
            yield f"{name} is at least {argument.least:g}, not {shown(value)}"
        if argument.most is not None and value > argument.most:
            yield f"{name} is at most {argument.most:g}, not {shown(value)}"
    if isinstance(value, list):
        if len(value) > MAX_LISTED:
            yield f"{name} has over {MAX_LISTED} entries"
            return
        for place, each in enumerate(value):
            if argument.entries is not None:
                yield from _wrong(each, argument.entries, f"{name}[{place}]")
    elif isinstance(value, dict):
        yield from wrong_fields(value, argument.fields, "field", f"{name}.")
    elif len(str(value)) > MAX_ARGUMENT:
        yield f"{name} is over {MAX_ARGUMENT:,} characters"


_DATE = re.compile(r"\d{4}-\d{2}-\d{2}")


def _fits(value: Any, kind: str) -> bool:
    if kind == "number":
        return isinstance(value, int | float) and not isinstance(value, bool)
    if kind == "whole":
        return isinstance(value, int) and not isinstance(value, bool)
    if kind == "date":
        return isinstance(value, str) and _is_date(value)
    kinds: dict[str, type] = {"boolean": bool, "list": list, "object": dict}
    return isinstance(value, kinds.get(kind, str))


def _is_date(value: str) -> bool:
    try:
        date.fromisoformat(value)
    except ValueError:
        return False
    return _DATE.fullmatch(value) is not None


def shape_of(function: Function) -> dict[str, Any]:
    """A function as it is described to engines: its arguments as a JSON Schema (2020-12)."""
    return {
        "name": function.name,
        "about": function.about,
        "schema": _object(function.arguments),
    }


def _object(arguments: Mapping[str, Argument]) -> dict[str, Any]:
    return {
        "type": "object",
        "properties": {name: _schema(each) for name, each in arguments.items()},
        "required": [name for name, each in arguments.items() if each.required],
    }


_TYPES = {"number": "number", "whole": "integer", "boolean": "boolean"}


def _schema(argument: Argument) -> dict[str, Any]:
    found: dict[str, Any] = {}
    if argument.kind == "object":
        found = _object(argument.fields)
    elif argument.kind == "list":
        entries = argument.entries or Argument()
        found = {"type": "array", "items": _schema(entries), "maxItems": MAX_LISTED}
    else:
        found = {"type": _TYPES.get(argument.kind, "string")}
    if argument.about or argument.kind not in ("list", "object"):
        found["description"] = argument.about
    if argument.kind == "date":
        found["format"] = "date"
    if argument.one_of:
        found["enum"] = list(argument.one_of)
    if argument.least is not None:
        found["minimum"] = argument.least
    if argument.most is not None:
        found["maximum"] = argument.most
    return found
