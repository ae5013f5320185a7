"""A request as documentations show it: a command line of curl."""

from __future__ import annotations

import base64
import json
import re
import shlex
from collections.abc import Iterator
from dataclasses import dataclass, field
from typing import Any, Literal
from urllib.parse import parse_qsl, urlsplit

from fond_echo.documents.errors import NotAnExample

BodyKind = Literal["", "json", "form", "multipart", "bytes"]
Place = tuple[str | int, ...]

MAX_CHARACTERS = 200_000
_WITHOUT_VALUE = frozenset(
    ("-s", "-S", "-sS", "-L", "-i", "-v", "-k", "-f", "-N", "-g", "--silent", "--show-error",
     "--location", "--include", "--verbose", "--compressed", "--fail", "--no-buffer", "--http1.1",
     "--http2", "--globoff", "--insecure", "--fail-with-body")
)  # fmt: skip
_PASSED_OVER = frozenset(("-o", "--output", "-m", "--max-time", "--connect-timeout", "--retry"))
_LONG = {
    "-X": "--request", "-H": "--header", "-d": "--data", "-F": "--form", "-u": "--user",
    "-G": "--get", "-A": "--user-agent", "-b": "--cookie",
}  # fmt: skip


@dataclass
class Example:
    """One request: `base` is its scheme and host, `path` what follows. A `body` of a form or of
    multipart is an object of texts; a file in it is "@NAME"."""

    method: str
    base: str
    path: str
    query: dict[str, str] = field(default_factory=dict)
    headers: dict[str, str] = field(default_factory=dict)
    kind: BodyKind = ""
    body: Any = None

    @property
    def host(self) -> str:
        return urlsplit(self.base).netloc

    def leaves(self) -> Iterator[tuple[Place, Any]]:
        """Every value of the request with its place, such as ("json", "to")."""
        for number, part in enumerate(self.path.split("/")):
            if part:
                yield ("path", number), part
        yield from ((("query", name), value) for name, value in self.query.items())
        yield from ((("headers", name), value) for name, value in self.headers.items())
        if self.kind:
            yield from leaves_of(self.body, (self.kind,))


def leaves_of(value: Any, at: Place = ()) -> Iterator[tuple[Place, Any]]:
    """Every value in a document that is neither an object nor a list, with its place; a row of
    numbers is one value."""
    if isinstance(value, dict):
        for name, each in value.items():
            yield from leaves_of(each, (*at, str(name)))
    elif isinstance(value, list) and not _is_row(value):
        for number, each in enumerate(value):
            yield from leaves_of(each, (*at, number))
    else:
        yield at, value


def json_path(place: Place) -> str:
    """A place in a document as a JSONPath (RFC 9535)."""
    parts = []
    for part in place:
        plain = isinstance(part, str) and part.isidentifier() and part.isascii()
        parts.append(f".{part}" if plain else f"[{json.dumps(part)}]")
    return "$" + "".join(parts)


def _is_row(value: list[Any]) -> bool:
    """Whether a list is a row of numbers, such as a waveform: one value, and no list of them."""
    return len(value) > 2 and all(isinstance(each, (int, float)) for each in value)


def read_curl(text: str) -> Example:
    """The request that a command line of curl makes.

    Raises:
        NotAnExample: it is no such command, or uses what is not read here.
    """
    if len(text) > MAX_CHARACTERS:
        raise NotAnExample(f"the example has more than {MAX_CHARACTERS:,} characters")
    joined = re.sub(r"\\\r?\n", " ", text.strip())
    try:
        words = shlex.split(joined.removeprefix("$ "))
    except ValueError as error:
        what, remedy = (
            f"the example cannot be read: {error}",
            "copy it with its last quote",
        )
        raise NotAnExample(what, remedy=remedy) from error
    if not words or words[0].rpartition("/")[2] != "curl":
        begins = words[0][:40] if words else "nothing"
        raise NotAnExample(
            f"this is no command of curl: it begins with {begins!r}",
            remedy="copy an example of the provider's documentation that begins with curl",
        )
    return _Reading().read(words[1:])


class _Reading:
    """Takes a command line apart."""

    def __init__(self) -> None:
        self.url = self.method = ""
        self.headers: dict[str, str] = {}
        self.data: list[str] = []
        self.encoded: list[str] = []
        self.parts: dict[str, str] = {}
        self.as_query = self.as_json = False

    def read(self, words: list[str]) -> Example:
        left = list(words)
        while left:
            word = left.pop(0)
            name, equals, given = word.partition("=")
            if not word.startswith("-"):
                self.url = self.url or word
                continue
            if word in _WITHOUT_VALUE:
                continue
            if not word.startswith("--") and len(word) > 2 and word[:2] in _LONG:
                # -XPOST is -X POST.
                name, equals, given = word[:2], "=", word[2:]
            option = _LONG.get(name, name)
            if option == "--get":
                self.as_query = True
                continue
            if not equals:
                if not left:
                    raise NotAnExample(f"{word} has no value at the end of the example")
                given = left.pop(0)
            self._take(option, given)
        return self._made()

    def _take(self, option: str, given: str) -> None:
        match option:
            case "--url":
                self.url = given
            case "--request":
                self.method = given.upper()
            case "--header":
                name, _, value = given.partition(":")
                self.headers[name.strip()] = value.strip()
            case "--user-agent" | "--cookie":
                self.headers["User-Agent" if option == "--user-agent" else "Cookie"] = given
            case "--user":
                coded = base64.b64encode(given.encode()).decode()
                self.headers["Authorization"] = f"Basic {coded}"
            case "--data" | "--data-raw" | "--data-binary" | "--data-ascii" | "--json":
                self.data.append(given)
                self.as_json = self.as_json or option == "--json"
            case "--data-urlencode":
                self.encoded.append(given)
            case "--form" | "--form-string":
                name, _, value = given.partition("=")
                self.parts[name] = value.partition(";")[0] if value[:1] in "@<" else value
            case _ if option not in _PASSED_OVER:
                raise NotAnExample(
                    f"the option {option} of curl is not read here",
                    remedy="leave it out, or write the connector file by hand",
                )

    def _made(self) -> Example:
        address = urlsplit(self.url if "://" in self.url else f"https://{self.url}")
        if not self.url or not address.hostname:
            raise NotAnExample("there is no address in the example")
        query = dict(parse_qsl(address.query, keep_blank_values=True))
        kind, body = self._body()
        if self.as_query and isinstance(body, dict):
            query |= {name: str(value) for name, value in body.items()}
            kind, body = "", None
        method = self.method or ("POST" if kind else "GET")
        if method not in ("GET", "POST", "PUT", "PATCH", "DELETE"):
            raise NotAnExample(f"the method {method} is not one of GET, POST, PUT, PATCH, DELETE")
        # What a body is, its own kind says.
        headers = {
            name: value for name, value in self.headers.items()
            if name.lower() not in ("content-type", "content-length") or kind == "bytes"
        }  # fmt: skip
        base = f"{address.scheme}://{address.netloc}"
        return Example(method, base, address.path, query, headers, kind, body)

    def _body(self) -> tuple[BodyKind, Any]:
        if self.parts:
            return "multipart", dict(self.parts)
        told = next((v for n, v in self.headers.items() if n.lower() == "content-type"), "")
        if self.data and ("json" in told or self.as_json or self.data[0].lstrip()[:1] in "[{"):
            try:
                return "json", json.loads("".join(self.data))
            except ValueError as error:
                what = f"the body of the example is not JSON: {error}"
                remedy = "fill in what the documentation left out"
                raise NotAnExample(what, remedy=remedy) from error
        if self.data and self.data[0].startswith("@"):
            return "bytes", self.data[0]
        if self.data or self.encoded:
            pairs = parse_qsl("&".join(self.data), keep_blank_values=True)
            for each in self.encoded:
                name, _, value = each.partition("=")
                pairs.append((name, value))
            return "form", dict(pairs)
        return "", None
