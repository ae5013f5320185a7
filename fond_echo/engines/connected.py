"""The engines that are connected, as a process knows them."""

from __future__ import annotations

from collections.abc import Mapping

import httpx
import structlog

from fond_echo.connectors.breaker import Breakers
from fond_echo.connectors.machine import RequestMachine
from fond_echo.connectors.oauth import TokenSource
from fond_echo.connectors.secrets import Vault
from fond_echo.connectors.throttle import Throttles
from fond_echo.connectors.wire import declared_host
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.engine import EngineConnector, read_engine
from fond_echo.engines.described import DescribedEngine
from fond_echo.engines.order import Connected
from fond_echo.store.database import Database
from fond_echo.store.engines import engines_with_spent
from fond_echo.turns.ports import Decoder

log = structlog.get_logger()


class ConnectedEngines:
    """Makes engines of their records; breakers and throttles are kept from turn to turn."""

    def __init__(self, client: httpx.AsyncClient, decoder: Decoder) -> None:
        self._client, self._decoder = client, decoder
        self._breakers, self._throttles = Breakers(), Throttles()
        self._tokens: dict[tuple[object, ...], TokenSource] = {}

    async def engines(self, database: Database, vault: Vault) -> dict[str, Connected]:
        """All that are connected and can be read, by name."""
        async with database.reading() as session:
            rows = await engines_with_spent(session)
        found = {}
        for row, spent in rows:
            try:
                made = self.make(row.connector, f"{row.name}.yaml", row.values, vault.apart())
            except FondEchoError as error:
                log.warning("an engine cannot be used", engine=row.name, reason=str(error))
                continue
            found[row.name] = Connected(made, self._breakers.of(row.name), spent)
        return found

    def make(
        self, text: str, file: str, values: Mapping[str, str], vault: Vault
    ) -> DescribedEngine:
        """An engine of its connector file.

        Raises:
            InvalidFile: with every error of the file.
        """
        connector = read_engine(text, file, frozenset(values))
        limits = connector.limits
        throttle = self._throttles.of(connector.engine, limits.rate, limits.concurrency)
        tokens = self._tokens_of(connector, values)
        hosts = [declared_host(each, values) for each in connector.hosts]
        machine = RequestMachine(self._client, vault, values, hosts, throttle, tokens)
        return DescribedEngine(connector, machine, self._decoder)

    def _tokens_of(
        self, connector: EngineConnector, values: Mapping[str, str]
    ) -> TokenSource | None:
        """Where its tokens come from: one token serves many turns."""
        if connector.oauth is None:
            return None
        key = connector.engine, connector.oauth.model_dump_json(), tuple(sorted(values.items()))
        if key not in self._tokens:
            self._tokens[key] = TokenSource(self._client, connector.oauth, dict(values))
        return self._tokens[key]
