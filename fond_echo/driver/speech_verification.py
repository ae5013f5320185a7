"""A reply's sound heard again after it went out: words that do not come back may be said wrong."""

from __future__ import annotations

import asyncio

from fond_echo.core.audio.containers import OUR_OWN, decode
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.recognition.verification import doubts
from fond_echo.speech.material import lexicon
from fond_echo.turns.needs import Needs
from fond_echo.turns.turn import DoubtfulSound, SpeechVerification, TurnSoFar

MAX_SECONDS = 60.0
"""Of a reply, so much is heard again."""


async def verify_speech(turn: TurnSoFar, needs: Needs) -> SpeechVerification | None:
    """What our own recognizer hears in the reply's sound; None where nothing was spoken, or nobody
    wants to know. Raises what the recognizer raises."""
    recognizer = needs.hears_back
    if not turn.assistant.verify_speech or recognizer is None:
        return None
    if turn.spoken is None or not turn.spoken.parts:
        return None
    language, its = turn.assistant.language, turn.assistant.its_language
    said: list[str] = []
    heard: list[str] = []
    seconds = 0.0
    for part in turn.spoken.parts:
        clip = (await asyncio.to_thread(decode, await needs.clips.load(part.clip.id), OUR_OWN)).clip
        seconds += clip.seconds
        if seconds > MAX_SECONDS:
            break
        said += its.writing.spoken_tokens(part.text)
        found = await recognizer.transcribe(clip, Expected(), language=language, long=True)
        heard += found.spoken.split()
    words = lexicon(language).with_sounds(turn.assistant.pronounced)
    missed = await asyncio.to_thread(doubts, said, heard, words.pronunciations)
    return SpeechVerification(
        said=" ".join(said), heard=" ".join(heard),
        doubts=[DoubtfulSound(word=each.word, heard=each.heard) for each in missed],
    )  # fmt: skip
