"""The recogniser: first against what is expected, then as dictation, and honest when unsure."""

from __future__ import annotations

import math
from collections.abc import Collection, Mapping, Sequence
from dataclasses import replace
from functools import lru_cache

import numpy as np

from fond_echo.core.audio.activity import Span, pieces, speech_spans
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.languages import LANGUAGES
from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.language.spoken import spoken_tokens
from fond_echo.core.language.written import written_text
from fond_echo.core.recognition.closed import FoundWord, Reading, read
from fond_echo.core.recognition.dictation import PronunciationTree, WordPairs, dictate
from fond_echo.core.recognition.features import log_mel
from fond_echo.core.recognition.graph import PhonemeGraph, WordNetwork, phoneme_graph
from fond_echo.core.recognition.network import FRAME_SECONDS, AcousticNetwork, Matrix
from fond_echo.core.recognition.symbols import BLANK, RATE
from fond_echo.core.recognition.transcript import (
    Alternative,
    Expected,
    Transcript,
    UnknownLanguage,
    Word,
)

LONGEST_PIECE = 30.0
"""Seconds read at once; longer sound is cut at its quietest places."""

ACCEPT = 0.5
"""An expected phrase at or above this confidence is taken."""

MARGIN_AT_HALF = -0.55
MARGIN_SLOPE = 12.0
WORD_AT_HALF = -0.30
"""Logistic of the distance per frame between a reading and the best path of any sounds at all."""

SHARP_AT_HALF = 0.84
SHARP_SLOPE = 40.0
"""Logistic of how sure the network is of its sounds. Dictation always finds words that fit the
sounds it believes in; whether to believe the sounds is another question, and for speech unlike
what the network was trained on the answer is no. Synthetic speech lies above 0.88, with noise
above 0.83; eight recordings of people between 0.62 and 0.82 (bench/hearing.py)."""


class Recogniser:
    """Reads clips.

    Args:
        network: the acoustic network.
        lexicon: how words are said.
        frequencies: the dictation vocabulary and how often each word occurs.
        sentences: spoken tokens that dictation learns word pairs from.
    """

    def __init__(
        self,
        network: AcousticNetwork,
        lexicon: Lexicon,
        frequencies: Mapping[str, float],
        sentences: Collection[Sequence[str]] = (),
    ) -> None:
        self._network = network
        self._lexicon = lexicon
        self._frequencies = frequencies
        self._sentences = sentences
        self._graph = lru_cache(maxsize=32)(self._build_graph)
        self._dictation = lru_cache(maxsize=8)(self._build_dictation)

    def transcribe(
        self, clip: Clip, expected: Expected | None = None, *, language: str = "en"
    ) -> Transcript:
        """Read a clip of any rate and length.

        Args:
            expected: what can be understood here; without it only dictation is tried.

        Raises:
            UnknownLanguage: no recogniser for the language.
        """
        if language not in LANGUAGES:
            raise UnknownLanguage(
                f"speech in {language!r} is not understood", remedy=f"use {', '.join(LANGUAGES)}"
            )
        expected = expected or Expected()
        clip = at_rate(clip, RATE)
        found = [self._piece(clip, span, expected) for span in pieces(clip, LONGEST_PIECE)]
        return joined([each for each in found if each.words] or found[:1])

    def probabilities(self, clip: Clip) -> Matrix:
        """Phoneme log probabilities of a clip at 16 kHz, one row every 30 ms."""
        return self._network.log_probabilities(log_mel(clip))

    def _piece(self, clip: Clip, span: Span, expected: Expected) -> Transcript:
        part = clip.part(span.start, span.end)
        speech = speech_spans(part)
        seconds = sum(each.seconds for each in speech)
        if not speech:
            return Transcript((), "", 0.0, "nothing", 0.0)
        start = speech[0].start
        logs = self.probabilities(part.part(start, speech[-1].end))
        offset = span.start + start
        best = None
        if expected.phrases or expected.network:
            best = self._closed(logs, expected, offset, seconds)
            if best is not None and best.confidence >= ACCEPT:
                return best
        return self._free(logs, expected, offset, seconds, best)

    def _build_graph(self, phrases: tuple[str, ...], network: WordNetwork | None) -> PhonemeGraph:
        tokens = [spoken_tokens(phrase) for phrase in phrases]
        return phoneme_graph(network or WordNetwork.of_phrases(tokens), self._lexicon)

    def _closed(
        self, logs: Matrix, expected: Expected, offset: float, seconds: float
    ) -> Transcript | None:
        readings = read(logs, self._graph(expected.phrases, expected.network))
        if not readings:
            return None
        best, *others = readings
        return self._transcript(
            best,
            logs,
            offset,
            seconds,
            expected,
            source="expected",
            confidence=_confidence(best, logs, MARGIN_AT_HALF),
            alternatives=tuple(
                Alternative(
                    " ".join(word.word for word in each.words),
                    _confidence(each, logs, MARGIN_AT_HALF),
                )
                for each in others
            ),
        )

    def _build_dictation(
        self, phrases: tuple[str, ...], names: tuple[str, ...]
    ) -> tuple[PronunciationTree, WordPairs]:
        spoken = [spoken_tokens(text) for text in (*phrases, *names)]
        frequencies = dict(self._frequencies)
        common = max(frequencies.values()) / 200.0
        for words in spoken:
            for word in words:
                frequencies[word] = max(frequencies.get(word, 0.0), common)
        pairs = WordPairs(frequencies, [*self._sentences, *spoken])
        return PronunciationTree(pairs, self._lexicon), pairs

    def _free(
        self,
        logs: Matrix,
        expected: Expected,
        offset: float,
        seconds: float,
        closed: Transcript | None,
    ) -> Transcript:
        tree, pairs = self._dictation(expected.phrases, expected.names)
        reading = dictate(logs, tree, pairs)
        if reading is None:
            return Transcript((), "", 0.0, "nothing", seconds)
        others: tuple[Alternative, ...] = ()
        if closed is not None:
            others = (Alternative(closed.spoken, closed.confidence), *closed.alternatives)
        transcript = self._transcript(
            reading,
            logs,
            offset,
            seconds,
            expected,
            source="dictation",
            confidence=0.0,
            alternatives=others,
        )
        fit = float(np.mean([word.confidence for word in transcript.words]))
        return replace(transcript, confidence=round(fit * _sharpness(logs), 3))

    def _transcript(
        self,
        reading: Reading,
        logs: Matrix,
        offset: float,
        seconds: float,
        expected: Expected,
        *,
        source: str,
        confidence: float,
        alternatives: tuple[Alternative, ...],
    ) -> Transcript:
        words = tuple(
            Word(
                each.word,
                round(offset + each.start * FRAME_SECONDS, 2),
                round(offset + each.end * FRAME_SECONDS, 2),
                self._word_confidence(each, logs),
            )
            for each in reading.words
        )
        written = written_text([word.spoken for word in words], _names(expected))
        return Transcript(words, written, confidence, source, round(seconds, 2), alternatives)

    def _word_confidence(self, word: FoundWord, logs: Matrix) -> float:
        """How near the word's own sounds come, in its frames, to the best of any sounds."""
        span = logs[word.start : max(word.end, word.start + 1)]
        graph = self._graph_of_word(word.word)
        own = read(span, graph, most=1)
        if not own:
            return 0.0
        return _confidence(own[0], span, WORD_AT_HALF)

    @lru_cache(maxsize=20_000)  # noqa: B019  # one recogniser a process
    def _graph_of_word(self, word: str) -> PhonemeGraph:
        return phoneme_graph(WordNetwork.of_phrases([[word]], around=False), self._lexicon)


def _confidence(reading: Reading, logs: Matrix, half: float) -> float:
    free = float(logs.max(axis=1).sum())
    margin = (reading.score - free) / len(logs)
    return round(1.0 / (1.0 + math.exp(-MARGIN_SLOPE * (margin - half))), 3)


def _sharpness(logs: Matrix) -> float:
    """0 to 1: how sure the network is, over the frames in which it hears any phoneme."""
    voiced = logs.argmax(axis=1) != BLANK
    if not voiced.any():
        return 0.0
    sure = float(np.exp(logs.max(axis=1)[voiced]).mean())
    return 1.0 / (1.0 + math.exp(-SHARP_SLOPE * (sure - SHARP_AT_HALF)))


def _names(expected: Expected) -> list[str]:
    """Words that stand with a capital inside the expected phrases, and the names."""
    inside = [
        word.strip(".,!?")
        for phrase in expected.phrases
        for word in phrase.split()[1:]
        if word[:1].isupper()
    ]
    return [*inside, *expected.names]


def shifted(transcript: Transcript, seconds: float) -> Transcript:
    """A transcript whose clip begins later in a longer sound."""
    words = tuple(
        replace(word, start=round(word.start + seconds, 2), end=round(word.end + seconds, 2))
        for word in transcript.words
    )
    return replace(transcript, words=words)


def joined(parts: Sequence[Transcript]) -> Transcript:
    """Transcripts of consecutive stretches as one.

    The confidence is the mean, weighted by words; the source is that of all, or dictation where
    they differ.
    """
    if len(parts) == 1:
        return parts[0]
    words = tuple(word for part in parts for word in part.words)
    sources = {part.source for part in parts}
    weight = sum(len(part.words) for part in parts)
    trust = sum(part.confidence * len(part.words) for part in parts) / max(1, weight)
    return Transcript(
        words,
        " ".join(part.written for part in parts if part.written),
        round(trust, 3),
        sources.pop() if len(sources) == 1 else "dictation",
        round(sum(part.speech_seconds for part in parts), 2),
    )
