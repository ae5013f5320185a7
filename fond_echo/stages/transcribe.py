"""transcribe: from sound to words, first against what the assistant can understand."""

from __future__ import annotations

import asyncio
from typing import Protocol

from fond_echo.contract.turn import Heard
from fond_echo.core.audio.containers import OUR_OWN, decode
from fond_echo.turns.errors import NothingHeard
from fond_echo.turns.expected import expected_of
from fond_echo.turns.needs import HearingNeeds
from fond_echo.turns.ready import DecodedTurn

LONG_SECONDS = 60.0
"""What is longer is a long file, which waits for everything else."""


class Speculation(Protocol):
    """Hearing that began before the sound was kept."""

    async def taken(self) -> Heard | None:
        """What was heard; None where nothing was, or it failed."""
        ...


async def transcribe(
    turn: DecodedTurn, needs: HearingNeeds, *, early: Speculation | None = None
) -> Heard:
    """Raises NothingHeard where there is no speech in the sound.

    Args:
        early: may have begun to hear it.
    """
    if early is not None and (heard := await early.taken()) is not None:
        return speech_in(heard)
    if needs.at_hand is not None:
        clip = needs.at_hand.clip
    else:
        file = await needs.clips.load(turn.decoded.clip.id)
        clip = (await asyncio.to_thread(decode, file, OUR_OWN)).clip
    heard = await needs.recognizer.transcribe(
        clip,
        expected_of(turn),
        language=turn.assistant.language,
        long=clip.seconds > LONG_SECONDS,
    )
    return speech_in(heard)


def speech_in(heard: Heard) -> Heard:
    """What was heard, where there was speech. Raises NothingHeard where there was none."""
    if heard.source == "nothing":
        raise NothingHeard(
            "no speech was heard in the sound",
            remedy="speak nearer to the microphone, in a quieter place",
        )
    return heard
