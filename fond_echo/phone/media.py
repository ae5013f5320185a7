"""The sockets of a call: sound and reports, two ports side by side."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from typing import Any

from fond_echo.phone.errors import NoPorts

Place = tuple[str, int]


class Receiver(asyncio.DatagramProtocol):
    """Hands on datagrams with where they came from."""

    def __init__(self, received: Callable[[bytes, Place], None]) -> None:
        self._received = received

    def datagram_received(self, data: bytes, addr: tuple[Any, ...]) -> None:
        self._received(data, (str(addr[0]), int(addr[1])))

    def error_received(self, exc: Exception) -> None:
        """Nobody listens there, for now; a call ends by signalling or by silence."""


class MediaSockets:
    """Two open sockets.

    Attributes:
        port: of the sound; reports have the next one.
    """

    def __init__(
        self, port: int, sound: asyncio.DatagramTransport, reports: asyncio.DatagramTransport
    ) -> None:
        self.port = port
        self._sound, self._reports = sound, reports

    def send(self, data: bytes, place: Place) -> None:
        if not self._sound.is_closing():
            self._sound.sendto(data, place)

    def send_report(self, data: bytes, place: Place) -> None:
        # Behind the last port there is none for reports.
        if not self._reports.is_closing() and place[1] < 65_535:
            self._reports.sendto(data, (place[0], place[1] + 1))

    def close(self) -> None:
        self._sound.close()
        self._reports.close()


async def open_media(
    host: str,
    ports: tuple[int, int],
    sound: Callable[[bytes, Place], None],
    reports: Callable[[bytes, Place], None],
    *,
    first: int,
) -> MediaSockets:
    """Open two ports that are free.

    Args:
        ports: the first and the last that may be taken.
        first: where to begin looking.

    Raises:
        NoPorts: none are.
    """
    loop = asyncio.get_running_loop()
    low, high = ports
    pairs = list(range(low + low % 2, high, 2))
    start = first % max(1, len(pairs))
    for port in pairs[start:] + pairs[:start]:
        try:
            one, _ = await loop.create_datagram_endpoint(
                lambda: Receiver(sound), local_addr=(host, port)
            )
        except OSError:
            continue
        try:
            two, _ = await loop.create_datagram_endpoint(
                lambda: Receiver(reports), local_addr=(host, port + 1)
            )
        except OSError:
            one.close()
            continue
        return MediaSockets(port, one, two)
    raise NoPorts(f"all media ports from {low} to {high} are taken", remedy="give more of them")
