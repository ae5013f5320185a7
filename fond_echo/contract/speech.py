"""Speech by itself: what a program may ask the recognizer."""

from __future__ import annotations

from pydantic import Field

from fond_echo.contract.base import Name, Schema

PHRASES = 2_000


class ListenIn(Schema):
    """What a program says about its sound before it sends it.

    `phrases` are whole utterances to be held against first; `names` and `hints` make words of
    dictation likelier; `assistant` adds what one understands; with `only`, the likeliest of the
    phrases and of what the assistant understands is chosen, whatever was said. `rate` and
    `end_seconds` are for sound that goes on: samples a second, and how long a silence ends an
    utterance.
    """

    language: str = "en"
    phrases: list[str] = Field(default_factory=list, max_length=PHRASES)
    names: list[str] = Field(default_factory=list, max_length=PHRASES)
    hints: list[str] = Field(default_factory=list, max_length=PHRASES)
    assistant: Name | None = None
    only: bool = False
    rate: int = Field(default=16_000, ge=4_000, le=192_000)
    end_seconds: float = Field(default=0.6, ge=0.2, le=5.0)
