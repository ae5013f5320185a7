"""Letters to sounds by a tree that was learned from a dictionary (`training/letters.py`).

For each letter the tree is asked for the letter, its neighbours and the sounds said before it, in a
fixed order, as far as it has branches; the last branch that fits answers.
"""

from __future__ import annotations

import io
from collections.abc import Iterable, Iterator, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np

from fond_echo.core.language.phonemes import VOWELS, Pronunciation, base

ORDER = ("0", "+1", "-1", "s1", "+2", "-2", "+3", "s2", "-3", "+4", "-4", "+5")
"""What is asked, in turn: the letter at a distance, or the sounds said so many letters before."""

EDGE = "#"


_ASKED = tuple((name.startswith("s"), int(name.lstrip("s"))) for name in ORDER)


def asked(word: str, at: int, said: Sequence[str]) -> Iterator[str]:
    """What the tree is asked about a letter, in turn.

    Args:
        said: what each letter before it said, phonemes apart by spaces.
    """
    for of_sounds, distance in _ASKED:
        if of_sounds:
            yield said[at - distance] if distance <= at else EDGE
        else:
            place = at + distance
            yield word[place] if 0 <= place < len(word) else EDGE


@dataclass(frozen=True, eq=False)
class LetterTree:
    """The tree, by branch.

    Attributes:
        parents: the branch that it grows from, −1 for those of single letters.
        values: what must be found there.
        answers: what is said where no branch of it fits.
    """

    parents: tuple[int, ...]
    values: tuple[str, ...]
    answers: tuple[str, ...]

    @classmethod
    def of(
        cls, parents: Sequence[int], values: Sequence[str], answers: Sequence[str]
    ) -> LetterTree:
        """From lists."""
        return cls(tuple(parents), tuple(values), tuple(answers))

    @cached_property
    def _branches(self) -> dict[tuple[int, str], int]:
        pairs = zip(self.parents, self.values, strict=True)
        return {(parent, value): place for place, (parent, value) in enumerate(pairs)}

    def answer(self, features: Iterable[str]) -> str:
        """What the letter of some features says; "" for a letter that no word has."""
        place, found = -1, ""
        for value in features:
            following = self._branches.get((place, value))
            if following is None:
                break
            place, found = following, self.answers[following]
        return found

    def sounds(self, word: str) -> list[str]:
        """The phonemes of a word of letters, as the tree says them."""
        said: list[str] = []
        for at in range(len(word)):
            said.append(self.answer(asked(word, at, said)))
        return [sound for chunk in said for sound in chunk.split()]

    def packed(self) -> bytes:
        """As the bytes of a NumPy archive, for `load`."""
        names = sorted({*self.values, *self.answers})
        numbers = {name: number for number, name in enumerate(names)}
        out = io.BytesIO()
        # Branches stand behind what they grow from, mostly near: steps pack better than places.
        steps = np.arange(len(self.parents)) - np.array(self.parents)
        np.savez_compressed(
            out,
            names=np.frombuffer("\n".join(names).encode(), np.uint8),
            steps=steps.astype(np.uint32),
            values=np.array([numbers[each] for each in self.values], np.uint16),
            answers=np.array([numbers[each] for each in self.answers], np.uint16),
        )
        return out.getvalue()

    @classmethod
    def load(cls, data: bytes) -> LetterTree:
        """Of what `packed` gave."""
        with np.load(io.BytesIO(data)) as arrays:
            names = arrays["names"].tobytes().decode().split("\n")
            steps = arrays["steps"].astype(np.int64)
            parents = (np.arange(len(steps)) - steps).tolist()
            values = [names[number] for number in arrays["values"]]
            answers = [names[number] for number in arrays["answers"]]
        return cls.of(parents, values, answers)


def repaired(sounds: Sequence[str]) -> Pronunciation:
    """Phonemes with one primary stress: the first that is marked, else the first vowel that is not
    AH."""
    vowels = [k for k, sound in enumerate(sounds) if base(sound) in VOWELS]
    if not vowels:
        return tuple(sounds)
    marked = [k for k in vowels if sounds[k].endswith("1")]
    full = [k for k in vowels if base(sounds[k]) != "AH"]
    main = marked[0] if marked else (full or vowels)[0]
    found = list(sounds)
    for k in vowels:
        if k == main:
            found[k] = base(found[k]) + "1"
        elif found[k].endswith("1"):
            found[k] = base(found[k]) + "2"
    return tuple(found)
