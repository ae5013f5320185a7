"""What travels in an exchange, and how it is shown in the record."""

from __future__ import annotations

import json
import time
from collections.abc import Mapping
from dataclasses import dataclass, field
from email.utils import parsedate_to_datetime
from typing import Any
from urllib.parse import unquote, urlsplit

from fond_echo.connectors.addresses import address_of
from fond_echo.connectors.errors import ForbiddenAddress
from fond_echo.contract.base import JsonObject
from fond_echo.core.language.templates import compile_template


@dataclass(frozen=True)
class Payload:
    """Bytes that go out or came in, with the name and type they travel under."""

    data: bytes = field(repr=False)
    media_type: str = "application/octet-stream"
    name: str = "file"


def multipart_of(fields: Mapping[str, Any]) -> tuple[list[tuple[str, Any]], JsonObject]:
    files: list[tuple[str, Any]] = []
    shown: JsonObject = {}
    for name, value in fields.items():
        if isinstance(value, Payload):
            files.append((name, (value.name, value.data, value.media_type)))
            shown[name] = f"{len(value.data)} bytes, {value.media_type}"
        else:
            text = value if isinstance(value, str) else json.dumps(value, separators=(",", ":"))
            files.append((name, (None, text.encode())))
            shown[name] = text
    return files, shown


def check_path(url: str) -> None:
    """Refuse an address whose path leads upwards: a value would reach what it must not. Raises
    ForbiddenAddress."""
    path = url.partition("://")[2].partition("?")[0].partition("#")[0].partition("/")[2]
    if any(unquote(unquote(segment)) in (".", "..") for segment in path.split("/")):
        raise ForbiddenAddress(
            "a value makes the address lead elsewhere: it has a segment . or ..",
            remedy="let only ids into addresses",
        )


def host_and_port(url: str) -> str:
    host, port = address_of(url)
    return f"{host}:{port}"


MAX_DEPTH = 100
"""Of what is recorded: what lies deeper is left out."""


def shortened(document: Any, most: int = 500, depth: int = 0) -> Any:
    if isinstance(document, (dict, list)) and depth > MAX_DEPTH:
        return "…"
    if isinstance(document, str):
        return document if len(document) <= most else f"{document[:most]}… ({len(document)})"
    if isinstance(document, dict):
        return {key: shortened(value, most, depth + 1) for key, value in document.items()}
    if isinstance(document, list):
        return [shortened(value, most, depth + 1) for value in document[:50]]
    return document


def read_message(text: str) -> Any:
    """A text message as it is recorded: as a document, so that what is escaped in it is read."""
    document = json_or_none(text.encode("utf-8", "replace"))
    return document if isinstance(document, (dict, list)) else text


def rest_of(header: str) -> float:
    """Retry-After in seconds, or as a date (RFC 9110 §10.2.3)."""
    if header.strip().isdigit():
        return float(header)
    try:
        return max(0.0, parsedate_to_datetime(header).timestamp() - time.time())
    except (TypeError, ValueError):
        return 0.0


def json_or_none(body: bytes) -> Any:
    try:
        return json.loads(body)
    except (ValueError, RecursionError):
        return None


def declared_host(template: str, values: Mapping[str, Any]) -> str:
    """A host that a description declares, as "host:port"; https where no scheme is given."""
    text = str(compile_template(template).render(dict(values)))
    parts = urlsplit(text if "://" in text else f"https://{text}")
    return f"{parts.hostname}:{parts.port or (80 if parts.scheme == 'http' else 443)}"
