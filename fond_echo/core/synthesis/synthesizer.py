"""Text to speech: phrase by phrase, so that sound can go out before the last word is made."""

from __future__ import annotations

import itertools
import zlib
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np

from fond_echo.core.audio.clip import Clip, join, silence
from fond_echo.core.audio.level import normalized
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.language import Phrase
from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.synthesis.filters import render
from fond_echo.core.synthesis.segments import Segment, plan
from fond_echo.core.synthesis.speaker import VOICES, Speaker
from fond_echo.core.synthesis.tracks import RATE, build

LEAD_SECONDS = 0.06
TAIL_SECONDS = 0.10
SHORT_PHRASE_GAIN_DB = -3.0
MAX_PHRASE = 40
"""Words: longer stretches without punctuation are cut, as a speaker would breathe."""


class VoiceError(FondEchoError):
    """The text cannot be spoken as asked."""

    code = "voice"


class UnknownVoice(VoiceError):
    """There is no voice of that name."""

    code = "voice-unknown"


class NothingToSay(VoiceError):
    """The text holds no word that can be spoken."""

    code = "voice-nothing-to-say"


@dataclass(frozen=True)
class Mark:
    """A spoken word and when it is heard, in seconds from the start of its part."""

    word: str
    start: float
    end: float


@dataclass(frozen=True)
class SpokenPart:
    """A phrase of speech: its sound with the pause after it, its words and their times."""

    clip: Clip
    marks: tuple[Mark, ...]


class Synthesizer:
    """Speaks text in a voice.

    Args:
        lexicon: how words are said.
        voices: the speakers by name; the built-in ones if not given.

    Speaking is repeatable: what varies by chance (small timing and pitch differences) is drawn
    from a generator seeded with the text and the voice, or with the seed that is handed in.
    """

    rate = RATE

    def __init__(self, lexicon: Lexicon, voices: dict[str, Speaker] | None = None) -> None:
        self._lexicon = lexicon
        self.voices = VOICES if voices is None else voices

    def speaker(self, voice: str) -> Speaker:
        """Raises UnknownVoice, which names the voices there are."""
        if voice not in self.voices:
            raise UnknownVoice(
                f"there is no voice {voice!r}", remedy=f"voices: {', '.join(sorted(self.voices))}"
            )
        return self.voices[voice]

    def speak(self, text: str, voice: str, *, seed: int | None = None) -> Iterator[SpokenPart]:
        """The text, one part a phrase, at 16 kHz and −18 LUFS.

        Raises:
            UnknownVoice: before the first part.
            NothingToSay: no word in the text.
        """
        speaker = self.speaker(voice)
        found = [
            part
            for phrase in self._lexicon.language.writing.phrases(text)
            for part in _breaths(phrase)
        ]
        if not found:
            raise NothingToSay(f"there is no word to speak in {text[:60]!r}")
        if seed is None:
            seed = zlib.crc32(f"{voice}\n{text}".encode())
        return self._parts(found, speaker, np.random.default_rng(seed))

    def _parts(
        self, found: list[Phrase], speaker: Speaker, rng: np.random.Generator
    ) -> Iterator[SpokenPart]:
        for place, phrase in enumerate(found):
            pause = TAIL_SECONDS if place + 1 == len(found) else phrase.pause
            yield self.speak_phrase(phrase, speaker, rng, pause=pause)

    def speak_phrase(
        self, phrase: Phrase, speaker: Speaker, rng: np.random.Generator, *, pause: float
    ) -> SpokenPart:
        """One phrase followed by a pause."""
        pronounced = [self._lexicon.pronunciations(token)[0] for token in phrase.tokens]
        segments = [
            Segment("silence", "", LEAD_SECONDS),
            *plan(pronounced, speaker, rng),
            Segment("silence", "", TAIL_SECONDS),
        ]
        samples = render(build(segments, speaker, rng, question=phrase.question), speaker, rng)
        clip = normalized(Clip(samples, RATE), short_gain=SHORT_PHRASE_GAIN_DB)
        if pause > TAIL_SECONDS:
            clip = join([clip, silence(pause / speaker.rate - TAIL_SECONDS, RATE)])
        return SpokenPart(clip, _marks(segments, phrase.tokens))


def _breaths(phrase: Phrase) -> list[Phrase]:
    count = len(phrase.tokens)
    pieces = -(-count // MAX_PHRASE)
    if pieces == 1:
        return [phrase]
    edges = [round(k * count / pieces) for k in range(pieces + 1)]
    cut = [phrase.tokens[a:b] for a, b in itertools.pairwise(edges)]
    return [Phrase(tokens, 0.25) for tokens in cut[:-1]] + [
        Phrase(cut[-1], phrase.pause, phrase.question)
    ]


def _marks(segments: list[Segment], tokens: tuple[str, ...]) -> tuple[Mark, ...]:
    spans: dict[int, tuple[float, float]] = {}
    clock = 0.0
    for segment in segments:
        if segment.word >= 0:
            start, _ = spans.get(segment.word, (clock, clock))
            spans[segment.word] = (start, clock + segment.seconds)
        clock += segment.seconds
    return tuple(
        Mark(token, round(spans[k][0], 3), round(spans[k][1], 3))
        for k, token in enumerate(tokens)
        if k in spans
    )
