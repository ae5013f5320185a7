"""Lines by a Python adapter: for networks that a description cannot describe.

A package offers one under the entry point group `fond_echo.channels`:

    [project.entry-points."fond_echo.channels"]
    semaphore = "my_package:Semaphore"

`Semaphore(values, vault, client)` must have the methods of `Adapter`. docs/guides/adapter.md
walks through an example.
"""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from importlib.metadata import entry_points
from typing import Any, Protocol

import httpx

from fond_echo.channels.errors import NoAdapter
from fond_echo.connectors.errors import NoAnswer, Refused, Unreachable
from fond_echo.connectors.secrets import Vault
from fond_echo.contract.base import JsonObject
from fond_echo.contract.channel import Arrived, Inbound, Unreadable
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.errors import nearest
from fond_echo.turns.ports import Abilities, ChannelPort, Fetched, Outgoing, Sent

GROUP = "fond_echo.channels"


class Adapter(ChannelPort, Protocol):
    """A channel port that also reads what its network sends."""

    async def connect(self, our_address: str) -> JsonObject:
        """Tell the network where we are; gives facts to keep."""
        ...

    def verify(self, headers: Mapping[str, str], body: bytes, now: float) -> None:
        """Raise Forged for a webhook that does not prove its origin."""
        ...

    def messages(self, payload: Any) -> Sequence[tuple[Inbound, Any] | Unreadable]:
        """The messages in a webhook's JSON, each with its own part of it."""
        ...


@contextmanager
def _as_ours(name: str) -> Iterator[None]:
    """What an adapter raises, as errors that say whether something may have gone out.

    Raises:
        ConnectorError: for errors of the HTTP client, and for whatever else is raised.
    """
    try:
        yield
    except FondEchoError:
        raise
    except httpx.HTTPStatusError as error:
        status = error.response.status_code
        raise Refused(f"the network answered {status}", status=status, where=name) from error
    except (httpx.ConnectError, httpx.ConnectTimeout) as error:
        raise Unreachable(f"no connection: {error}", where=name) from error
    except httpx.HTTPError as error:
        raise NoAnswer(f"no answer: {error or type(error).__name__}", where=name) from error
    except Exception as error:
        what = f"the adapter broke: {type(error).__name__}: {error}"
        raise NoAnswer(what, where=name) from error


class Loaded:
    """An adapter by its name, whose errors are made ours."""

    def __init__(self, name: str, adapter: Adapter) -> None:
        self._name = name
        self._adapter = adapter

    @property
    def abilities(self) -> Abilities:
        return self._adapter.abilities

    async def connect(self, our_address: str) -> JsonObject:
        with _as_ours(self._name):
            return await self._adapter.connect(our_address)

    def verify(self, headers: Mapping[str, str], body: bytes, now: float) -> None:
        with _as_ours(self._name):
            self._adapter.verify(headers, body, now)

    def messages(self, payload: Any) -> list[Arrived]:
        """What the adapter reads in it; all of it as one that cannot be read, where it fails."""
        try:
            return list(self._adapter.messages(payload))
        except Exception as error:  # whatever an adapter raises
            why = (
                str(error)
                if isinstance(error, FondEchoError)
                else f"{type(error).__name__}: {error}"
            )
            return [Unreadable(payload, why)]

    async def fetch(self, handle: str, conversation: str, contact: str) -> Fetched:
        with _as_ours(self._name):
            return await self._adapter.fetch(handle, conversation, contact)

    async def send(self, outgoing: Outgoing) -> Sent:
        with _as_ours(self._name):
            return await self._adapter.send(outgoing)

    async def indicate(self, conversation: str, contact: str, kind: str) -> None:
        with _as_ours(self._name):
            await self._adapter.indicate(conversation, contact, kind)

    async def mark_read(self, conversation: str, contact: str, message: str) -> None:
        with _as_ours(self._name):
            await self._adapter.mark_read(conversation, contact, message)


def load_adapter(name: str, values: JsonObject, vault: Vault, client: httpx.AsyncClient) -> Loaded:
    """Make the adapter of an entry point.

    Raises:
        NoAdapter: none of that name, or one that fails to load.
    """
    found = {entry.name: entry for entry in entry_points(group=GROUP)}
    if name not in found:
        raise NoAdapter(f"no package offers the adapter {name!r}", remedy=nearest(name, found))
    try:
        adapter: Adapter = found[name].load()(values, vault, client)
    except Exception as error:
        raise NoAdapter(f"the adapter {name!r} does not load: {error}") from error
    return Loaded(name, adapter)
