"""What the built-in voice and recognizer need from disk: the lexicon and the network's weights."""

from __future__ import annotations

import lzma
from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache
from importlib import resources

import numpy as np
import numpy.typing as npt

from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.language.phonemes import Pronunciation
from fond_echo.core.recognition.network import AcousticNetwork
from fond_echo.core.recognition.recognizer import Recognizer
from fond_echo.core.recognition.words import WordModel
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


@lru_cache(maxsize=1)
def recognizer() -> Recognizer:
    """The built-in recognizer."""
    return Recognizer(AcousticNetwork(_arrays("recognizer-en.npz")), lexicon(), words())


@lru_cache(maxsize=1)
def words() -> WordModel:
    """Which words dictation knows, and which follow which."""
    return WordModel.load(_arrays("words-en.npz"))


def _arrays(name: str) -> dict[str, npt.NDArray[np.generic]]:
    with (DATA / name).open("rb") as file, np.load(file) as arrays:
        return {each: arrays[each] for each in arrays.files}
