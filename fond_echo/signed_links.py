"""Links to clips that need no key: signed, for one clip, until a time."""

from __future__ import annotations

import hmac
import time
from hashlib import sha256

from fond_echo.settings import Settings


def signature(settings: Settings, clip_id: str, until: int) -> str:
    """What only we can have put to a link to a clip that ends at `until` (Unix time)."""
    key = settings.encryption_keys()[0].encode()
    return hmac.digest(key, f"sound.{clip_id}.{until}".encode(), sha256).hex()[:40]


def link_to(settings: Settings, clip_id: str, hours: float) -> tuple[str, int]:
    """A link to a clip, and the second (Unix time) at which it ends."""
    until = int(time.time() + 3_600 * hours)
    base = (settings.public_address or settings.address).rstrip("/")
    signed = signature(settings, clip_id, until)
    return f"{base}/sound/{clip_id}?until={until}&sign={signed}", until
