"""A request as an OpenAPI document describes it (OpenAPI 3.0 and 3.1)."""

from __future__ import annotations

from typing import Any
from urllib.parse import urlsplit

from fond_echo.contract.base import JsonObject
from fond_echo.documents.drafting.example import BodyKind, Example
from fond_echo.documents.errors import InvalidFile, NotAnExample, nearest
from fond_echo.documents.source import read_yaml

METHODS = ("get", "post", "put", "patch", "delete")
BODIES: dict[str, BodyKind] = {
    "application/json": "json", "multipart/form-data": "multipart",
    "application/x-www-form-urlencoded": "form",
}  # fmt: skip
DEEPEST = 12
MAX_FIELDS = 2_000
PLACEHOLDER = "YOUR_API_KEY"


def read_openapi(text: str, operation: str) -> Example:
    """A request with the samples that the document gives, or plain ones by the types.

    Args:
        operation: an operationId, or a method and path such as "POST /say".

    Raises:
        NotAnExample: it is no such document, or has no such operation.
    """
    try:
        document = read_yaml(text, "openapi").value
    except InvalidFile as error:
        raise NotAnExample(f"the document cannot be read: {error.errors[0]}") from error
    if not isinstance(document, dict) or not isinstance(document.get("paths"), dict):
        raise NotAnExample("this is no OpenAPI document: it has no paths")
    try:
        return _Document(document).example(operation)
    except (KeyError, TypeError, AttributeError, IndexError, ValueError) as error:
        what = f"the document is not as OpenAPI has it: {type(error).__name__}: {error}"
        raise NotAnExample(what) from error


class _Document:
    def __init__(self, document: JsonObject) -> None:
        self._document = document
        self._left = MAX_FIELDS

    def example(self, wanted: str) -> Example:
        """The request of an operation. Raises NotAnExample."""
        method, path, described, around = self._operation(wanted)
        base = self._base()
        found = Example(
            method.upper(), f"{base.scheme}://{base.netloc}", base.path.rstrip("/") + path
        )
        parameters = [*around.get("parameters", []), *described.get("parameters", [])]
        for each in map(self._resolved, parameters):
            value = str(
                self._sample(each.get("schema", {}), str(each["name"]), each.get("example"))
            )
            match each.get("in"):
                case "query":
                    found.query[each["name"]] = value
                case "header":
                    found.headers[each["name"]] = value
                case "path":
                    found.path = found.path.replace(f"{{{each['name']}}}", value)
        body = self._resolved(described.get("requestBody", {})).get("content", {})
        for media, kind in BODIES.items():
            if media in body:
                found.kind = kind
                found.body = self._sample(body[media].get("schema", {}), "", _given(body[media]))
                if kind != "json" and isinstance(found.body, dict):
                    found.body = {name: str(value) for name, value in found.body.items()}
                break
        else:
            if body:
                found.kind, found.body = "bytes", "@sound"
        self._secured(found, described)
        return found

    def _operation(self, wanted: str) -> tuple[str, str, JsonObject, JsonObject]:
        known = []
        for path, around in self._document["paths"].items():
            for method in METHODS:
                described = around.get(method) if isinstance(around, dict) else None
                if not isinstance(described, dict):
                    continue
                names = (f"{method.upper()} {path}", str(described.get("operationId", "")))
                if wanted in names:
                    return method, path, described, around
                known.append(names[1] or names[0])
        raise NotAnExample(f"there is no operation {wanted!r}", remedy=nearest(wanted, known))

    def _base(self) -> Any:
        servers = self._document.get("servers") or [{}]
        address = urlsplit(str(servers[0].get("url", "")))
        if not address.hostname:
            raise NotAnExample("the document names no server with a host",
                               remedy="write servers: [{url: https://…}] into it")  # fmt: skip
        return address

    def _resolved(self, value: Any) -> JsonObject:
        """A part of the document, with a reference to another followed."""
        for _ in range(DEEPEST):
            reference = value.get("$ref") if isinstance(value, dict) else None
            if not reference:
                return value if isinstance(value, dict) else {}
            value = self._document
            for part in str(reference).removeprefix("#/").split("/"):
                value = value.get(part.replace("~1", "/").replace("~0", "~"), {})
        return {}

    def _sample(self, schema: Any, name: str, given: Any = None, depth: int = 0) -> Any:
        """A value of a shape: what the document gives, or a plain one."""
        if given is not None:
            return given
        self._left -= 1
        if self._left < 0:
            raise NotAnExample(f"the body of the operation has more than {MAX_FIELDS:,} fields",
                               remedy="give the request as a command of curl")  # fmt: skip
        shape = self._resolved(schema)
        for key in ("example", "default", "const"):
            if key in shape:
                return shape[key]
        listed = shape.get("examples") or shape.get("enum")
        if isinstance(listed, list) and listed:
            return listed[0]
        for key in ("allOf", "oneOf", "anyOf"):
            if shape.get(key) and depth < DEEPEST:
                parts = [self._sample(each, name, None, depth + 1) for each in shape[key]]
                if key == "allOf" and all(isinstance(part, dict) for part in parts):
                    return {k: v for part in parts for k, v in part.items()}
                return parts[0]
        kind = shape.get("type")
        kind = kind[0] if isinstance(kind, list) and kind else kind
        if (kind == "object" or "properties" in shape) and depth < DEEPEST:
            required = shape.get("required") or list(shape.get("properties", {}))
            return {
                key: self._sample(each, key, None, depth + 1)
                for key, each in shape.get("properties", {}).items() if key in required
            }  # fmt: skip
        if kind == "array":
            return (
                [self._sample(shape.get("items", {}), name, None, depth + 1)]
                if depth < DEEPEST
                else []
            )
        if shape.get("format") in ("binary", "byte"):
            return "@sound" if shape["format"] == "binary" else "UklGRg=="
        plain = {
            "integer": shape.get("minimum", 1),
            "number": shape.get("minimum", 1),
            "boolean": True,
        }
        return plain.get(str(kind), name or "text")

    def _secured(self, found: Example, described: JsonObject) -> None:
        """Put the place of the key where the document says that it goes."""
        wanted = described.get("security", self._document.get("security")) or []
        schemes = self._resolved(self._document.get("components", {})).get("securitySchemes", {})
        for name in wanted[0] if wanted else ():
            scheme = self._resolved(schemes.get(name, {}))
            if scheme.get("type") == "http":
                kind = str(scheme.get("scheme", "bearer")).capitalize()
                found.headers["Authorization"] = f"{kind} {PLACEHOLDER}"
            elif scheme.get("type") == "apiKey":
                place = found.query if scheme.get("in") == "query" else found.headers
                place[str(scheme.get("name", name))] = PLACEHOLDER


def _given(media: JsonObject) -> Any:
    """The example that a document gives of a body."""
    if "example" in media:
        return media["example"]
    examples = media.get("examples")
    first: Any = next(iter(examples.values()), {}) if isinstance(examples, dict) else {}
    return first.get("value") if isinstance(first, dict) else None
