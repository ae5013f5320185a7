"""Hearing and speaking, with the core: no recording is ever looked up."""

from __future__ import annotations

import io
import random
import zlib
from functools import lru_cache
from typing import Any

from fond_echo.contract.base import JsonObject
from fond_echo.core.audio.clip import join, silence
from fond_echo.core.audio.containers import decode, encode
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.material import recognizer, synthesizer

TIMBRES = {"deep": "guillemot", "bright": "curlew", "plain": "petrel"}
LIKE = {"to": "two", "there": "their", "for": "four", "boat": "vote", "is": "his", "a": "the"}


@lru_cache(maxsize=1)
def recognizer_of_ours() -> Any:
    """The recognizer, loaded once."""
    return recognizer()


@lru_cache(maxsize=1)
def _synthesizer() -> Any:
    return synthesizer()


def warm() -> None:
    """Load the models, so that the first question need not wait for them."""
    recognizer_of_ours().transcribe(silence(0.5, 16_000))
    _synthesizer()


def hear(data: bytes, hints: list[str], wrong: float) -> JsonObject:
    """What is said in a file, with errors added to a share of the words.

    Raises:
        SoundError: it is not sound.
    """
    clip = decode(io.BytesIO(data).getvalue()).clip
    found = recognizer_of_ours().transcribe(clip, Expected(hints=tuple(hints)))
    chance = random.Random(zlib.crc32(data))
    words = [
        LIKE.get(word.spoken, word.spoken) if chance.random() < wrong else word.spoken
        for word in found.words
    ]
    text = " ".join(words) if wrong else found.written
    stretches = []
    if found.words:
        stretches = [{"from": found.words[0].start, "to": found.words[-1].end, "words": text}]
    return {"phrase": text, "sure": found.confidence, "stretches": stretches}


def say(words: str, timbre: str, form: str) -> bytes:
    """A text as a file, with silence at both ends, as providers give it."""
    voice = TIMBRES.get(timbre, TIMBRES["plain"])
    return encode(join([part.clip for part in _synthesizer().speak(words, voice)]), form)
