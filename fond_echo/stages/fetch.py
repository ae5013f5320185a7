"""fetch: get the sound and the files that came with a message."""

from __future__ import annotations

import re

from fond_echo.contract.channel import FileHandle, SoundHandle
from fond_echo.contract.clip import SENT_FILE
from fond_echo.core.audio.errors import SoundError
from fond_echo.core.audio.sniff import sniff
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.assistant import AcceptedFiles
from fond_echo.documents.media import ATTACHED, picture_type
from fond_echo.turns.errors import FileNotFetched, SoundNotFetched
from fond_echo.turns.needs import HearingNeeds
from fond_echo.turns.ports import Fetched
from fond_echo.turns.turn import FetchedSound, ReceivedFile, TurnSoFar

UNKNOWN = "application/octet-stream"
_MEDIA_TYPE = re.compile(r"[a-z]+/[a-z0-9.+-]+")


async def fetch(turn: TurnSoFar, needs: HearingNeeds) -> FetchedSound:
    """The sound, and those files that the assistant takes.

    Raises:
        SoundNotFetched, FileNotFetched: whatever the reason; what the network said is in it.
    """
    fetched = FetchedSound()
    if turn.inbound.sound is not None:
        fetched = await _sound(turn, needs, turn.inbound.sound)
    takes = turn.assistant.accepts_files
    if takes is not None and turn.inbound.files:
        for each in turn.inbound.files:
            file, exchanges = await _file(turn, needs, each, takes)
            fetched = fetched.model_copy(
                update={
                    "files": [*fetched.files, file],
                    "exchanges": [*fetched.exchanges, *exchanges],
                }
            )
    return fetched


async def _sound(turn: TurnSoFar, needs: HearingNeeds, sound: SoundHandle) -> FetchedSound:
    try:
        got = await _got(turn, needs, sound.handle)
    except SoundError:
        raise
    except FondEchoError as error:
        raise SoundNotFetched(f"the sound could not be fetched: {error}") from error
    container = sniff(got.data)
    media_type = container.media_type if container else got.media_type
    clip = await needs.clips.keep(turn.id, got.data, media_type, "fetched", seconds=sound.seconds)
    return FetchedSound(clip=clip, exchanges=got.exchanges)


async def _file(
    turn: TurnSoFar, needs: HearingNeeds, handle: FileHandle, takes: AcceptedFiles
) -> tuple[ReceivedFile, list[object]]:
    """A file, taken or refused, with what was said to the network for it."""
    known = ReceivedFile(media_type=handle.media_type, name=handle.name, caption=handle.caption)
    if handle.media_type and takes.refusal(handle.media_type, 0):
        # What is refused by its type is not fetched.
        return known.model_copy(update={"refused": takes.refusal(handle.media_type, 0)}), []
    try:
        got = await _got(turn, needs, handle.handle)
    except FondEchoError as error:
        raise FileNotFetched(f"{handle.name or 'a file'} could not be fetched: {error}") from error
    media_type = type_of(got.data, handle.media_type or got.media_type)
    refused = takes.refusal(media_type, len(got.data))
    update: dict[str, object] = {"media_type": media_type, "refused": refused}
    if not refused:
        clip = await needs.clips.keep(turn.id, got.data, media_type, SENT_FILE)
        update |= {"clip": clip, "url": needs.link(clip.id) if needs.link else ""}
    return known.model_copy(update=update), list(got.exchanges)


async def _got(turn: TurnSoFar, needs: HearingNeeds, handle: str) -> Fetched:
    return await needs.channel.fetch(handle, turn.inbound.conversation, turn.inbound.contact)


def type_of(data: bytes, told: str) -> str:
    """A file's media type: what it begins like, else what it is said to be where that cannot be
    seen; what is not what it is said to be is of no known type."""
    begins = "application/pdf" if data.startswith(b"%PDF-") else picture_type(data)
    if begins:
        return begins
    told = told.partition(";")[0].strip().lower()
    return told if _MEDIA_TYPE.fullmatch(told) and told not in ATTACHED.values() else UNKNOWN
