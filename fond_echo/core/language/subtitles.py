"""Words with their times as subtitles: SubRip and WebVTT."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from typing import Protocol

from fond_echo.core.language.language import Language
from fond_echo.core.language.registry import language as language_of

MAX_SECONDS = 6.0
MAX_CHARACTERS = 84
LINE = 42
PAUSE = 0.6


class Timed(Protocol):
    """A word in seconds."""

    @property
    def spoken(self) -> str: ...
    @property
    def start(self) -> float: ...
    @property
    def end(self) -> float: ...


@dataclass(frozen=True)
class Cue:
    """What is shown from one time to another, in seconds."""

    start: float
    end: float
    text: str


def cues(
    words: Sequence[Timed], names: Sequence[str] = (), language: Language | None = None
) -> list[Cue]:
    """Words in stretches that can be read: cut at pauses, before they are too long. English if no
    language is given."""
    writing = (language or language_of()).writing
    found: list[Cue] = []
    here: list[Timed] = []

    def close() -> None:
        if here:
            text = writing.written_text([word.spoken for word in here], names)
            found.append(Cue(here[0].start, max(here[-1].end, here[0].start + 0.2), text))
            here.clear()

    for word in words:
        if here:
            length = sum(len(each.spoken) + 1 for each in here) + len(word.spoken)
            if (
                word.start - here[-1].end >= PAUSE
                or word.end - here[0].start > MAX_SECONDS
                or length > MAX_CHARACTERS
            ):
                close()
        here.append(word)
    close()
    return found


def srt(found: Sequence[Cue]) -> str:
    """SubRip."""
    return "\n".join(
        f"{number}\n{_clock(cue.start, ',')} --> {_clock(cue.end, ',')}\n{_lines(cue.text)}\n"
        for number, cue in enumerate(found, 1)
    )


def vtt(found: Sequence[Cue]) -> str:
    """WebVTT (W3C)."""
    return "WEBVTT\n\n" + "\n".join(
        f"{_clock(cue.start, '.')} --> {_clock(cue.end, '.')}\n{_lines(cue.text)}\n"
        for cue in found
    )


def _clock(seconds: float, point: str) -> str:
    millis = round(seconds * 1_000)
    return (
        f"{millis // 3_600_000:02d}:{millis // 60_000 % 60:02d}:{millis // 1_000 % 60:02d}"
        f"{point}{millis % 1_000:03d}"
    )


def _lines(text: str) -> str:
    return "\n".join(_broken(text.split()))


def _broken(words: list[str]) -> Iterator[str]:
    line = ""
    for word in words:
        if line and len(line) + 1 + len(word) > LINE:
            yield line
            line = word
        else:
            line = f"{line} {word}".strip()
    if line:
        yield line
