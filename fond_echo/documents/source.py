"""YAML 1.2 with the place of every value: no aliases, no tags, bounded in size and depth.

A file is read in one pass over the events of the C library; what that refuses, and what is not read
here, goes to `careful_yaml`, which has words for it.
"""

from __future__ import annotations

import math
import re
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any

import yaml
from yaml.events import (
    AliasEvent,
    MappingEndEvent,
    ScalarEvent,
    SequenceEndEvent,
    SequenceStartEvent,
    StreamEndEvent,
)

from fond_echo.contract.base import JsonObject
from fond_echo.documents.errors import FileError

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


class _Refused(Exception):
    """What the fast reader leaves to the careful one."""


def read_yaml(text: str, file: str) -> Source:
    """Read one YAML document; the same text is read once.

    Raises:
        InvalidFile: not YAML, or YAML with what is not read here.
    """
    return _read(text, file)


@lru_cache(maxsize=16)
def _read(text: str, file: str) -> Source:
    from fond_echo.documents.careful_yaml import read_carefully

    # What the two libraries may take differently is left to the careful one, which decides.
    if len(text.encode("utf-8", "replace")) > MAX_BYTES or _ODD.search(text):
        return read_carefully(text, file)
    try:
        return _EventReader(text, file).source()
    except (yaml.YAMLError, _Refused, ValueError):
        return read_carefully(text, file)


_ODD = re.compile("[^\n -\ud7ff\ue000-\U0010ffff]|[\x7f-\x9f\u2028\u2029\ufeff]|^%", re.MULTILINE)
"""Control characters, tabs among them, other ends of lines, and directives."""


class _EventReader:
    """Makes values and places of the events of one document."""

    def __init__(self, text: str, file: str) -> None:
        events = yaml.parse(text, Loader=yaml.CSafeLoader)
        self._step: Callable[[], Any] = events.__next__
        self._file = file
        self._places: dict[Path, Place] = {}
        self._keys: dict[Path, Place] = {}

    def source(self) -> Source:
        self._step()  # the stream's start
        if type(event := self._step()) is StreamEndEvent:
            return Source(self._file, None, self._places, self._keys)
        if event.explicit:
            raise _Refused
        value = self._value(self._step(), ())
        self._step()  # the document's end
        if type(self._step()) is not StreamEndEvent:
            raise _Refused
        return Source(self._file, value, self._places, self._keys)

    def _value(self, event: Any, path: Path) -> Any:
        kind = type(event)
        if kind is AliasEvent or event.anchor or event.tag is not None or len(path) > DEEPEST:
            raise _Refused
        self._places[path] = _place(event.start_mark)
        if kind is ScalarEvent:
            return scalar_value(event.value, plain=not event.style)
        if kind is SequenceStartEvent:
            listed: list[Any] = []
            while type(event := self._step()) is not SequenceEndEvent:
                listed.append(self._value(event, (*path, len(listed))))
            return listed
        found: JsonObject = {}
        while type(event := self._step()) is not MappingEndEvent:
            if type(event) is not ScalarEvent or event.anchor or event.tag is not None:
                raise _Refused
            key = event.value
            if key in found:
                raise _Refused
            there = (*path, key)
            self._keys[there] = _place(event.start_mark)
            found[key] = self._value(self._step(), there)
        return found


def _place(mark: Any) -> Place:
    return Place(mark.line + 1, mark.column + 1)


_INTEGER = re.compile(r"[-+]?\d+")
_FLOAT = re.compile(r"[-+]?(\.\d+|\d+(\.\d*)?)([eE][-+]?\d+)?")
_WORDS = {"null": None, "~": None, "": None, "true": True, "false": False}


def scalar_value(text: str, *, plain: bool) -> Any:
    """The core schema of YAML 1.2 (§10.3.2), without octal, hex and not-a-number."""
    if not plain:
        return text
    if text.lower() in _WORDS:
        return _WORDS[text.lower()]
    if _INTEGER.fullmatch(text) and len(text) < 18:
        return int(text)
    if _FLOAT.fullmatch(text) and math.isfinite(float(text)):
        return float(text)
    return text
