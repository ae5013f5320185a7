"""Texts of talk for the model of words: what people say in six novels, and in a game.

    apt-get download r-cran-janeaustenr freedink-data
    for package in *.deb; do dpkg -x $package talk; done
    python -m training.words --texts FOLDER --talk talk --out …

The novels are in the public domain; the game's lines have the zlib licence. Of the novels only what
stands in quotation marks is read, and no text of either is kept: only how often words follow words.
"""

from __future__ import annotations

import re
import zlib
from collections.abc import Iterator
from pathlib import Path

NOVELS = "usr/lib/R/site-library/janeaustenr/data/Rdata.rdb"
LINES = "usr/share/games/dink/dink/l10n/dink.pot"

STRING = re.compile(rb"\x00[\x04\x00][\x00\x04\x08]\x09(.{4})", re.DOTALL)
"""The head of a string in R's serialization (R Internals §1.8): flags, then its length."""

TURNS = ((r"\bcan not\b", "cannot"), (r"\bto-(day|morrow|night)\b", r"to\1"),
         (r"\b(any|every|some) (body|thing|one)\b", r"\1\2"), (r"\bshew", "show"))  # fmt: skip
"""Spellings of the novels' time, as they are written now."""

SHORTENED = (
    (r"\b(i) am\b", r"\1'm"), (r"\b(it|that|he|she|there|what|who|where) is\b", r"\1's"),
    (r"\b(do|does|did|is|are|was|were|have|has|had|would|could|should) not\b", r"\1n't"),
    (r"\bwill not\b", "won't"), (r"\bcannot\b", "can't"),
    (r"\b(i|you|he|she|it|we|they) will\b", r"\1'll"), (r"\b(i|you|we|they) have\b", r"\1've"),
    (r"\b(you|we|they) are\b", r"\1're"), (r"\b(i|you|he|she|we|they) would\b", r"\1'd"),
)  # fmt: skip
"""What people run together when they say it; both forms are counted."""


def _blocks(raw: bytes) -> Iterator[bytes]:
    """The objects of a lazy-load database: a length in four bytes, then a deflated stream."""
    at = 0
    while at + 4 < len(raw):
        stream = zlib.decompressobj()
        yield stream.decompress(raw[at + 4 :])
        at = len(raw) - len(stream.unused_data)


def _strings(block: bytes) -> Iterator[str]:
    at = 0
    while (found := STRING.search(block, at)) is not None:
        length = int.from_bytes(found[1])
        at = found.end() + length
        yield block[found.end() : at].decode("utf-8", "replace")


def spoken_in(text: str) -> Iterator[str]:
    """What stands between quotation marks, of whole paragraphs."""
    yield from re.findall(r"[\"“]([^\"“”]{3,1500})[\"”]", text)


def _messages(catalogue: str) -> Iterator[str]:
    """The originals of a catalogue of messages, without the marks of colour and of variables."""
    for found in re.findall(r'^msgid ((?:".*"\n)+)', catalogue, re.MULTILINE):
        text = "".join(re.findall(r'"(.*)"', found))
        yield re.sub(r"`[^a-z]|&\w+|\\.|\$\w*", " ", text)


def sentences_of(text: str) -> Iterator[tuple[str, ...]]:
    """Its sentences as words in lower case, each as it stands and as it is said in haste."""
    plain = text.lower().replace("’", "'").replace("_", "")
    for pattern, instead in TURNS:
        plain = re.sub(pattern, instead, plain)
    for sentence in re.split(r"[.!?;:]+|--|—", plain):
        words = tuple(word.strip("'") for word in re.findall(r"[a-z']+", sentence))
        if not all(words) or not words:
            continue
        yield words
        short = " ".join(words)
        for pattern, instead in SHORTENED:
            short = re.sub(pattern, instead, short)
        if short != " ".join(words):
            yield tuple(short.split())


def talk(folder: Path) -> Iterator[tuple[str, ...]]:
    """Every sentence of talk in the unpacked packages.

    Raises:
        FileNotFoundError: one of the two files is missing.
    """
    for block in _blocks((folder / NOVELS).read_bytes()):
        for quoted in spoken_in("\n".join(_strings(block))):
            yield from sentences_of(quoted)
    for message in _messages((folder / LINES).read_text(encoding="utf-8")):
        yield from sentences_of(message)
