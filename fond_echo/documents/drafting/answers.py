"""Where in what a service answers the words, the sound or the id stand."""

from __future__ import annotations

import base64
import binascii
import difflib
from typing import Any

from fond_echo.core.audio.sniff import sniff
from fond_echo.documents.drafting.example import json_path, leaves_of
from fond_echo.documents.drafting.guesses import Guess, words_of
from fond_echo.documents.errors import NotAnExample

TEXTS = frozenset(
    ("text", "words", "transcript", "phrase", "content", "answer", "reply", "result", "summary",
     "translation", "output", "message")
)  # fmt: skip
CONFIDENCE = frozenset(("confidence", "sure", "score", "probability", "certainty"))
ALIKE = 0.6
"""Of what was said, so much must be in what is taken for the transcript."""


def words_in(document: Any, said: str = "") -> tuple[str, Guess]:
    """The path of the words in an answer, and the evidence.

    Args:
        said: what was said in the sound that was sent, where that is known.

    Raises:
        NotAnExample: there is no text in it that may be them.
    """
    texts = [(at, each) for at, each in leaves_of(document) if isinstance(each, str) and each]
    if said:
        alike = [(_alike(each, said), -len(at), at, each) for at, each in texts]
        best = max(alike, default=(0.0, 0, (), ""))
        if best[0] >= ALIKE:
            path = json_path(best[2])
            because = f"{best[3][:40]!r} stands there, and {said[:40]!r} was said"
            return path, Guess("result.text", path, because)
    named = [
        (at, each) for at, each in texts
        if any(isinstance(part, str) and words_of(part) & TEXTS for part in at[-2:])
    ]  # fmt: skip
    if not (named or texts):
        raise NotAnExample(
            "there is no text in the answer", remedy="give a whole answer of the service"
        )
    at, each = max(named or texts, key=lambda pair: len(pair[1].split()))
    path = json_path(at)
    because = f"{each[:40]!r} is the longest text of the answer"
    if named:
        because = f"its name is {at[-1]!r}, and it holds {each[:40]!r}"
    return path, Guess("result.text", path, because)


def _alike(text: str, said: str) -> float:
    one, two = (["".join(filter(str.isalnum, w)).lower() for w in t.split()] for t in (text, said))
    return difflib.SequenceMatcher(None, one, two).ratio()


def confidence_in(document: Any) -> Guess | None:
    """The path of how sure the service is, from 0 to 1."""
    for at, each in leaves_of(document):
        is_share = isinstance(each, (int, float)) and not isinstance(each, bool) and 0 <= each <= 1
        if is_share and isinstance(at[-1], str) and words_of(at[-1]) & CONFIDENCE:
            because = f"its name is {at[-1]!r}, and it holds {each}"
            return Guess("result.confidence", json_path(at), because)
    return None


def data_in(document: Any) -> tuple[str, str, Guess]:
    """How an answer carries bytes: ("base64" or "link", path), and the evidence.

    Raises:
        NotAnExample: neither base64 nor an address is in it.
    """
    for at, each in leaves_of(document):
        if not isinstance(each, str):
            continue
        if len(each) > 40 and (data := _of_base64(each)) is not None:
            what = sniff(data)
            kind = f"{what.name}, as base64" if what else "base64"
            return "base64", json_path(at), Guess("result", json_path(at), f"it is {kind}")
        if each.startswith(("https://", "http://")):
            because = f"{each[:60]!r} is an address: a second request gets what is there"
            return "link", json_path(at), Guess("result", json_path(at), because)
    raise NotAnExample(
        "the answer holds neither bytes nor an address of them",
        remedy="give a whole answer of the service, or say that it answers with a file",
    )


def _of_base64(text: str) -> bytes | None:
    if text.startswith("data:"):
        text = text.partition(",")[2]
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError):
        return None
