"""encode: spoken parts as one voice note with its waveform."""

from __future__ import annotations

import asyncio
import zlib
from functools import lru_cache

from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.containers import OUR_OWN, decode
from fond_echo.core.audio.errors import EmptySound
from fond_echo.core.audio.voicenote import encode_voice_note
from fond_echo.core.audio.waveform import heights
from fond_echo.stages.ports import Needs
from fond_echo.stages.ready import SpokenTurn
from fond_echo.stages.turn import Encoded

KEPT_UP_TO = 500_000
"""Bytes of sound that are encoded once while they are remembered: greetings and prompts, which a
channel says again in every call."""


async def encode(turn: SpokenTurn, needs: Needs) -> Encoded:
    """Raises EmptySound where nothing was spoken."""
    files = [await needs.clips.load(part.clip.id) for part in turn.spoken.parts]
    make = _once if sum(map(len, files)) <= KEPT_UP_TO else _note
    clip, note = await asyncio.to_thread(make, tuple(files))
    kept = await needs.clips.keep(
        turn.id,
        note,
        "audio/ogg; codecs=opus",
        "encoded",
        seconds=clip.seconds,
        rate=48_000,
        waveform=heights(clip),
    )
    return Encoded(clip=kept)


def _note(files: tuple[bytes, ...]) -> tuple[Clip, bytes]:
    if not files:
        raise EmptySound("nothing was spoken")
    clip = join([decode(file, OUR_OWN).clip for file in files])
    return clip, encode_voice_note(clip, zlib.crc32(b"".join(files)))


_once = lru_cache(maxsize=32)(_note)
