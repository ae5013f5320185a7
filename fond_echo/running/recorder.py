"""The process that encodes recordings of calls, so that turns never wait for it.

python -m fond_echo.running.recorder FD plain info      # the phone process begins it so
"""

from __future__ import annotations

import socket
from collections.abc import Sequence
from typing import Any

from fond_echo.core.telephony.media.jitter import Frame
from fond_echo.phone.encoding import Encoders
from fond_echo.phone.link import Link
from fond_echo.running.linked import LinkedProcess, serve
from fond_echo.settings import Settings

NICENESS = 5
"""A recording may wait; a caller may not."""


class Recorder(LinkedProcess):
    """The encoders of recordings in a process of their own (`RecordingEncoder`)."""

    def __init__(self, settings: Settings) -> None:
        super().__init__("fond_echo.running.recorder", Link({}), settings)

    async def encode(self, call: str, theirs: Sequence[Frame], ours: Sequence[Frame]) -> bytes:
        """Raises LinkClosed where the process is gone."""
        return bytes(await self.link.call("encode", call, theirs, ours))

    async def finish(self, call: str) -> tuple[bytes, dict[str, Any]]:
        """Raises LinkClosed where the process is gone."""
        found: tuple[bytes, dict[str, Any]] = await self.link.call("finish", call)
        return found


async def encode(end: socket.socket) -> None:
    """Encode until the process that began this one is gone."""
    encoders = Encoders()
    link = Link({"encode": encoders.encode_now, "finish": encoders.finish_now})
    await link.open(end)
    await link.run()


if __name__ == "__main__":
    serve("recorder", NICENESS, encode)
