"""Lines without a network of their own: the HTTP channel and the public page.

Sound arrives with the request and is kept at once, so that fetching it is reading a clip; what is
answered is handed back by the request that asked, so that sending it is keeping it.
"""

from __future__ import annotations

from fond_echo.turns.ports import Abilities, Clips, Fetched, Outgoing, Sent


class DirectChannel:
    """A channel whose messages and answers travel in one exchange."""

    def __init__(self, clips: Clips, longest: float = 3_600.0) -> None:
        """`longest`: seconds of sound that are taken at once."""
        self._clips = clips
        kinds = frozenset(("text", "voice", "choices", "file", "picture", "place"))
        self.abilities = Abilities(kinds, 20_000, longest, 50_000_000)

    async def fetch(self, handle: str, conversation: str, contact: str) -> Fetched:
        """The sound that came with the request; its handle is a clip's id."""
        return Fetched(await self._clips.load(handle), "application/octet-stream", [])

    async def send(self, outgoing: Outgoing) -> Sent:
        """Nothing more to do: who asked reads the delivery."""
        return Sent("", [])

    async def indicate(self, conversation: str, contact: str, kind: str) -> None:
        """Who asked is waiting anyway."""

    async def mark_read(self, conversation: str, contact: str, message: str) -> None:
        """Nothing to mark."""
