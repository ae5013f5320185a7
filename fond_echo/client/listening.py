"""Sound that goes on, sent to the service as it comes."""

from __future__ import annotations

import asyncio
import json
from collections.abc import AsyncIterable, AsyncIterator, Mapping
from dataclasses import dataclass

from websockets.asyncio.client import ClientConnection, connect
from websockets.exceptions import ConnectionClosed, WebSocketException

from fond_echo.client.errors import Refused, Unreachable
from fond_echo.contract.api import Problem
from fond_echo.contract.speech import ListenIn
from fond_echo.contract.turn import Heard


@dataclass(frozen=True)
class Partial:
    """The words of an utterance so far; they may still change."""

    text: str


@dataclass(frozen=True)
class Utterance:
    """An utterance that has ended; `cut` where it was too long to wait for its end."""

    heard: Heard
    truncated: bool = False


async def listen(
    address: str, headers: Mapping[str, str], sound: AsyncIterable[bytes], requested: ListenIn
) -> AsyncIterator[Partial | Utterance]:
    """Send sound and give what is found in it."""
    url = f"{address.replace('http', 'ws', 1)}/api/speech/transcripts"
    try:
        async with connect(url, additional_headers=dict(headers), proxy=None) as socket:
            await socket.send(requested.model_dump_json())
            sending = asyncio.create_task(_send(socket, sound))
            try:
                async for message in socket:
                    reported = json.loads(message)
                    if "error" in reported:
                        raise Refused(_problem(422, reported["error"]))
                    if "partial" in reported:
                        yield Partial(reported["partial"])
                    elif "heard" in reported:
                        yield Utterance(
                            Heard.model_validate(reported["heard"]), reported["truncated"]
                        )
            finally:
                sending.cancel()
                await asyncio.gather(sending, return_exceptions=True)
            if socket.close_code not in (1000, None):
                raise Refused(_problem(400, {"what": socket.close_reason or "it broke off"}))
    except ConnectionClosed as error:
        reason = error.rcvd.reason if error.rcvd else ""
        raise Refused(_problem(400, {"what": reason or "the connection broke off"})) from error
    except (OSError, WebSocketException) as error:
        raise Unreachable(f"{address} does not answer: {error or type(error).__name__}") from error


async def _send(socket: ClientConnection, sound: AsyncIterable[bytes]) -> None:
    async for data in sound:
        await socket.send(data)
    await socket.send(json.dumps({"end": True}))


def _problem(status: int, reported: Mapping[str, str]) -> Problem:
    return Problem(
        type=reported.get("code", "about:blank"),
        title="Sound could not be read",
        status=status,
        detail=reported["what"],
        remedy=reported.get("remedy", ""),
    )
