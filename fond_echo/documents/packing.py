"""What a whole assistant refers to beside its own files: secrets, hosts, functions."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from typing import Any
from urllib.parse import urlsplit

from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.source import read_yaml

_IN_TEMPLATE = re.compile(r"\bsecrets\.([a-z][a-z0-9-]*)")
_ADDRESS = re.compile(r"(?:https?|wss?)://[^\s\"'{}<>)\]]+")


def secrets_in(text: str) -> set[str]:
    """The names of the secrets that a file refers to, in templates and as {secret: NAME}."""
    named = set(_IN_TEMPLATE.findall(text))
    return named | {str(each) for each in _under("secret", read_yaml(text, "file").value)}


def _under(key: str, value: Any) -> Iterator[Any]:
    if isinstance(value, dict):
        for name, each in value.items():
            if name == key and isinstance(each, str):
                yield each
            else:
                yield from _under(key, each)
    elif isinstance(value, list):
        for each in value:
            yield from _under(key, each)


def hosts_in(text: str, values: Mapping[str, Any]) -> set[str]:
    """The hosts that a file, or the values with which it is connected, name in addresses."""
    addresses = [*_ADDRESS.findall(text), *(str(value) for value in values.values())]
    return {found for each in addresses if (found := urlsplit(each).netloc)}


def functions_of(assistant: AssistantFile) -> set[str]:
    """The functions of business logic that an engine may have called."""
    return {name for _, _, reply in assistant.replies() for name in reply.functions}
