"""What people said that no route was for, grouped by what it is about."""

from __future__ import annotations

from collections import Counter
from collections.abc import Sequence
from dataclasses import dataclass

from fond_echo.core.language.language import Language

ALIKE = 0.5
"""Two wordings are about the same where they share this much of their telling words (Jaccard)."""


@dataclass(frozen=True)
class Missed:
    """A turn that came to nothing: what was said, the nearest route and how likely that was, and
    whether there is sound of it."""

    turn: str
    text: str
    nearest: str = ""
    confidence: float = 0.0
    sound: bool = False


@dataclass(frozen=True)
class Gap:
    """Turns that say about the same.

    Attributes:
        example: the wording that is most like all others: to be added as an example.
        turns: the latest first.
        nearest: the route that most of them are nearest to, and how likely it was at most.
    """

    example: str
    turns: tuple[str, ...]
    wordings: tuple[str, ...]
    nearest: str
    confidence: float
    heard: str = ""

    @property
    def count(self) -> int:
        return len(self.turns)


def gaps(missed: Sequence[Missed], language: Language) -> list[Gap]:
    """The gaps that some turns show, those that most fell into first.

    Args:
        missed: the latest first.
    """
    groups: list[tuple[frozenset[str], list[Missed]]] = []
    for one in missed:
        words = _telling(one.text, language)
        if not words:
            continue
        best = max(groups, key=lambda group: _alike(words, group[0]), default=None)
        if best is not None and _alike(words, best[0]) >= ALIKE:
            best[1].append(one)
        else:
            groups.append((words, [one]))
    found = [_gap(each, language) for _, each in groups]
    return sorted(found, key=lambda gap: (-gap.count, gap.example))


def _gap(missed: Sequence[Missed], language: Language) -> Gap:
    texts = [one.text for one in missed]
    words = [_telling(text, language) for text in texts]
    central = max(
        range(len(texts)), key=lambda k: (sum(_alike(words[k], each) for each in words), -k)
    )
    nearest = Counter(one.nearest for one in missed if one.nearest).most_common(1)
    return Gap(
        texts[central], tuple(one.turn for one in missed), tuple(dict.fromkeys(texts)),
        nearest[0][0] if nearest else "", max(one.confidence for one in missed),
        next((one.turn for one in missed if one.sound), ""),
    )  # fmt: skip


def _telling(text: str, language: Language) -> frozenset[str]:
    wording = language.wording
    concepts = wording.concepts(language.writing.spoken_tokens(text))
    return frozenset(w for w in concepts if w not in wording.FILLERS and w not in wording.ASKING)


def _alike(one: frozenset[str], other: frozenset[str]) -> float:
    return len(one & other) / len(one | other) if one | other else 0.0
