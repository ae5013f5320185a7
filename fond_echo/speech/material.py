"""What the built-in voice and ear need from disk: the lexicon and the network's weights."""

from __future__ import annotations

import lzma
from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache
from importlib import resources

import numpy as np
import wordfreq

from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.language.phonemes import Pronunciation
from fond_echo.core.recognition.network import AcousticNetwork
from fond_echo.core.recognition.recogniser import Recogniser
from fond_echo.core.synthesis.synthesizer import Synthesizer

DATA = resources.files("fond_echo.speech") / "data"


class DictionaryFile(Mapping[str, tuple[Pronunciation, ...]]):
    """The CMU Pronouncing Dictionary, its lines split only when a word is asked for.

    Splitting all 126,000 entries takes a second that no command should wait for.
    """

    def __init__(self, lines: Iterable[str]) -> None:
        self._lines: dict[str, list[str]] = {}
        for line in lines:
            if line.startswith(";;;"):
                continue
            word, _, sounds = line.partition(" ")
            if word.endswith(")"):
                word = word[: word.index("(")]
            self._lines.setdefault(word, []).append(sounds)

    def __getitem__(self, word: str) -> tuple[Pronunciation, ...]:
        return tuple(tuple(sounds.partition("#")[0].split()) for sounds in self._lines[word])

    def __iter__(self) -> Iterator[str]:
        return iter(self._lines)

    def __len__(self) -> int:
        return len(self._lines)

    def __contains__(self, word: object) -> bool:
        return word in self._lines


ADDITIONS: dict[str, tuple[Pronunciation, ...]] = {
    "tern": (("T", "ER1", "N"),),
    "eider": (("AY1", "D", "ER0"),),
    "guillemot": (("G", "IH1", "L", "AH0", "M", "AA2", "T"),),
}
"""Words the dictionary has wrong, or lacks where letters mislead."""


@lru_cache(maxsize=1)
def lexicon() -> Lexicon:
    """The English lexicon, loaded once a process."""
    packed = (DATA / "pronunciations.txt.xz").read_bytes()
    return Lexicon(DictionaryFile(lzma.decompress(packed).decode().splitlines()), ADDITIONS)


@lru_cache(maxsize=1)
def synthesizer() -> Synthesizer:
    """The built-in voice."""
    return Synthesizer(lexicon())


VOCABULARY = 6_000


@lru_cache(maxsize=1)
def recogniser() -> Recogniser:
    """The built-in ear, prototype grade: closed sets well, free speech of people badly."""
    with (DATA / "ear-prototype.npz").open("rb") as file, np.load(file) as weights:
        network = AcousticNetwork({name: weights[name] for name in weights.files})
    known = lexicon()
    frequencies = {
        word: wordfreq.word_frequency(word, "en")
        for word in wordfreq.top_n_list("en", VOCABULARY)
        if word in known and (len(word) > 1 or word in "aio")
    }
    return Recogniser(network, known, frequencies)
