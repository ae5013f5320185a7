"""WebSockets (RFC 6455) to outside services, behind the address guard: for answers that come piece
by piece, and for sound that is heard while it goes on."""

from __future__ import annotations

import asyncio
import socket
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager

import httpx
from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import InvalidStatus, WebSocketException

from fond_echo.connectors.addresses import address_of
from fond_echo.connectors.errors import NoAnswer, Refused, Unreachable, WrongAnswer
from fond_echo.connectors.guard import GuardedClient

MAX_MESSAGE = 3 * 2**20
"""Bytes of one message."""


class _Straight(connect):
    """A connection that follows no redirect: it would go past the guard."""

    def process_redirect(self, exc: Exception) -> Exception | str:
        return exc


@asynccontextmanager
async def opened(
    client: httpx.AsyncClient, url: str, headers: Mapping[str, str], seconds: float
) -> AsyncIterator[ClientConnection]:
    """A connection to an http or https address, as a WebSocket.

    Args:
        client: whose guard says where it may go.
        seconds: in which it has to be open.

    Raises:
        ConnectorError: the address is forbidden, nothing answers there, or it does not want to.
            What breaks while it is used is raised as one too.
    """
    host, port = address_of(url)
    if not isinstance(client, GuardedClient):
        raise Unreachable("only a guarded client opens sockets", where=url)
    addresses = await client.guard.judged(host, port)
    where = f"SOCKET {host}"
    try:
        reached = await _connected([str(each) for each in addresses], port, seconds)
        opening = _Straight(
            f"ws{url.removeprefix('http')}", sock=reached, proxy=None,
            additional_headers=dict(headers), open_timeout=seconds, max_size=MAX_MESSAGE,
        )  # fmt: skip
        async with opening as connection:
            yield connection
    except InvalidStatus as error:
        status = error.response.status_code
        raise Refused(f"the service answered {status} instead of opening a socket",
                      status=status, where=where) from error  # fmt: skip
    except TimeoutError as error:
        raise NoAnswer(f"no answer within {seconds:g} s", where=where) from error
    except (OSError, EOFError) as error:
        raise Unreachable(f"no connection: {error}", where=where) from error
    except WebSocketException as error:
        raise NoAnswer(f"the connection broke: {error}", where=where) from error


async def _connected(addresses: Sequence[str], port: int, seconds: float) -> socket.socket:
    """A socket to the first of some addresses that answers. Raises OSError of the last, or
    TimeoutError where none does in time."""
    loop = asyncio.get_running_loop()
    async with asyncio.timeout(seconds):
        for left, address in zip(reversed(range(len(addresses))), addresses, strict=True):
            family = socket.AF_INET6 if ":" in address else socket.AF_INET
            found = socket.socket(family, socket.SOCK_STREAM)
            found.setblocking(False)
            try:
                # One that does not answer at all leaves time for the others.
                async with asyncio.timeout(seconds / len(addresses)):
                    await loop.sock_connect(found, (address, port))
                return found
            except (OSError, TimeoutError):
                found.close()
                if not left:
                    raise
            except BaseException:
                found.close()
                raise
    raise OSError("no address")


async def messages(
    connection: ClientConnection, most: int, seconds: float, sound: bytearray | None = None
) -> AsyncIterator[str]:
    """The text messages of a socket until it is closed.

    Args:
        most: bytes of all of them.
        seconds: between two of them.
        sound: takes binary messages; without it, one is an error.

    Raises:
        NoAnswer: none came for so long.
        WrongAnswer: there is too much, or a binary message.
    """
    count = 0
    while True:
        try:
            async with asyncio.timeout(seconds):
                message = await anext(aiter(connection), None)
        except TimeoutError as error:
            raise NoAnswer(f"no message within {seconds:g} s") from error
        if message is None:
            return
        count += len(message)
        if count > most:
            raise WrongAnswer(f"the answer is over {most:,} bytes")
        if isinstance(message, str):
            yield message
        elif sound is None:
            raise WrongAnswer("a message is not text")
        else:
            sound += message
