"""Answers from documents: the passage that fits a question best, or none."""

from __future__ import annotations

import logging
import math
import re
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from itertools import pairwise

from fond_echo.core.caching import Recent
from fond_echo.core.dialogue.pages import as_markdown
from fond_echo.core.language.language import Language
from fond_echo.core.language.registry import language as language_of

ENOUGH = 0.55
"""A passage answers a question where it holds at least this share of what the question's words
are worth."""

TITLE = 0.2
"""What a heading that holds all of a question is worth beside the passage."""

NEAR = 0.04
"""Passages whose worth differs by less answer a question equally well."""

SHORT = 4
MAX_PASSAGE = 900
"""Characters of a passage; longer paragraphs are cut at sentences."""

_HEADING = re.compile(r"^\s{0,3}(#{1,6})\s+(.+?)\s*#*\s*$")


_told: Recent[tuple[str, str], list[str]] = Recent(1_000_000, len)
"""The telling words of passages that were read lately: another revision has most of them again."""


@dataclass(frozen=True)
class Passage:
    """A piece of a page: its file, the headings above it, and its text."""

    file: str
    heading: str
    text: str

    @property
    def source(self) -> str:
        """Where it stands, as it is shown."""
        name = self.file.rpartition("/")[2]
        page = (name.rpartition(".")[0] or name).replace("-", " ")
        return f"{page}, {self.heading}" if self.heading else page


@dataclass(frozen=True)
class Found:
    """A passage, and how much of the question it and its heading hold (0 to 1 each)."""

    passage: Passage
    share: float
    title: float = 0.0


def passages_of(file: str, text: str, language: Language) -> list[Passage]:
    """A page (Markdown) in pieces: paragraphs, lists and tables, each below its headings."""
    found: list[Passage] = []
    headings: list[tuple[int, str]] = []
    block: list[str] = []

    def close() -> None:
        whole = "\n".join(block).strip()
        block.clear()
        heading = ": ".join(title for depth, title in headings if depth > 1)
        for piece in _pieces(whole, language):
            found.append(Passage(file, heading or (headings[0][1] if headings else ""), piece))

    for line in text.splitlines():
        heading = _HEADING.match(line)
        if heading:
            close()
            depth = len(heading[1])
            headings[:] = [each for each in headings if each[0] < depth] + [(depth, heading[2])]
        elif not line.strip():
            close()
        else:
            block.append(line)
    close()
    return found


def _pieces(text: str, language: Language) -> list[str]:
    if len(text) <= MAX_PASSAGE or "|" in text or "\n" in text:
        return [text] if text else []
    pieces, piece = [], ""
    for sentence in language.writing.sentences_of(text):
        if piece and len(piece) + len(sentence) > MAX_PASSAGE:
            pieces.append(piece)
            piece = ""
        piece = f"{piece} {sentence}".strip()
    return [*pieces, piece] if piece else pieces


class Documents:
    """Documents that are searched.

    Args:
        files: documents by name, as `pages.as_markdown` reads them.
        read: documents that are Markdown already, whatever their name ends with.
        language: that they are written in; English if not given.
    """

    def __init__(
        self, files: Mapping[str, str], language: Language | None = None,
        read: Mapping[str, str] | None = None,
    ) -> None:  # fmt: skip
        self._language = language or language_of()
        whole = {name: as_markdown(name, text) for name, text in files.items()} | dict(read or {})
        self.passages = [
            passage
            for name in sorted(whole)
            for passage in passages_of(name, whole[name], self._language)
        ]
        texts = [
            self._telling(f"{each.source} {each.text}") or ["‹empty›"] for each in self.passages
        ]
        self._words = [frozenset(words) for words in texts]
        seen = Counter(word for words in self._words for word in words)
        total = len(texts) + 1
        self._worth = {word: math.log(1.0 + total / count) for word, count in seen.items()}
        self._unseen = 0.5 * math.log(1.0 + total)
        import bm25s  # with its own long start

        # On import it sets its logger to tell of every index that it builds.
        logging.getLogger("bm25s").setLevel(logging.WARNING)
        self._index = bm25s.BM25()
        if texts:
            self._index.index(texts, show_progress=False)

    def _telling(self, text: str) -> list[str]:
        """The words that tell what it is about. A verb and its particle are one more: signing off
        is not signing on, however it is written."""
        key = (self._language.code, text)
        if (known := _told.get(key)) is None:
            known = self._words_of(text)
            _told.keep(key, known)
        return known

    def _words_of(self, text: str) -> list[str]:
        wording = self._language.wording
        tokens = self._language.writing.spoken_tokens(text.replace("-", " "))
        words = wording.concepts(tokens)
        said = [w for w in words if w not in wording.FILLERS and w not in wording.ASKING]
        return said + [
            f"{wording.concept(verb)}+{particle}"
            for verb, particle in pairwise(tokens)
            if particle in wording.PARTICLES and verb not in wording.FILLERS
            and verb not in wording.ASKING
        ]  # fmt: skip

    def best(self, question: str, most: int = 5) -> Found | None:
        """The passage that answers a question, or None where none holds enough of it."""
        best = next(iter(self.search(question, most)), None)
        return best if best is not None and best.share >= ENOUGH else None

    def search(self, question: str, most: int = 5) -> list[Found]:
        """Passages that hold something of a question, those that hold most of it first."""
        requested = self._telling(question)
        known = [word for word in requested if word in self._worth]
        if not known:
            return []
        count = min(most, len(self.passages))
        places, _ = self._index.retrieve([known], k=count, show_progress=False)
        found = [
            Found(self.passages[k], self._share(requested, k), self._titled(requested, k))
            for k in map(int, places[0])
        ]
        return sorted(found, key=lambda each: -(each.share + TITLE * each.title))

    def near(self, question: str) -> list[Found]:
        """The passages that answer a question about as well as the best one, under other headings;
        at least two, or none."""
        found = [each for each in self.search(question) if each.share >= ENOUGH]
        if not found:
            return []
        best = found[0].share + TITLE * found[0].title
        near = [each for each in found if best - each.share - TITLE * each.title < NEAR]
        titled = {each.passage.source: each for each in reversed(near)}
        return list(reversed(titled.values())) if len(titled) > 1 else []

    def _titled(self, requested: Sequence[str], place: int) -> float:
        """How much of a question its own heading holds."""
        heading = set(self._telling(self.passages[place].heading))
        worth = {word: self._worth.get(word, self._unseen) for word in requested}
        return sum(value for word, value in worth.items() if word in heading) / sum(worth.values())

    def _share(self, requested: Sequence[str], place: int) -> float:
        shared = [word for word in set(requested) if word in self._words[place]]
        headings = self._telling(self.passages[place].source)
        if len(shared) == 1 and len(shared[0]) < SHORT and shared[0] not in headings:
            # One short word in passing is not what a passage is about.
            return 0.0
        worth = {word: self._worth.get(word, self._unseen) for word in requested}
        held = sum(value for word, value in worth.items() if word in self._words[place])
        return held / sum(worth.values())
