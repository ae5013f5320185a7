"""What the built-in voice and recognizer need from disk: the lexicon and the network's weights."""

from __future__ import annotations

import lzma
from collections.abc import Iterable, Iterator, Mapping
from functools import lru_cache
from importlib import resources
from importlib.resources.abc import Traversable

import numpy as np
import numpy.typing as npt

from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.language.phonemes import Pronunciation
from fond_echo.core.language.registry import DEFAULT
from fond_echo.core.language.registry import language as language_of
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


ADDITIONS: dict[str, dict[str, tuple[Pronunciation, ...]]] = {
    "en": {
        "tern": (("T", "ER1", "N"),),
        "eider": (("AY1", "D", "ER0"),),
        "guillemot": (("G", "IH1", "L", "AH0", "M", "AA2", "T"),),
    }
}
"""Words the dictionary has wrong, or lacks where letters mislead."""


@lru_cache(maxsize=8)
def lexicon(language: str = DEFAULT) -> Lexicon:
    """The lexicon of a language, loaded once a process; where there is no file of one, its letters
    say its words."""
    known = language_of(language)
    file = DATA / f"pronunciations-{known.code}.txt.xz"
    if not file.is_file():
        return Lexicon({}, language=known)
    lines = lzma.decompress(file.read_bytes()).decode().splitlines()
    return Lexicon(DictionaryFile(lines), ADDITIONS.get(known.code), known)


@lru_cache(maxsize=8)
def synthesizer(language: str = DEFAULT) -> Synthesizer:
    """The built-in voice."""
    return Synthesizer(lexicon(language))


@lru_cache(maxsize=8)
def recognizer(language: str = DEFAULT) -> Recognizer:
    """The built-in recognizer."""
    return Recognizer(_network(language_of(language).code), lexicon(language), words(language))


@lru_cache(maxsize=8)
def words(language: str = DEFAULT) -> WordModel:
    """Which words dictation knows, and which follow which; where there is no file of a language,
    none but those that are expected."""
    file = _file("words", language_of(language).code)
    return WordModel.load(_arrays(file)) if file.is_file() else WordModel.empty()


@lru_cache(maxsize=8)
def _network(code: str) -> AcousticNetwork:
    """The network of a language, or the English one, which knows sounds, not words."""
    file = _file("recognizer", code)
    if not file.is_file():
        return _network(DEFAULT)
    return AcousticNetwork(_arrays(file))


def _file(kind: str, code: str) -> Traversable:
    return DATA / f"{kind}-{code}.npz"


def _arrays(file: Traversable) -> dict[str, npt.NDArray[np.generic]]:
    with file.open("rb") as opened, np.load(opened) as arrays:
        return {each: arrays[each] for each in arrays.files}
