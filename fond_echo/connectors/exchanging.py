"""One HTTP exchange: its request is sent, its answer is read, in bounded time and size."""

from __future__ import annotations

import asyncio
import time
from dataclasses import dataclass

import httpx

from fond_echo.connectors.errors import NoAnswer, Unreachable, WrongAnswer
from fond_echo.connectors.streaming import StreamReader, lines_of
from fond_echo.connectors.wire import rest_of

SLOWEST = 50_000
"""A large answer may take a second longer for so many bytes."""

MAX_STREAM_SECONDS = 120.0


@dataclass(frozen=True)
class Received:
    """An answer; `rest` is for how many seconds the service asks to be left alone."""

    status: int
    kind: str
    body: bytes
    seconds: float
    rest: float


async def exchanged(
    client: httpx.AsyncClient, request: httpx.Request, most: int, seconds: float,
    reader: StreamReader | None,
) -> Received:  # fmt: skip
    """A request, and its whole answer.

    Args:
        most: bytes of the answer.
        seconds: until its head is there, between two pieces of it, and for all of it but what a
            large answer may take longer; a streamed one is over in `MAX_STREAM_SECONDS`.
        reader: takes a streamed answer.

    Raises:
        ConnectorError: there was no connection, or no answer in time, or one that is too large.
    """
    begun, where = time.monotonic(), f"{request.method} {request.url.host}"
    try:
        # The time-out of httpx begins anew with every byte. Its own comes first where there is no
        # connection: then nothing was sent.
        async with asyncio.timeout(1.1 * seconds + 0.1):
            response = await client.send(request, stream=True)
        try:
            body = bytearray()
            if reader is not None and response.status_code < 300:
                reader.status = response.status_code
                async with asyncio.timeout(MAX_STREAM_SECONDS):
                    await reader.read(lines_of(response, most, where), where)
            else:
                async for chunk in response.aiter_bytes():
                    body += chunk
                    if time.monotonic() - begun > seconds + len(body) / SLOWEST:
                        raise NoAnswer(f"not the whole answer within {seconds:g} s", where=where)
                    if len(body) > most:
                        raise WrongAnswer(f"the answer is over {most:,} bytes", where=where)
        finally:
            await response.aclose()
    except (httpx.ConnectError, httpx.ConnectTimeout, httpx.PoolTimeout) as error:
        raise Unreachable(f"no connection: {error or 'timed out'}", where=where) from error
    except (httpx.TimeoutException, TimeoutError) as error:
        raise NoAnswer(f"no answer within {seconds:g} s", where=where) from error
    except httpx.HTTPError as error:
        reason = str(error) or type(error).__name__
        raise NoAnswer(f"the connection broke: {reason}", where=where) from error
    except (httpx.InvalidURL, UnicodeError, ValueError) as error:
        raise WrongAnswer(f"no request can be made: {error}", where=where) from error
    kind, rest = (response.headers.get(name, "") for name in ("content-type", "retry-after"))
    seconds = time.monotonic() - begun
    return Received(response.status_code, kind, bytes(body), seconds, rest_of(rest))
