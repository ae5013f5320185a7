"""Datagrams of telephones on loopback."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from random import SystemRandom
from typing import Any

CHANCE = SystemRandom()


class Receiver(asyncio.DatagramProtocol):
    """Hands on what comes, with where it came from."""

    def __init__(self, received: Callable[[bytes, tuple[str, int]], None]) -> None:
        self._received = received

    def datagram_received(self, data: bytes, addr: tuple[Any, ...]) -> None:
        self._received(data, (str(addr[0]), int(addr[1])))


async def open_socket(
    host: str, port: int, received: Callable[[bytes, tuple[str, int]], None]
) -> tuple[asyncio.DatagramTransport, int]:
    """A socket, and the port that it has (0 asks for a free one)."""
    loop = asyncio.get_running_loop()
    made, _ = await loop.create_datagram_endpoint(
        lambda: Receiver(received), local_addr=(host, port)
    )
    return made, made.get_extra_info("sockname")[1]
