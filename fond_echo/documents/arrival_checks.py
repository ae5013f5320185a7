"""Whether what is asked or sent can arrive at all: a request whose templates leave it out would be
answered, and nobody would see why the answer fits nothing."""

from __future__ import annotations

from collections.abc import Iterable, Mapping

from fond_echo.contract.engine import EngineKind
from fond_echo.documents.errors import FileError
from fond_echo.documents.source import Path, Source

Groups = tuple[tuple[str, ...], ...]
"""Of each group one fact must be asked for."""

WORDS = (("text",),)
BY_ENGINE: Mapping[EngineKind, Groups] = {
    "transcribe": (("sound",),),
    "speak": WORDS,
    "answer": (("text", "marked"),),
    "summarize": WORDS,
    "translate": WORDS,
    "draw": WORDS,
    "review": (("question", "marked"), ("answer",)),
}
BY_NETWORK: Mapping[str, Groups] = {
    "text": WORDS,
    "voice": (("sound",),),
    "file": (("file", "url"),),
    "picture": (("file", "url"),),
    "place": (("latitude", "text"),),
    "choices": (("text",), ("choices",)),
    "edit": (("text",), ("id",)),
    "delete": (("id",),),
}
BY_LOGIC: Groups = (("text", "turn", "slots", "conversation"),)


def arrival_errors(
    source: Source, path: Path, asked_for: Iterable[str], groups: Groups, what: str
) -> list[FileError]:
    """An error for each group of facts of which none is asked for.

    Args:
        asked_for: the names that all templates of the request ask for.
        what: whose request it is, as the beginning of a sentence.
    """
    there = set(asked_for)
    return [
        source.error(
            path,
            f"{what} never uses {' or '.join(f'{{{{ {name} }}}}' for name in group)}",
            "put it where the service takes it",
        )
        for group in groups
        if not there & set(group)
    ]
