"""encode: spoken parts as one voice note with its waveform, while they are spoken where that is
possible."""

from __future__ import annotations

import asyncio
import hashlib
import zlib
from dataclasses import dataclass
from functools import lru_cache

import numpy as np

from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.containers import OUR_OWN, decode
from fond_echo.core.audio.errors import EmptySound
from fond_echo.core.audio.voicenote import OPUS_RATES, VoiceNoteWriter, encode_voice_note
from fond_echo.core.audio.waveform import heights
from fond_echo.core.caching import Recent
from fond_echo.turns.needs import SpeakingNeeds
from fond_echo.turns.ready import SpokenTurn
from fond_echo.turns.turn import Encoded

NOTES_BYTES = 12 * 2**20
KEPT_UP_TO = 500_000
"""Bytes of sound that are encoded once while they are remembered: greetings and prompts, which a
channel says again in every call."""

MEDIA_TYPE = "audio/ogg; codecs=opus"


@dataclass(frozen=True)
class VoiceNote:
    """A voice note, and the sound that it was made of."""

    clip: Clip
    data: bytes


_made: Recent[bytes, VoiceNote] = Recent(
    NOTES_BYTES, lambda note: len(note.data) + note.clip.samples.nbytes
)
"""Voice notes by the sound of their first part: what is said often is encoded once."""


class EncodingAhead:
    """Encodes parts as they are spoken: while the next is made, the last is encoded. A sound that
    was encoded before is taken as it is, as long as nothing else is said.

    Args:
        serial: of the Ogg stream.
    """

    def __init__(self, serial: int) -> None:
        self._serial = serial
        self._writer: VoiceNoteWriter | None = None
        self._clips: list[Clip] = []
        self._data = bytearray()
        self._work: asyncio.Task[None] | None = None
        self._known: VoiceNote | None = None
        self._key = b""

    async def add(self, clip: Clip) -> None:
        """Encode a part beside what goes on; the part before is waited for."""
        if self._work is not None:
            await self._work
        if not self._clips:
            self._key = hashlib.sha256(clip.samples.tobytes()).digest()
            self._known = _made.get(self._key)
        self._clips.append(clip)
        if self._known is not None:
            so_far = join(self._clips).samples
            if np.array_equal(so_far, self._known.clip.samples[: len(so_far)]):
                return
            # It goes on in another way: what was said up to here is encoded now.
            self._known, clip = None, join(self._clips)
        self._work = asyncio.create_task(asyncio.to_thread(self._encode, clip))

    def _encode(self, clip: Clip) -> None:
        if clip.rate not in OPUS_RATES:
            return
        if self._writer is None:
            self._writer = VoiceNoteWriter(self._serial, input_rate=clip.rate, rate=clip.rate)
        self._data += self._writer.write(clip.samples)

    async def finish(self) -> VoiceNote | None:
        """The whole; None where there is none, or where parts have rates that do not fit."""
        if self._work is not None:
            await self._work
        if self._known is not None:
            if sum(map(len, self._clips)) == len(self._known.clip):
                return self._known
            await asyncio.to_thread(self._encode, join(self._clips))
        rates = {clip.rate for clip in self._clips}
        if self._writer is None or len(rates) != 1 or not rates <= OPUS_RATES:
            return None
        data = bytes(self._data) + await asyncio.to_thread(self._writer.finish)
        made = VoiceNote(join(self._clips), data)
        _made.keep(self._key, made)
        return made


async def encode(turn: SpokenTurn, needs: SpeakingNeeds, ahead: VoiceNote | None = None) -> Encoded:
    """Keep the voice note that was made while the reply was spoken; where there is none, make it.

    Raises:
        EmptySound: nothing was spoken.
    """
    note = ahead
    if note is None:
        files = [await needs.clips.load(part.clip.id) for part in turn.spoken.parts]
        make = _once if sum(map(len, files)) <= KEPT_UP_TO else _note
        note = await asyncio.to_thread(make, tuple(files))
    kept = await needs.clips.keep(
        turn.id,
        note.data,
        MEDIA_TYPE,
        "encoded",
        seconds=note.clip.seconds,
        rate=48_000,
        waveform=heights(note.clip),
    )
    return Encoded(clip=kept)


def _note(files: tuple[bytes, ...]) -> VoiceNote:
    if not files:
        raise EmptySound("nothing was spoken")
    clip = join([decode(file, OUR_OWN).clip for file in files])
    return VoiceNote(clip, encode_voice_note(clip, zlib.crc32(b"".join(files))))


_once = lru_cache(maxsize=32)(_note)
