"""An adapter for a network that no description describes: carrier pigeons.

Every message comes in a ring that must be opened (a checksum over words, not over bytes), and
answers go back by the bird that brought the question.
"""

from __future__ import annotations

import hashlib
import hmac
from collections.abc import Mapping
from typing import Any

import httpx

from fond_echo.connectors.errors import Forged
from fond_echo.connectors.secrets import Vault
from fond_echo.contract.channel import Inbound
from fond_echo.turns.ports import Abilities, Fetched, Outgoing, Sent


class Pigeon:
    """A channel carried by birds. `values` holds the loft's name and its address."""

    abilities = Abilities(frozenset(("text",)), text_characters=140)

    def __init__(self, values: dict[str, Any], vault: Vault, client: httpx.AsyncClient) -> None:
        self._loft = values["loft"]
        self._address = values.get("address", "https://loft.example")
        self._vault = vault
        self._client = client

    async def connect(self, our_address: str) -> dict[str, Any]:
        """Tell the loft where questions should fly."""
        body = {"loft": self._loft, "fly_to": our_address}
        answer = await self._client.post(f"{self._address}/lofts", json=body)
        answer.raise_for_status()
        return {"loft_number": answer.json()["number"]}

    def verify(self, headers: Mapping[str, str], body: bytes, now: float) -> None:
        """The ring's mark is made over the sorted words, which no template says."""
        words = b" ".join(sorted(body.split()))
        wanted = hmac.digest(self._vault["pigeon-ring"].encode(), words, hashlib.sha256).hex()
        if not hmac.compare_digest(headers.get("x-ring", ""), wanted):
            raise Forged("the ring's mark does not fit")

    def messages(self, payload: Any) -> list[tuple[Inbound, Any]]:
        """One message a ring; the bird is the conversation."""
        return [
            (
                Inbound(
                    id=ring["ring"],
                    conversation=ring.get("bird", ring["from"]),
                    contact=ring["from"],
                    text=ring["note"],
                ),
                ring,
            )
            for ring in payload["rings"]
        ]

    async def fetch(self, handle: str, conversation: str, contact: str) -> Fetched:
        """Birds carry no sound."""
        return Fetched(b"", "", [])

    async def send(self, outgoing: Outgoing) -> Sent:
        """Let the bird fly back."""
        body = {"bird": outgoing.conversation, "note": outgoing.text, "once": outgoing.key}
        answer = await self._client.post(f"{self._address}/flights", json=body)
        answer.raise_for_status()
        return Sent(str(answer.json()["flight"]), [])

    async def indicate(self, conversation: str, contact: str, kind: str) -> None:
        """Birds show nothing."""

    async def mark_read(self, conversation: str, contact: str, message: str) -> None:
        """Birds know."""
