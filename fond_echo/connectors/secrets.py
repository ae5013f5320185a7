"""The seam through which secrets reach a request: by name, and only to the hosts they are for."""

from __future__ import annotations

import base64
import json
import re
from collections.abc import Iterator, Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from typing import Any, Protocol
from urllib.parse import quote, quote_plus

from fond_echo.connectors.errors import SecretMisused

REDACTED = "•••"


@dataclass(frozen=True)
class Secret:
    """A secret's value and the hosts ("host" or "host:port") it may be sent to."""

    name: str
    value: str = field(repr=False)
    hosts: frozenset[str]

    def may_go_to(self, host: str, port: int) -> bool:
        return host in self.hosts or f"{host}:{port}" in self.hosts


class Secrets(Protocol):
    """What the request machine needs of a vault."""

    def __getitem__(self, name: str) -> str: ...

    def check_hosts(self, host: str, port: int) -> None: ...

    def hide(self, value: str) -> None: ...

    def redacted(self, value: Any) -> Any: ...


class Vault:
    """The secrets that a line or service may use, and a record of which were.

    In templates it stands as `secrets`: `{{ secrets.skerry-token }}`.
    """

    def __init__(self, secrets: Mapping[str, Secret]) -> None:
        self._secrets = dict(secrets)
        self._hidden: set[str] = set()
        self.used: set[str] = set()

    def apart(self) -> Vault:
        """The same secrets with a record of use of its own."""
        return Vault(self._secrets)

    def __getitem__(self, name: str) -> str:
        self.used.add(name)
        return self.get(name).value

    def get(self, name: str) -> Secret:
        """Raises SecretMisused for a name that is not there."""
        if name not in self._secrets:
            raise SecretMisused(
                f"there is no secret {name!r}", remedy=f"fond-echo secret put {name} --host HOST"
            )
        return self._secrets[name]

    def check_hosts(self, host: str, port: int) -> None:
        """Raises SecretMisused where a secret used since the last check may not go to a host."""
        used, self.used = self.used, set()
        for name in sorted(used):
            if not self.get(name).may_go_to(host, port):
                allowed = ", ".join(sorted(self.get(name).hosts)) or "no host"
                raise SecretMisused(
                    f"the secret {name!r} may not be sent to {host}:{port}",
                    remedy=f"it is bound to {allowed}",
                )

    def hide(self, value: str) -> None:
        """Strike out another value too, such as a token that was got with a secret."""
        self._hidden.add(value)

    def redacted(self, value: Any) -> Any:
        """The value with every secret struck out, in texts and keys at any depth, in whatever form
        it travels: as it is, in capitals, escaped, percent-encoded, in base64 or hexadecimal."""
        pattern = _pattern(frozenset(each.value for each in self._secrets.values()) | self._hidden)
        return _struck(value, pattern) if pattern is not None else value


MAX_DEPTH = 100
"""What lies deeper in a value is struck out whole."""

SHORT = 4
"""A value with fewer characters is only struck out as it is."""


@lru_cache(maxsize=64)
def _pattern(values: frozenset[str]) -> re.Pattern[str] | None:
    forms = {form for value in values if value for form in _forms(value)}
    if not forms:
        return None
    longest_first = sorted(forms, key=lambda form: (-len(form), form))
    return re.compile("|".join(map(re.escape, longest_first)), re.IGNORECASE)


def _forms(value: str) -> Iterator[str]:
    """The texts in which a value can stand."""
    yield value
    if len(value) < SHORT:
        return
    data = value.encode("utf-8", "replace")
    yield json.dumps(value)[1:-1]
    yield json.dumps(value, ensure_ascii=False)[1:-1]
    yield json.dumps(value)[1:-1].replace("/", "\\/")
    units = value.encode("utf-16-be", "surrogatepass").hex()
    yield "".join(f"\\u{units[at : at + 4]}" for at in range(0, len(units), 4))
    every = "".join(f"%{byte:02X}" for byte in data)
    for once in (quote(value, safe=""), quote(value), quote_plus(value), every):
        yield once
        yield quote(once, safe="")
    yield data.hex()
    for once in _base64(data):
        yield once
        yield quote(once, safe="")
        yield from _base64(once.encode())


def _base64(data: bytes) -> Iterator[str]:
    """What of some bytes' Base64 is the same whatever stands beside them."""
    for before in range(3):
        # Behind one or two other bytes it is written with other letters; those at its ends are
        # mixed with its neighbours.
        text = base64.b64encode(bytes(before) + data).decode().rstrip("=")
        spare = (len(data) + before) % 3
        inner = text[-(-before * 8 // 6) : len(text) - (1 if spare else 0)]
        if len(inner) >= SHORT:
            yield inner
            yield inner.translate(str.maketrans("+/", "-_"))


def _struck(value: Any, pattern: re.Pattern[str], depth: int = 0) -> Any:
    if isinstance(value, str):
        return pattern.sub(REDACTED, value)
    if not isinstance(value, (Mapping, list, tuple)):
        return value
    if depth > MAX_DEPTH:
        return REDACTED
    if isinstance(value, Mapping):
        return {
            _struck(key, pattern): _struck(each, pattern, depth + 1) for key, each in value.items()
        }
    return [_struck(each, pattern, depth + 1) for each in value]
