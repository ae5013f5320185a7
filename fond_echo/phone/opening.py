"""What is said first in a call that we placed, made ready."""

from __future__ import annotations

import asyncio
import base64
import binascii
import json

import httpx
from pydantic import ValidationError

from fond_echo.contract.call import Opening
from fond_echo.contract.reply import Reply
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import decode
from fond_echo.core.dialogue.shaping import speakable
from fond_echo.core.errors import FondEchoError
from fond_echo.phone.errors import NoOpening
from fond_echo.turns.ports import Clips

ASK_SECONDS = 5.0
MAX_BYTES = 10_000_000


async def sound_of(text: str) -> Clip:
    """The sound of an opening.

    Raises:
        NoOpening: it is no sound.
    """
    try:
        data = base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError) as error:
        raise NoOpening("the opening's sound is not base64", where="opening.sound") from error
    try:
        return (await asyncio.to_thread(decode, data)).clip
    except FondEchoError as error:
        raise NoOpening(f"the opening's sound: {error}", where="opening.sound") from error


async def ask(client: httpx.AsyncClient, address: str) -> Clip | str:
    """Ask an address for an opening: a sound, or words.

    Raises:
        NoOpening: it gives neither, or not in time.
    """
    try:
        answer = await asyncio.wait_for(client.get(address), ASK_SECONDS)
    except (httpx.HTTPError, FondEchoError, TimeoutError) as error:
        raise NoOpening(f"{address} did not answer: {error or 'too late'}") from error
    if answer.status_code != 200 or len(answer.content) > MAX_BYTES:
        raise NoOpening(f"{address} answered {answer.status_code}, {len(answer.content):,} bytes")
    kind = answer.headers.get("content-type", "").partition(";")[0].strip().lower()
    if kind.startswith(("audio/", "video/")) or kind == "application/ogg":
        try:
            return (await asyncio.to_thread(decode, answer.content)).clip
        except FondEchoError as error:
            raise NoOpening(f"what {address} gave is no sound: {error}") from error
    text = answer.text.strip()
    if kind == "application/json" or text.startswith("{"):
        try:
            reply = Reply.model_validate(json.loads(text))
        except (ValueError, ValidationError) as error:
            raise NoOpening(f"what {address} gave is no reply: {error}") from error
        text = reply.spoken or speakable(reply.text)
    if not text:
        raise NoOpening(f"{address} gave nothing to say")
    return text


async def prepared(opening: Opening, client: httpx.AsyncClient, clips: Clips) -> Clip | str:
    """What is said, as sound or words; of an assistant, "" for its greeting.

    Args:
        opening: as it was stored: its sound is a clip's id.

    Raises:
        NoOpening: there is nothing to be said.
    """
    if opening.sound:
        try:
            data = await clips.load(opening.sound)
            return (await asyncio.to_thread(decode, data)).clip
        except FondEchoError as error:
            raise NoOpening(f"the opening's sound: {error}") from error
    if opening.address:
        return await ask(client, opening.address)
    return opening.text
