"""Making a channel ready to be used from its record."""

from __future__ import annotations

import httpx

from fond_echo.channels.adapters import Adapter, load_adapter
from fond_echo.channels.call import NoCall
from fond_echo.channels.chat import ChatChannel
from fond_echo.channels.direct import DirectChannel
from fond_echo.connectors.secrets import Vault
from fond_echo.connectors.throttle import Throttles
from fond_echo.contract.base import JsonObject
from fond_echo.contract.channel import ChannelSettings
from fond_echo.documents.connector import read_connector
from fond_echo.store.records import Channel
from fond_echo.turns.ports import Clips

ReceivingChannel = ChatChannel | Adapter


class ChannelBuilder:
    """Builds channels that share one HTTP client and their networks' throttles."""

    def __init__(self, client: httpx.AsyncClient, clips: Clips) -> None:
        self.client = client
        self._clips = clips
        self._throttles = Throttles()

    def build(self, record: Channel, vault: Vault) -> ReceivingChannel | DirectChannel:
        """A channel of any kind. Raises InvalidFile or NoAdapter for one that cannot be made."""
        if record.kind == "http":
            return DirectChannel(self._clips)
        if record.kind == "page":
            guests = ChannelSettings.model_validate(record.settings).guests
            return DirectChannel(self._clips, float(guests.seconds_a_note))
        if record.kind == "phone":
            return NoCall(self._clips)
        return self.receiving(record, vault)

    def receiving(self, record: Channel, vault: Vault) -> ReceivingChannel:
        """A channel that has a network."""
        values: JsonObject = record.values
        if record.kind == "adapter":
            return load_adapter(record.connector, values, vault, self.client)
        connector = read_connector(record.connector, f"{record.name}.yaml", frozenset(values))
        limits = connector.limits
        throttle = self._throttles.of(record.name, limits.rate, limits.concurrency)
        return ChatChannel(connector, values, record.facts, self.client, vault, throttle)
