"""Sound of a claimed turn: stored in the transaction that records the stage which made it."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fond_echo.contract.base import new_id
from fond_echo.contract.clip import ClipRef, NewClip
from fond_echo.records.claim import Claim
from fond_echo.turns.ports import Clips

MAX_ASIDE = 4 * 2**20
"""Bytes of a file beyond which it is stored by itself: the turn's row is locked meanwhile."""


class SoundsOfTurn:
    """Keeps and gives sound while a turn is worked. What is kept can be read at once, and is
    written with whatever is written next about the turn: nobody waits for it.

    Args:
        stored: where sound is that was written.
    """

    def __init__(self, claim: Claim, stored: Clips) -> None:
        self._claim = claim
        self._stored = stored
        self._aside: dict[str, bytes] = {}

    async def keep(
        self, turn_id: str, data: bytes, media_type: str, origin: str, **known: Any
    ) -> ClipRef:
        """As `ClipStore.keep` does."""
        known["waveform"] = tuple(known.get("waveform") or ())
        (kept,) = await self.keep_all(turn_id, [NewClip(data, media_type, origin, **known)])
        return kept

    async def keep_all(self, turn_id: str, sounds: Sequence[NewClip]) -> list[ClipRef]:
        """As `ClipStore.keep_all` does, which refuses sound of a turn whose sound was erased."""
        if self._claim.sound_erased or sum(len(each.data) for each in sounds) > MAX_ASIDE:
            return await self._stored.keep_all(turn_id, sounds)
        kept = []
        for each in sounds:
            clip = ClipRef(
                id=new_id(), media_type=each.media_type, size=len(each.data), origin=each.origin,
                seconds=each.seconds, rate=each.rate, waveform=list(each.waveform),
            )  # fmt: skip
            self._aside[clip.id] = each.data
            self._claim.pending.clips.append((clip.id, each))
            kept.append(clip)
        return kept

    async def load(self, clip_id: str) -> bytes:
        """As `ClipStore.load` does."""
        known = self._aside.get(clip_id)
        return known if known is not None else await self._stored.load(clip_id)
