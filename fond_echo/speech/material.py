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
from fond_echo.core.recognition.tree import PronunciationTree
from fond_echo.core.recognition.words import WordModel
from fond_echo.core.synthesis.synthesizer import Synthesizer

DATA = resources.files("fond_echo.speech") / "data"


class DictionaryFile(Mapping[str, tuple[Pronunciation, ...]]):
    """The CMU Pronouncing Dictionary, its lines split only when a word is asked for.

    Splitting all 126,000 entries takes a second that no command should wait for. A word's other
    pronunciations stand under `word(2)`, `word(3)` and so on.
    """

    def __init__(self, lines: Iterable[str]) -> None:
        self._lines = dict(line.split(" ", 1) for line in lines if line[:3] != ";;;")

    def __getitem__(self, word: str) -> tuple[Pronunciation, ...]:
        found = [self._lines[word]]
        while (another := self._lines.get(f"{word}({len(found) + 1})")) is not None:
            found.append(another)
        return tuple(tuple(sounds.partition("#")[0].split()) for sounds in found)

    def __iter__(self) -> Iterator[str]:
        return (word for word in self._lines if not word.endswith(")"))

    def __len__(self) -> int:
        return sum(1 for _ in self)

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


def lexicon(language: str = DEFAULT) -> Lexicon:
    """The lexicon of a language, loaded once a process; where there is no file of one, its letters
    say its words."""
    return _lexicon(language_of(language).code)


def synthesizer(language: str = DEFAULT) -> Synthesizer:
    """The built-in voice, the same one whenever it is asked for."""
    return _synthesizer(language_of(language).code)


def recognizer(language: str = DEFAULT) -> Recognizer:
    """The built-in recognizer, the same one whenever it is asked for."""
    return _recognizer(language_of(language).code)


def words(language: str = DEFAULT) -> WordModel:
    """Which words dictation knows, and which follow which; where there is no file of a language,
    none but those that are expected."""
    return _words(language_of(language).code)


# Kept by a language's code: "English" that is named and that goes without saying are one.
@lru_cache(maxsize=8)
def _lexicon(code: str) -> Lexicon:
    file = DATA / f"pronunciations-{code}.txt.xz"
    if not file.is_file():
        return Lexicon({}, language=language_of(code))
    lines = lzma.decompress(file.read_bytes()).decode().splitlines()
    return Lexicon(DictionaryFile(lines), ADDITIONS.get(code), language_of(code))


@lru_cache(maxsize=8)
def _synthesizer(code: str) -> Synthesizer:
    return Synthesizer(_lexicon(code))


@lru_cache(maxsize=8)
def _recognizer(code: str) -> Recognizer:
    return Recognizer(_network(code), _lexicon(code), _words(code), _tree(code))


def _tree(code: str) -> PronunciationTree | None:
    """Of the words that dictation knows, grown ahead (`training.tree`), which takes half a second;
    none where there is no file."""
    file = _file("tree", code)
    return PronunciationTree.load(_arrays(file)) if file.is_file() else None


@lru_cache(maxsize=8)
def _words(code: str) -> WordModel:
    file = _file("words", code)
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
