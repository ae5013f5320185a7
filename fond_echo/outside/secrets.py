"""The seam through which secrets reach a request: by name, and only to the hosts they are for."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from typing import Any, Protocol

from fond_echo.outside.errors import SecretMisused

STRUCK = "•••"


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

    def struck(self, value: Any) -> Any: ...


class Vault:
    """The secrets that a line or service may use, and a record of which were.

    In templates it stands as `secret`: `{{ secret["skerry-token"] }}`.
    """

    def __init__(self, secrets: Mapping[str, Secret]) -> None:
        self._secrets = dict(secrets)
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

    def struck(self, value: Any) -> Any:
        """The value with every secret's text struck out, in strings at any depth."""
        if isinstance(value, str):
            for secret in self._secrets.values():
                if secret.value:
                    value = value.replace(secret.value, STRUCK)
            return value
        if isinstance(value, Mapping):
            return {key: self.struck(each) for key, each in value.items()}
        if isinstance(value, list):
            return [self.struck(each) for each in value]
        return value
