"""Where chat networks post what came in: checked, stored, enqueued, and answered at once."""

from __future__ import annotations

import hmac
import ipaddress
import json
import time
from typing import Annotated, Any

from fastapi import Path, Request, Response
from fastapi.responses import JSONResponse, PlainTextResponse

from fond_echo.channels.chat import ChatChannel
from fond_echo.connectors.answers import taken
from fond_echo.connectors.errors import Forged
from fond_echo.connectors.verify import check_webhook
from fond_echo.store.arriving import take_in_all
from fond_echo.web.bodies import CheckedRouter, body_of
from fond_echo.web.errors import NotFound, NotJson
from fond_echo.web.health import ARRIVALS
from fond_echo.web.service import Receiving, Service, TheService

router = CheckedRouter(tags=["webhooks"])

MAX_BODY = 20 * 2**20
ChannelName = Annotated[str, Path(max_length=60)]


async def _receiving(service: Service, channel: str) -> Receiving:
    found = await service.receiving_channel(channel)
    if found is None:
        raise NotFound(f"there is no channel {channel!r} that messages could be posted to")
    return found


@router.get("/webhooks/{channel}")
async def answer_challenge(channel: ChannelName, request: Request, service: TheService) -> Response:
    """Answer the challenge by which a network checks that the address is ours."""
    receiving = await _receiving(service, channel)
    webhook = _webhook(receiving)
    challenge = webhook.challenge if webhook else None
    if challenge is None or challenge.query is None:
        raise NotFound(f"the channel {channel!r} has no challenge to answer")
    if challenge.token is not None and challenge.key is not None:
        wanted = receiving.vault.get(challenge.key.secret).value
        given = request.query_params.get(challenge.token, "")
        if not hmac.compare_digest(given.encode(), wanted.encode()):
            raise Forged("the challenge's token is not ours", remedy="check the shared secret")
    return PlainTextResponse(request.query_params.get(challenge.query, ""))


@router.post("/webhooks/{channel}", status_code=202)
async def receive_messages(channel: ChannelName, request: Request, service: TheService) -> Response:
    """Receive messages from a channel's network. Known ones are passed over."""
    with ARRIVALS.time():
        return await _arrive(channel, request, service)


async def _arrive(channel: str, request: Request, service: Service) -> Response:
    body = await body_of(request, MAX_BODY)
    receiving = await _receiving(service, channel)
    _verify(receiving, request, body)
    try:
        payload = json.loads(body)
    except (ValueError, RecursionError) as error:
        raise NotJson(f"the body is not JSON: {error}") from error
    echo = _echo(receiving, payload)
    if echo is not None:
        return JSONResponse({"challenge": echo})
    arrived = receiving.channel.messages(payload)
    new = await take_in_all(service.database, channel, receiving.settings, arrived)
    return JSONResponse({"new": new}, status_code=202)


def _webhook(receiving: Receiving) -> Any:
    channel = receiving.channel
    return channel.connector.receive.webhook if isinstance(channel, ChatChannel) else None


def _verify(receiving: Receiving, request: Request, body: bytes) -> None:
    channel = receiving.channel
    if not isinstance(channel, ChatChannel):
        channel.verify(request.headers, body, time.time())
        return
    webhook = channel.connector.receive.webhook
    if webhook is None:
        raise NotFound("this channel asks its network for messages; none are posted to it")
    if webhook.verify is None:
        _only_from_loopback(request)
        return
    key = webhook.verify.key
    secret = receiving.vault.get(key.secret).value if key else ""
    check_webhook(webhook.verify, secret, request.headers, body, time.time())


def _echo(receiving: Receiving, payload: Any) -> Any:
    webhook = _webhook(receiving)
    challenge = webhook.challenge if webhook else None
    if challenge is None or challenge.path is None:
        return None
    return taken(payload, challenge.path)


def _only_from_loopback(request: Request) -> None:
    host = request.client.host if request.client else ""
    try:
        local = ipaddress.ip_address(host).is_loopback
    except ValueError:
        local = False
    if not local:
        raise Forged(
            "this channel's webhook is not verified, so it is taken from loopback only",
            remedy="add verify: to its description",
        )
