"""What the turns of all calls of a process share."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Any

import httpx

from fond_echo.driver.queued import World
from fond_echo.phone.encoding import RecordingEncoder
from fond_echo.store.blobs import BlobStore
from fond_echo.store.clips import ClipStore
from fond_echo.store.database import Database
from fond_echo.turns.ports import Synthesizer


@dataclass(frozen=True)
class CallDependencies:
    """The database and its queue, the world that turns are worked in, sound, what speaks in calls,
    a client that asks the addresses of openings, and what encodes recordings."""

    database: Database
    queue: Any
    world: World
    clips: ClipStore
    blobs: BlobStore
    synthesizer: Synthesizer
    client: httpx.AsyncClient
    encoder: RecordingEncoder
    engine_voice: Callable[[tuple[str, ...]], Synthesizer] | None = None
    """Speaks with engines by their names, for words that belong to no turn."""
