"""encode: spoken parts as one voice note with its waveform."""

from __future__ import annotations

import asyncio

from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.containers import decode
from fond_echo.core.audio.errors import EmptySound
from fond_echo.core.audio.voicenote import encode_voice_note
from fond_echo.core.audio.waveform import heights
from fond_echo.stages.ports import Needs
from fond_echo.stages.turn import Encoded, TurnSoFar


async def encode(turn: TurnSoFar, needs: Needs) -> Encoded:
    """Raises EmptySound where nothing was spoken."""
    assert turn.spoken is not None
    files = [await needs.clips.load(part.clip.id) for part in turn.spoken.parts]
    clip, note = await asyncio.to_thread(_note, files, turn.seed & 0xFFFFFFFF)
    kept = await needs.clips.keep(
        note,
        "audio/ogg; codecs=opus",
        "encoded",
        seconds=clip.seconds,
        rate=48_000,
        waveform=heights(clip),
    )
    return Encoded(clip=kept)


def _note(files: list[bytes], serial: int) -> tuple[Clip, bytes]:
    if not files:
        raise EmptySound("nothing was spoken")
    clip = join([decode(file).clip for file in files])
    return clip, encode_voice_note(clip, serial)
