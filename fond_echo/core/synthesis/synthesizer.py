"""Text to speech: phrase by phrase, so that sound can go out before the last word is made."""

from __future__ import annotations

import itertools
import zlib
from collections.abc import Collection, Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache

import numpy as np

from fond_echo.core.audio.clip import Clip, join, silence
from fond_echo.core.audio.level import normalized
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.language import Phrase
from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.language.phrasing import Played, Spoken, phrases_of
from fond_echo.core.language.prosody import PLAIN, Prosody
from fond_echo.core.language.ssml import is_ssml, read_ssml
from fond_echo.core.synthesis.delivery import delivered
from fond_echo.core.synthesis.errors import NothingToSay, UnknownVoice
from fond_echo.core.synthesis.filters import render
from fond_echo.core.synthesis.prosody import all_plain, fitted, loud, paced, pitched, under
from fond_echo.core.synthesis.segments import Segment, plan
from fond_echo.core.synthesis.speaker import VOICES, Speaker
from fond_echo.core.synthesis.tracks import RATE, build

LEAD_SECONDS = 0.06
TAIL_SECONDS = 0.10
SHORT_PHRASE_GAIN_DB = -3.0
MAX_PHRASE = 40
"""Words: longer stretches without punctuation are cut, as a speaker would breathe."""


@dataclass(frozen=True)
class Mark:
    """A spoken word and when it is heard, in seconds from the start of its part."""

    word: str
    start: float
    end: float


@dataclass(frozen=True)
class SpokenPart:
    """A phrase of speech: its sound with the pause after it, its words and their times, and the
    times of the places that markup names."""

    clip: Clip
    marks: tuple[Mark, ...]
    places: tuple[tuple[str, float], ...] = ()


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
        # A long text is spoken in many windows: it is planned once.
        self._plan = lru_cache(maxsize=4)(self._made_plan)
        self.voices = VOICES if voices is None else voices

    def speaker(self, voice: str) -> Speaker:
        """Raises UnknownVoice, which names the voices there are."""
        if voice not in self.voices:
            raise UnknownVoice(
                f"there is no voice {voice!r}", remedy=f"voices: {', '.join(sorted(self.voices))}"
            )
        return self.voices[voice]

    def planned(self, text: str, voice: str, recordings: Collection[str] = ()) -> list[Spoken]:
        """What is said for a text or markup (SSML 1.1): phrases, and recordings between them.

        Args:
            recordings: what markup may play, by name.

        Raises:
            UnknownVoice: of the text, or of a part of it.
            NothingToSay: no word in the text, or none whose letters have sounds.
            SsmlError: markup that is wrong.
        """
        return list(self._plan(text, voice, frozenset(recordings)))

    def _made_plan(self, text: str, voice: str, recordings: frozenset[str]) -> tuple[Spoken, ...]:
        language = self._lexicon.language
        found: list[Spoken] = []
        phrases = (
            phrases_of(read_ssml(text), language)
            if is_ssml(text)
            else language.writing.phrases(text)
        )
        for each in _played(phrases, recordings):
            found += _breaths(self._sayable(each)) if isinstance(each, Phrase) else [each]
        for voice_used in {voice, *(p.voice for p in found if isinstance(p, Phrase) and p.voice)}:
            self.speaker(voice_used)
        if not any(isinstance(each, Played) or each.tokens for each in found):
            raise NothingToSay(f"there is no word to speak in {text[:60]!r}")
        return tuple(found)

    def _sayable(self, phrase: Phrase) -> Phrase:
        """A phrase without words that have no sounds."""
        given = phrase.sounds or ((),) * len(phrase.tokens)
        kept = [
            k
            for k, token in enumerate(phrase.tokens)
            if given[k] or self._lexicon.pronunciations(token)[0]
        ]
        if len(kept) == len(phrase.tokens):
            return phrase
        return replace(
            phrase,
            tokens=tuple(phrase.tokens[k] for k in kept),
            prosodies=tuple(phrase.prosodies[k] for k in kept) if phrase.prosodies else (),
            sounds=tuple(phrase.sounds[k] for k in kept) if phrase.sounds else (),
            marks=tuple((name, sum(k < at for k in kept)) for name, at in phrase.marks),
        )

    def speak(
        self,
        text: str,
        voice: str,
        *,
        seed: int | None = None,
        prosody: Prosody = PLAIN,
        recordings: Mapping[str, Clip] | None = None,
        window: tuple[int, int] | None = None,
    ) -> Iterator[SpokenPart]:
        """The text or markup (SSML 1.1), one part a phrase, at 16 kHz and −18 LUFS.

        Args:
            seed: of what varies; it follows from text and voice if not given.
            prosody: of all of it; markup changes it within.
            recordings: what markup may play, by name, at any rate.
            window: from and to which part; all if not given.

        Raises:
            UnknownVoice, NothingToSay, SsmlError: before the first part; see `planned`.
        """
        found = self.planned(text, voice, (recordings or {}).keys())
        if seed is None:
            seed = zlib.crc32(f"{voice}\n{text}".encode("utf-8", "replace"))
        places = range(*(window or (0, len(found))))
        return (
            self._part(found, k, voice, prosody, recordings or {}, np.random.default_rng([seed, k]))
            for k in places
            if k < len(found)
        )

    def _part(
        self,
        found: Sequence[Spoken],
        place: int,
        voice: str,
        prosody: Prosody,
        recordings: Mapping[str, Clip],
        rng: np.random.Generator,
    ) -> SpokenPart:
        each = found[place]
        if isinstance(each, Played):
            return SpokenPart(normalized(at_rate(recordings[each.source], RATE)), ())
        speaker = self.speaker(each.voice or voice)
        pause = each.pause / (1.0 if each.exact else speaker.rate * prosody.rate)
        if place + 1 == len(found) and not each.exact:
            pause = TAIL_SECONDS
        return self.speak_phrase(each, speaker, rng, pause=pause, prosody=prosody)

    def speak_phrase(
        self,
        phrase: Phrase,
        speaker: Speaker,
        rng: np.random.Generator,
        *,
        pause: float,
        prosody: Prosody = PLAIN,
    ) -> SpokenPart:
        """One phrase followed by a pause of so many seconds."""
        if not phrase.tokens:
            clip = silence(max(pause, 0.01), RATE)
            return SpokenPart(clip, (), tuple((name, 0.0) for name, _ in phrase.marks))
        own = phrase.prosodies or (PLAIN,) * len(phrase.tokens)
        prosodies = [under(prosody, each) for each in own]
        given = phrase.sounds or ((),) * len(phrase.tokens)
        pronounced = [
            given[k] or self._lexicon.in_phrase(phrase.tokens, k) for k in range(len(phrase.tokens))
        ]
        segments = [
            Segment("silence", "", LEAD_SECONDS),
            *paced(plan(pronounced, speaker, rng), prosodies),
            Segment("silence", "", TAIL_SECONDS),
        ]
        if phrase.seconds:
            segments = fitted(segments, phrase.seconds)
        tracks = build(segments, speaker, rng, melody=phrase.melody)
        if speaker.air:
            tracks = delivered(tracks, segments, speaker, rng)
        if not all_plain(prosodies):
            tracks = pitched(tracks, segments, prosodies, speaker)
        clip = normalized(Clip(render(tracks, speaker, rng), RATE), short_gain=SHORT_PHRASE_GAIN_DB)
        clip = loud(clip, segments, prosodies)
        words = _marks(segments, phrase.tokens)
        places = tuple(
            (name, words[at].start if at < len(words) else round(clip.seconds, 3))
            for name, at in phrase.marks
        )
        if pause > TAIL_SECONDS:
            clip = join([clip, silence(pause - TAIL_SECONDS, RATE)])
        return SpokenPart(clip, words, places)


def _played(found: Sequence[Spoken], recordings: Collection[str]) -> list[Spoken]:
    """With what is said in place of recordings that nobody knows."""
    whole: list[Spoken] = []
    for each in found:
        if isinstance(each, Played) and each.source not in recordings:
            whole += _played(each.instead, recordings)
        else:
            whole.append(each)
    return whole


def _breaths(phrase: Phrase) -> list[Phrase]:
    count = len(phrase.tokens)
    pieces = -(-count // MAX_PHRASE)
    if pieces <= 1:
        return [phrase]
    edges = [round(k * count / pieces) for k in range(pieces + 1)]
    cut = []
    for first, after in itertools.pairwise(edges):
        marks = tuple((name, at - first) for name, at in phrase.marks if first <= at < after)
        part = replace(
            phrase, tokens=phrase.tokens[first:after], prosodies=phrase.prosodies[first:after],
            sounds=phrase.sounds[first:after], marks=marks,
            seconds=phrase.seconds * (after - first) / count,
        )  # fmt: skip
        last = after == count
        cut.append(part if last else replace(part, pause=0.25, melody="list", exact=False))
    return cut


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
