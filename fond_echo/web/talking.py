"""A telephone in the console: the page's microphone and its keys, over a WebSocket, as a call to a
phone channel like any other.

The page sends 20 ms of sound at a time (320 bytes: 8 kHz, 16 bits, little-endian) and JSON for what
is pressed; it gets sound in the same form, and JSON for what happens.
"""

from __future__ import annotations

import asyncio
import contextlib
from typing import Annotated

import numpy as np
from fastapi import Path, WebSocket, WebSocketDisconnect

from fond_echo.contract.base import Name
from fond_echo.core.telephony.media.g711 import encoded
from fond_echo.core.telephony.media.jitter import FRAME
from fond_echo.documents.phone import read_phone
from fond_echo.softphone.handset import KEYS, Handset, handset
from fond_echo.store.records import Channel
from fond_echo.web.access import of_socket
from fond_echo.web.bodies import CheckedRouter

router = CheckedRouter(prefix="/api/channels")

FRAME_BYTES = 2 * FRAME
MAX_WAITING = 25
"""Frames of the microphone that may wait: where more come, the oldest go."""

NOT_SIGNED_IN, NO_CHANNEL = 4401, 4404
CALLER = "console"


@router.websocket("/{channel}/talk")
async def talk(socket: WebSocket, channel: Annotated[Name, Path()]) -> None:
    """Call a channel from the page."""
    service = socket.app.state.service
    await socket.accept()
    if not await of_socket(socket, service, "operate"):
        await socket.close(NOT_SIGNED_IN, "sign in to the console")
        return
    async with service.database.reading() as session:
        record = await session.get(Channel, channel)
    if record is None or record.kind != "phone":
        await socket.close(NO_CHANNEL, f"there is no phone channel {channel}")
        return
    described = read_phone(record.connector, f"{channel}.yaml")
    async with handset(CALLER, described.listen.host) as phone:
        dialling = asyncio.create_task(phone.dial(described.address))
        tasks = [asyncio.create_task(each(socket, phone)) for each in (_speak, _hear)]
        try:
            await asyncio.wait(tasks, return_when=asyncio.FIRST_COMPLETED)
        finally:
            for task in (dialling, *tasks):
                task.cancel()
            await asyncio.gather(dialling, *tasks, return_exceptions=True)
    with contextlib.suppress(RuntimeError):
        await socket.close()


async def _speak(socket: WebSocket, phone: Handset) -> None:
    """What the page sends, until it goes or hangs up."""
    waiting = 0
    while True:
        try:
            reported = await socket.receive()
        except (WebSocketDisconnect, RuntimeError):
            return
        if reported["type"] == "websocket.disconnect":
            return
        data = reported.get("bytes")
        if data is not None:
            if len(data) == FRAME_BYTES and phone.stream is not None:
                waiting = phone.stream.waiting
                if waiting < MAX_WAITING:
                    samples = np.frombuffer(data, "<i2")
                    phone.stream.play(encoded(samples, phone.stream.law))
            continue
        text = reported.get("text") or ""
        if text == "hang-up":
            await phone.hang_up()
            return
        if len(text) == 1 and text in KEYS and phone.stream is not None:
            phone.press(text)


async def _hear(socket: WebSocket, phone: Handset) -> None:
    """What the call gives, until it is over."""
    state, seen = "calling", 0
    await socket.send_json({"state": state})
    while True:
        more = phone.news.next
        found = "over" if phone.over.is_set() else "answered" if phone.answered.is_set() else state
        if found == "calling" and phone.rang.is_set():
            found = "ringing"
        if found != state:
            state = found
            cause = phone.ended.cause if phone.ended is not None else ""
            await socket.send_json({"state": state, "cause": cause})
        came, seen = phone.heard.since(seen), phone.heard.count
        for frame in came:
            await socket.send_bytes(frame.astype("<i2").tobytes())
        if state == "over":
            return
        await more.wait()
