"""The recognizer: first against what is expected, then as dictation, and honest when unsure."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace
from functools import lru_cache, partial

import numpy as np

from fond_echo.core.audio.activity import Span, pieces, speech_spans, tonal
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.language.pls import Sounds
from fond_echo.core.recognition.confidence import (
    CHOSEN,
    CLOSED,
    UNLIKELY,
    WORD,
    Sureness,
    Weights,
    believed,
    chance,
    contradicted,
    fit,
    word_fit,
)
from fond_echo.core.recognition.dictation import Vocabulary, dictate
from fond_echo.core.recognition.features import Features, at_length, log_mel, normalized
from fond_echo.core.recognition.grammar_decoding import (
    WORD_INSERTION_PENALTY,
    FoundWord,
    Reading,
    Search,
    priced,
    read,
)
from fond_echo.core.recognition.graph import (
    FILLER,
    PhonemeGraph,
    WordNetwork,
    phoneme_graph,
)
from fond_echo.core.recognition.layers import Matrix
from fond_echo.core.recognition.leftover import Leftover
from fond_echo.core.recognition.network import FRAME_SECONDS, STRIDE, AcousticNetwork
from fond_echo.core.recognition.pieces import MAX_PIECE
from fond_echo.core.recognition.symbols import BLANK, RATE
from fond_echo.core.recognition.transcript import (
    NOTHING,
    Alternative,
    Expected,
    Transcript,
    Word,
    joined,
)
from fond_echo.core.recognition.tree import (
    PronunciationTree,
    TrieBuilder,
    pronunciations_of,
    tree_of,
)
from fond_echo.core.recognition.words import WordModel

ACCEPT = 0.6
"""An expected phrase at or above this confidence is taken."""

UNSURE, LONGER = 0.7, 1.08
"""Below such a sharpness (two thirds of 1,096 recordings of people are, next to no synthetic
sentences), a sound is read once more as if the vocal tract were so much longer: voices that squeak
are read better so, and no others worse."""

ADDED = -6.5
"""The log probability that a name or a word of an expected phrase has by itself in dictation."""

SOUNDING = 2
"""So many frames must sound like phonemes, or nothing was said: "two" has no more."""

SLOWEST = (0.3, 0.4)
"""Nobody takes longer over a word than so many seconds, and so many more for each phoneme: what
does is music, or a machine."""

SPARSE = ((0.05, 0.75), (0.2, 0.25))
"""Words that fill less than such a share of a sound, and are believed less than so, are none: noise
has something like a word in it now and then."""

SENTENCE_PAUSE = 0.7
"""Seconds of nothing within what is said freely, after which a sentence begins."""

MAX_READINGS = 5
"""Readings that are told."""

BEFORE_IT, QUIETEST = 30, 5.0
"""Where a clip begins with the first word, its level and its colour are not known yet: so many
frames of its own quietest (a percentile of each band) are heard first."""


@dataclass(frozen=True)
class Stretch:
    """What the network made of a stretch of sound.

    Attributes:
        logs: log probabilities, shape (frames, outputs).
        offset: seconds from the start of the clip.
        speech: seconds of speech in it.
    """

    logs: Matrix
    offset: float
    speech: float


class Recognizer:
    """Reads clips.

    Args:
        network: the acoustic network.
        lexicon: how words are said.
        model: the dictation vocabulary, and which words follow which.
        tree: of its words; grown when it is needed where there is none.

    Attributes:
        network: as given.
        language: of the lexicon.
    """

    def __init__(
        self, network: AcousticNetwork, lexicon: Lexicon, model: WordModel,
        tree: PronunciationTree | None = None,
    ) -> None:  # fmt: skip
        self.network = network
        self._lexicon = lexicon
        self.language = lexicon.language
        self._model = model
        self._tree = tree
        self._graph = lru_cache(maxsize=32)(self._build_graph)
        self._vocabulary = lru_cache(maxsize=8)(self._build_vocabulary)

    def transcribe(self, clip: Clip, expected: Expected | None = None) -> Transcript:
        """Read a clip of any rate and length.

        Args:
            expected: what can be understood here; without it only dictation is tried.
        """
        expected = expected or Expected()
        clip = at_rate(clip, RATE)
        found = [self._piece(clip, span, expected) for span in pieces(clip, MAX_PIECE)]
        return joined([each for each in found if each.words] or found[:1])

    def prepare(self, expected: Expected) -> None:
        """Build what is needed where this is expected: it is kept, and used at the first sound."""
        if expected.phrases or expected.network:
            self.graph(expected)
        self.vocabulary(expected)

    def probabilities(self, clip: Clip) -> Matrix:
        """Phoneme log probabilities of a clip at 16 kHz, one row every 30 ms: where the network is
        unsure, with the length of the vocal tract at which it is less so."""
        return self.probabilities_of(log_mel(clip))

    def probabilities_of(self, energies: Features) -> Matrix:
        """The same of the log energies of a whole sound, shape (frames, 64)."""
        found = self._at_once(energies)
        if not unsure(found):
            return found
        other = self._at_once(at_length(energies, LONGER))
        return max(found, other, key=lambda each: Sureness.of(each).sharp)

    def _at_once(self, logs: Features) -> Matrix:
        before = np.tile(np.percentile(logs, QUIETEST, axis=0), (BEFORE_IT, 1))
        whole = np.concatenate([before, logs]).astype(np.float32)
        return self.network.log_probabilities(normalized(whole))[BEFORE_IT // STRIDE :]

    def vocabulary(self, expected: Expected) -> Vocabulary:
        """What dictation knows where this is expected."""
        network = expected.network
        arcs = network.arcs if network else ()
        allowed = frozenset(word for *_, word in arcs) - {FILLER}
        return self._vocabulary(
            expected.phrases, expected.names, expected.hints, allowed, expected.sounds
        )

    def _piece(self, clip: Clip, span: Span, expected: Expected) -> Transcript:
        part = clip.part(span.start, span.end)
        speech = speech_spans(part)
        if not speech or tonal(part):
            return NOTHING
        start = speech[0].start
        logs = self.probabilities(part.part(start, speech[-1].end))
        seconds = sum(each.seconds for each in speech)
        return self.read(Stretch(logs, span.start + start, round(seconds, 2)), expected)

    def read(
        self,
        stretch: Stretch,
        expected: Expected,
        *,
        closely: Search | None = None,
        freely: Callable[[], list[Reading]] | None = None,
    ) -> Transcript:
        """What was said in a stretch.

        Args:
            closely: a search of what is expected that was fed all of it already.
            freely: gives readings of dictation that was fed all of it already.
        """
        if _sounding(priced(stretch.logs)) < SOUNDING:
            return NOTHING
        # Short words of people who are hard to understand are reported, and not accepted.
        believable = _sounding(stretch.logs) >= SOUNDING
        closed = None
        if closely is None:
            closely = self.search(expected)
            if closely is not None:
                closely.feed(stretch.logs)
        if closely is not None:
            readings = closely.readings(MAX_READINGS)
            closed = self._closed(stretch, expected, readings)
            taken = closed is not None and believable and closed.confidence >= ACCEPT
            if closed is not None and taken and not expected.only:
                free = partial(self._dictated, stretch, expected, freely)
                return Leftover(self, stretch, expected).added_to(closed, readings[0], free)
            if closed is not None and expected.only:
                return closed
        if expected.only:
            return replace(NOTHING, speech_seconds=stretch.speech)
        if not believable:
            others = (_as_other(closed), *closed.alternatives) if closed is not None else ()
            return replace(NOTHING, speech_seconds=stretch.speech, alternatives=others)
        return self._free(stretch, expected, self._dictated(stretch, expected, freely), closed)

    def _dictated(
        self, stretch: Stretch, expected: Expected, freely: Callable[[], list[Reading]] | None
    ) -> list[Reading]:
        if freely is not None:
            return freely()
        return dictate(stretch.logs, self.vocabulary(expected), MAX_READINGS)

    def _build_graph(
        self, phrases: tuple[str, ...], network: WordNetwork | None, sounds: Sounds
    ) -> PhonemeGraph:
        tokens = [self.language.writing.spoken_tokens(phrase) for phrase in phrases]
        lexicon = self._lexicon.with_sounds(sounds)
        return phoneme_graph(network or WordNetwork.of_phrases(tokens), lexicon)

    def graph(self, expected: Expected) -> PhonemeGraph:
        """What is expected, as a graph of phonemes."""
        return self._graph(expected.phrases, expected.network, expected.sounds)

    def search(self, expected: Expected) -> Search | None:
        """A search of what is expected; None where nothing is."""
        if not expected.phrases and not expected.network:
            return None
        return Search(self.graph(expected))

    def _closed(
        self, stretch: Stretch, expected: Expected, readings: list[Reading]
    ) -> Transcript | None:
        if not readings or not all(self.sayable(word, expected) for word in readings[0].words):
            return None
        weights = CHOSEN if expected.only else CLOSED
        sure = [
            chance(weights, self.fit(each, other, stretch.logs, expected.sounds))
            for each, other in zip(
                readings, [readings[1] if len(readings) > 1 else None, *readings], strict=False
            )
        ]
        measured = self.measured(readings[0].words, stretch.logs, expected.sounds)
        if not expected.only and any(contradicted(measures) for _, measures in measured):
            sure[0] = round(UNLIKELY * sure[0], 3)
        others = tuple(
            Alternative(" ".join(word.word for word in each.words), min(trust, sure[0]), True)
            for each, trust in zip(readings[1:], sure[1:], strict=True)
        )
        return self.transcript(readings[0], stretch, expected, "expected", sure[0], others)

    def _build_vocabulary(
        self,
        phrases: tuple[str, ...],
        names: tuple[str, ...],
        hints: tuple[str, ...],
        allowed: frozenset[str],
        sounds: Sounds,
    ) -> Vocabulary:
        if self._tree is None:
            self._tree = tree_of(self._model, self._lexicon)
        spoken = [self.language.writing.spoken_tokens(text) for text in (*phrases, *names, *hints)]
        spoken += [[word] for word, _ in sounds]
        lexicon = self._lexicon.with_sounds(sounds)
        added = {word: ADDED for tokens in (*spoken, sorted(allowed)) for word in tokens}
        if not added:
            return Vocabulary(self._model, self._tree, np.zeros(0, np.int64))
        model = self._model.with_words(added)
        numbers = model.numbers
        builder = TrieBuilder(self._tree)
        for word in added:
            number = numbers[word]
            builder.add(number, float(model.single[number]), pronunciations_of(word, lexicon))
        return Vocabulary(model, builder.grown(), Vocabulary.paired(model, spoken))

    def _free(
        self,
        stretch: Stretch,
        expected: Expected,
        readings: Sequence[Reading],
        closed: Transcript | None,
    ) -> Transcript:
        readings = [
            Reading(said, each.score)
            for each in readings
            if (said := tuple(word for word in each.words if self.sayable(word, expected)))
        ]
        if not readings:
            return replace(NOTHING, speech_seconds=stretch.speech)
        others: tuple[Alternative, ...] = ()
        if closed is not None:
            others = (_as_other(closed), *closed.alternatives)
        best, *more = readings
        found = self.transcript(best, stretch, expected, "dictation", 0.0, ())
        fits = float(np.mean([word.confidence for word in found.words]))
        sure = round(fits * believed(stretch.logs), 3)
        filled = sum(word.end - word.start for word in best.words) / len(stretch.logs)
        if any(filled < share and sure < least for share, least in SPARSE):
            return replace(NOTHING, speech_seconds=stretch.speech)
        others += tuple(
            Alternative(" ".join(word.word for word in each.words), sure) for each in more
        )
        return replace(found, confidence=sure, alternatives=others[:MAX_READINGS])

    def sayable(self, word: FoundWord, expected: Expected) -> bool:
        """Whether somebody may have said a word as slowly as it would have been."""
        once, each = SLOWEST
        _, phonemes = self._graph_of_word(word.word, expected.sounds)
        return (word.end - word.start) * FRAME_SECONDS <= once + each * phonemes

    def transcript(
        self,
        reading: Reading,
        stretch: Stretch,
        expected: Expected,
        source: str,
        confidence: float,
        alternatives: tuple[Alternative, ...],
    ) -> Transcript:
        """A reading as a transcript: its words with their times and how sure each is."""
        words = tuple(
            Word(
                each.word,
                round(stretch.offset + each.start * FRAME_SECONDS, 2),
                round(stretch.offset + each.end * FRAME_SECONDS, 2),
                chance(WORD, measures),
            )
            for each, measures in self.measured(reading.words, stretch.logs, expected.sounds)
        )
        found = Transcript(words, "", confidence, source, stretch.speech, alternatives)
        # What was expected is one whole, however it was said.
        parts = [words] if source == "expected" else found.segments(SENTENCE_PAUSE)
        spoken = [[word.spoken for word in part] for part in parts]
        return replace(found, written=self.language.writing.written_parts(spoken, _names(expected)))

    def fit(
        self, best: Reading, second: Reading | None, logs: Matrix, sounds: Sounds = ()
    ) -> Weights:
        """Measures of a closed reading beside the next one."""
        worst = min(measures[0] for _, measures in self.measured(best.words, logs, sounds))
        return fit(best, second, worst, logs)

    def measured(
        self, words: Sequence[FoundWord], logs: Matrix, sounds: Sounds = ()
    ) -> Iterator[tuple[FoundWord, tuple[float, ...]]]:
        """Words with how well their own sounds fit their frames."""
        for word in words:
            span = logs[word.start : max(word.end, word.start + 1)]
            graph, phonemes = self._graph_of_word(word.word, sounds)
            own = read(span, graph, most=1)
            score = own[0].score + WORD_INSERTION_PENALTY if own else -20.0 * len(span)
            yield word, word_fit(score, span, phonemes)

    @lru_cache(maxsize=8)  # noqa: B019  # one recognizer a process
    def graph_of_words(self, words: tuple[str, ...]) -> PhonemeGraph:
        """Any of some words, any number of times."""
        network = WordNetwork(tuple((0, 0, word) for word in words), frozenset([0]))
        return phoneme_graph(network, self._lexicon)

    @lru_cache(maxsize=20_000)  # noqa: B019  # one recognizer a process
    def _graph_of_word(self, word: str, sounds: Sounds) -> tuple[PhonemeGraph, int]:
        """A word by itself, and how many phonemes it has at least."""
        own = tuple(each for each in sounds if each[0] == word)
        network = WordNetwork.of_phrases([[word]], around=False)
        lexicon = self._lexicon.with_sounds(own)
        return phoneme_graph(network, lexicon), min(
            map(len, pronunciations_of(word, lexicon)), default=1
        )


def unsure(logs: Matrix) -> bool:
    """Whether a sound is worth reading once more."""
    return Sureness.of(logs).sharp < UNSURE


def _sounding(logs: Matrix) -> int:
    """Frames that sound like a phoneme."""
    return int((logs.argmax(axis=1) != BLANK).sum()) if len(logs) else 0


def _as_other(closed: Transcript) -> Alternative:
    """What was not taken, as another reading."""
    return Alternative(closed.spoken, closed.confidence, True)


def _names(expected: Expected) -> list[str]:
    """Words that stand with a capital inside the expected phrases, and the names."""
    inside = [
        word.strip(".,!?")
        for phrase in expected.phrases
        for word in phrase.split()[1:]
        if word[:1].isupper()
    ]
    return [*inside, *expected.names]
