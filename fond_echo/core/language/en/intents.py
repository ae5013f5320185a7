"""What is understood in every assistant: goodbye, a person please, never mind, once more, forget
me (English).

A sentence is one of these where all of its words of meaning are: "bye, and thanks for the help"
is a goodbye, "when does the last boat say goodbye" is not.
"""

from __future__ import annotations

from collections.abc import Sequence
from importlib import resources
from typing import Any

from fond_echo.core.language.en.goodbyes import says_goodbye
from fond_echo.core.language.language import Intent


def _sayings() -> dict[tuple[str, ...], Intent]:
    found: dict[tuple[str, ...], Intent] = {}
    intent: Any = None
    for line in (resources.files(__package__) / "intents.txt").read_text("utf-8").splitlines():
        if line.startswith("["):
            intent = line.strip("[]")
        elif line and not line.startswith("#"):
            found[tuple(line.split())] = intent
    return found


_POLITE = frozenset(
    (
        "please thanks thank you very much so well ok okay great perfect lovely wonderful "
        "brilliant fine then now oh ah um uh just really actually alright right good cheers for "
        "the a your help all and no yes hello hi hey there everyone sir madam everything lot lots "
        "many again bye goodbye"
    ).split()
)
_ASKED = frozenset(
    "could can would may i we you like to want need i'd we'd if let me like get us do".split()
)


_WHOLE = _sayings()
_MAX_WORDS = max(map(len, _WHOLE))


def intent_of(tokens: Sequence[str]) -> Intent | None:
    """What a sentence asks of any assistant, or None.

    Args:
        tokens: spoken tokens.
    """
    words = tuple(tokens)
    if not words or len(words) > 16:
        return None
    if words in _WHOLE:
        return _WHOLE[words]
    if len(words) > 2 and words[-2:] == ("all", "right"):
        # "That's all right" is not "that's all".
        words = words[:-2]
    if says_goodbye(words):
        return "goodbye"
    found: Intent | None = None
    at = 0
    while at < len(words):
        for size in range(min(_MAX_WORDS, len(words) - at), 0, -1):
            said = _WHOLE.get(words[at : at + size])
            if said is not None and (found is None or said == found):
                found = said
                at += size
                break
        else:
            around = _POLITE | (_ASKED if found is None or found == "operator" else frozenset())
            if words[at] not in around:
                return None
            at += 1
    return found
