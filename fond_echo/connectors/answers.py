"""What is taken of an answer."""

from __future__ import annotations

import base64
import binascii
import re
from typing import Any

from jsonpath_rfc9535 import JSONPathError

from fond_echo.connectors.errors import ConnectorError, Refused, Unreachable, WrongAnswer
from fond_echo.connectors.wire import Payload
from fond_echo.documents.paths import json_path
from fond_echo.documents.steps import Step, Until


def from_base64(step: Step, document: Any) -> Payload:
    """The bytes that a step carries in its answer. Raises WrongAnswer."""
    assert step.base64 is not None
    text, kind = str(taken(document, step.base64)), "application/octet-stream"
    if (uri := re.match(r"data:([\w.+/-]*)(?:;[\w=-]+)*;base64,", text)) is not None:
        # A data URI (RFC 2397) says what it holds.
        text, kind = text[uri.end() :], uri[1] or kind
    try:
        return Payload(base64.b64decode(text, validate=True), kind)
    except (binascii.Error, ValueError) as error:
        raise WrongAnswer(f"what stands at {step.base64} is not base64") from error


def is_done(until: Until, document: Any, where: str, exchanges: list[Any]) -> bool:
    """Whether work that is done elsewhere is done. Raises WrongAnswer where it failed there."""
    state = taken(document, until.path)
    if until.fails is not None and str(state) == until.fails:
        error = WrongAnswer(f"the work there failed: {state!r}", where=where)
        error.exchanges = exchanges
        raise error
    return str(state) == until.is_


def taken(document: Any, path: str) -> Any:
    """The first value at a JSONPath, or None. Raises WrongAnswer, as `found_at`."""
    found = found_at(document, path)
    return found[0] if found else None


def found_at(document: Any, path: str) -> list[Any]:
    """The values at a JSONPath. Raises WrongAnswer for a document that is nested too deeply."""
    try:
        return [node.value for node in json_path(path).find(document)]
    except (JSONPathError, RecursionError) as error:
        raise WrongAnswer(f"what came is nested too deeply for {path}") from error


BUSY = frozenset((408, 425, 429, 503))
"""Statuses by which a service says that it did nothing and may be asked again."""


def pause_after(error: ConnectorError, tries: int) -> float | None:
    """How long to wait before a step is tried again; None where it must not be."""
    if isinstance(error, Refused):
        return min(0.5 * 2**tries, 8.0) if error.status in BUSY else None
    return min(0.5 * 2**tries, 8.0) if isinstance(error, Unreachable) else None
