"""fetch: get the sound that came with a message."""

from __future__ import annotations

from fond_echo.contract.channel import SoundHandle
from fond_echo.core.audio.errors import SoundError
from fond_echo.core.audio.sniff import sniff
from fond_echo.core.errors import FondEchoError
from fond_echo.turns.errors import SoundNotFetched
from fond_echo.turns.needs import HearingNeeds
from fond_echo.turns.turn import FetchedSound, TurnSoFar


async def fetch(turn: TurnSoFar, needs: HearingNeeds, sound: SoundHandle) -> FetchedSound:
    """Raises SoundNotFetched, whatever the reason; what the network said is in it."""
    try:
        got = await needs.channel.fetch(
            sound.handle, turn.inbound.conversation, turn.inbound.contact
        )
    except SoundError:
        raise
    except FondEchoError as error:
        raise SoundNotFetched(f"the sound could not be fetched: {error}") from error
    container = sniff(got.data)
    media_type = container.media_type if container else got.media_type
    clip = await needs.clips.keep(turn.id, got.data, media_type, "fetched", seconds=sound.seconds)
    return FetchedSound(clip=clip, exchanges=got.exchanges)
