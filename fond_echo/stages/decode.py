"""decode: from a file of any kind to mono sound at 16 kHz; what was said in a call is that
already."""

from __future__ import annotations

import asyncio
from collections.abc import Callable

from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.errors import SilentSound, SoundTooLong
from fond_echo.core.audio.level import loudness
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.audio.sniff import FLAC
from fond_echo.core.audio.waveform import heights
from fond_echo.core.recognition.symbols import RATE
from fond_echo.turns.needs import AtHand, HearingNeeds
from fond_echo.turns.ready import FetchedTurn
from fond_echo.turns.turn import DecodedClip, TurnSoFar

SILENCE_PEAK = 0.0005
LOUDNESS_SECONDS = 600.0


async def as_said(at_hand: AtHand, turn: TurnSoFar, needs: HearingNeeds) -> DecodedClip:
    """What was said in a call, which nothing has to be decoded of."""
    return DecodedClip(
        clip=at_hand.kept, container=FLAC.name, codec="flac", channel_count=1, loudness=None
    )


async def decode(
    turn: FetchedTurn, needs: HearingNeeds, *, use: Callable[[Clip], None] | None = None
) -> DecodedClip:
    """Raises a SoundError for what is not sound, or holds none.

    Args:
        use: is given the sound, before it is packed.
    """
    decoded = await needs.decoder.decode(await needs.clips.load(turn.sound.id))
    if decoded.clip.peak < SILENCE_PEAK:
        raise SilentSound("the recording is silent", remedy="check the microphone")
    longest = needs.max_seconds or needs.channel.abilities.voice_seconds
    if decoded.clip.seconds > longest:
        what = f"the recording lasts {decoded.clip.seconds:.0f} s"
        raise SoundTooLong(what, remedy=f"this channel takes {longest:.0f} s")
    clip = at_rate(decoded.clip, RATE)
    if use is not None:
        use(clip)
    file, level = await asyncio.to_thread(_packed, clip)
    kept = await needs.clips.keep(
        turn.id,
        file,
        "audio/flac",
        "decoded",
        seconds=decoded.clip.seconds,
        rate=RATE,
        waveform=heights(clip),
    )
    return DecodedClip(
        clip=kept,
        container=decoded.container.name,
        codec=decoded.codec,
        channel_count=decoded.channel_count,
        loudness=level,
    )


def _packed(clip: Clip) -> tuple[bytes, float | None]:
    # Of a long one, the beginning tells how loud it is.
    beginning = clip.part(0.0, min(clip.seconds, LOUDNESS_SECONDS))
    return encode(clip, "flac"), loudness(beginning)
