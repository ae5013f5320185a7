"""English, as it is written and spoken in Britain; American spellings are understood too."""

from __future__ import annotations

from fond_echo.core.language.en import letters, numbers, values, wording, writing
from fond_echo.core.language.en.connected import connected
from fond_echo.core.language.en.endings import with_ending
from fond_echo.core.language.en.homographs import homograph
from fond_echo.core.language.en.intents import intent_of
from fond_echo.core.language.en.numbers import UNITS
from fond_echo.core.language.en.sentences import SENTENCES
from fond_echo.core.language.language import Language

LANGUAGE = Language(
    code="en",
    name="English",
    writing=writing,
    numbers=numbers,
    wording=wording,
    types=values,
    letters=letters,
    sentences=SENTENCES,
    intent_of=intent_of,
    homograph=homograph,
    with_ending=with_ending,
    connected=connected,
    everywhere=(
        "Goodbye.",
        "That's all, thank you.",
        "A person, please.",
        "I want to speak to a person.",
        "Never mind.",
        "Say that again, please.",
    ),
    answers=("Yes, please.", "No, thank you.", "That's right.", "That's wrong."),
    spelled=frozenset([*UNITS[:10], "oh", "double", "triple", "nought"])
    | frozenset("abcdefghijklmnopqrstuvwxyz"),
)
