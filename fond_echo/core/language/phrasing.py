"""What markup says, as phrases: the words, how each is said, and the silence after them."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, replace

from fond_echo.core.language.language import UNFINISHED, Language, Phrase
from fond_echo.core.language.prosody import PLAIN, Prosody
from fond_echo.core.language.ssml import (
    MarkHere,
    Part,
    Pause,
    Recording,
    Stretched,
    Words,
)

LEADING = ".,;:!?…"
STUCK_BELOW = 0.01
"""A shorter pause parts nothing."""


@dataclass(frozen=True)
class Played:
    """A recording by its name, with what is said where no recording has that name."""

    source: str
    instead: tuple[Phrase | Played, ...] = ()


Spoken = Phrase | Played


def phrases_of(parts: Iterable[Part], language: Language) -> list[Spoken]:
    """Phrases and recordings in order."""
    builder = _Builder(language)
    for part in parts:
        builder.add(part)
    return builder.finished()


class _Builder:
    def __init__(self, language: Language) -> None:
        self._language = language
        self._found: list[Spoken] = []
        self._open = False
        """Whether what comes next goes on with the last phrase."""
        self._marks: list[str] = []

    def add(self, part: Part) -> None:
        match part:
            case Words():
                self._words(part)
            case Pause():
                self._pause(part)
            case MarkHere(name=name):
                self._marks.append(name)
            case Recording(source=source, instead=instead):
                self._found.append(Played(source, tuple(phrases_of(instead, self._language))))
                self._open = False
            case Stretched():
                self._open = False
                self._found += self._marked(_stretched(part, self._language))

    def finished(self) -> list[Spoken]:
        if self._marks:
            last = self._last()
            if last is None:
                last = Phrase((), 0.0)
                self._found.append(last)
            marks = tuple((name, len(last.tokens)) for name in self._marks)
            self._found[-1] = replace(last, marks=(*last.marks, *marks))
        return self._found

    def _last(self) -> Phrase | None:
        last = self._found[-1] if self._found else None
        return last if isinstance(last, Phrase) else None

    def _words(self, part: Words) -> None:
        text = part.text
        last = self._last()
        if last is not None and self._open and last.tokens and text.lstrip()[:1] in LEADING:
            # What ends the phrase before stands behind a tag.
            whole = self._language.writing.phrases(f"{last.tokens[-1]}{text.lstrip()[:1]}")
            if whole:
                ended = replace(last, pause=whole[0].pause, melody=whole[0].melody)
                self._found[-1], self._open = ended, False
        for phrase in self._phrases(part):
            count = len(phrase.tokens)
            said = replace(
                phrase, voice=part.voice, prosodies=(part.prosody,) * count,
                sounds=(part.sounds,) * count,
            )  # fmt: skip
            (said,) = self._marked([said])
            last = self._last()
            if last is not None and self._open and last.voice == said.voice:
                self._found[-1] = _joined(last, said)
            else:
                self._found.append(said)
            self._open = phrase.pause == UNFINISHED

    def _marked(self, phrases: list[Phrase]) -> list[Phrase]:
        """Phrases, the first of them with the marks that were waiting."""
        if self._marks and phrases:
            marks = tuple((name, 0) for name in self._marks)
            phrases = [replace(phrases[0], marks=(*marks, *phrases[0].marks)), *phrases[1:]]
            self._marks = []
        return phrases

    def _phrases(self, part: Words) -> Sequence[Phrase]:
        writing = self._language.writing
        if part.sounds:
            tokens = writing.spoken_tokens(part.text)
            return [Phrase((" ".join(tokens) or part.text,), UNFINISHED)]
        if part.as_kind:
            groups = writing.say_as(part.as_kind, part.text, part.as_format)
            pauses = [0.18] * (len(groups) - 1) + [UNFINISHED]
            return [Phrase(tuple(g), p) for g, p in zip(groups, pauses, strict=True) if g]
        return writing.phrases(part.text)

    def _pause(self, part: Pause) -> None:
        if part.seconds < STUCK_BELOW:
            return
        last = self._last()
        if last is None:
            self._found.append(Phrase((), part.seconds, exact=True))
        elif part.least:
            self._found[-1] = replace(last, pause=max(last.pause, part.seconds))
        else:
            seconds = part.seconds if self._open else max(last.pause, part.seconds)
            self._found[-1] = replace(last, pause=seconds, exact=True)
        self._open = False


def _joined(first: Phrase, second: Phrase) -> Phrase:
    moved = tuple((name, place + len(first.tokens)) for name, place in second.marks)
    return replace(
        second,
        tokens=first.tokens + second.tokens,
        prosodies=_manners(first) + _manners(second),
        sounds=_sounds(first) + _sounds(second),
        marks=first.marks + moved,
    )


def _manners(phrase: Phrase) -> tuple[Prosody, ...]:
    return phrase.prosodies or (PLAIN,) * len(phrase.tokens)


def _sounds(phrase: Phrase) -> tuple[tuple[str, ...], ...]:
    return phrase.sounds or ((),) * len(phrase.tokens)


def _stretched(part: Stretched, language: Language) -> list[Phrase]:
    """Phrases of what has a length or a contour of its own; recordings have neither."""
    phrases = [each for each in phrases_of(part.parts, language) if isinstance(each, Phrase)]
    total = sum(len(each.tokens) for each in phrases)
    found, before = [], 0
    for phrase in phrases:
        count = len(phrase.tokens)
        prosodies = _manners(phrase)
        if part.contour:
            places = [(before + k + 0.5) / max(1, total) for k in range(count)]
            prosodies = tuple(map(_along, prosodies, places, [part.contour] * count))
        seconds = part.seconds * count / total if total else 0.0
        found.append(replace(phrase, prosodies=prosodies, seconds=seconds))
        before += count
    return found


def _along(prosody: Prosody, place: float, contour: tuple[tuple[float, Prosody], ...]) -> Prosody:
    """A prosody with the pitch of a contour at a place."""
    before = [each for each in contour if each[0] <= place] or [contour[0]]
    after = [each for each in contour if each[0] >= place] or [contour[-1]]
    (first, low), (last, high) = before[-1], after[0]
    share = (place - first) / (last - first) if last > first else 0.0
    return replace(
        prosody,
        pitch=prosody.pitch + low.pitch + share * (high.pitch - low.pitch),
        hertz=prosody.hertz + low.hertz + share * (high.hertz - low.hertz),
        at_hertz=low.at_hertz + share * (high.at_hertz - low.at_hertz)
        if low.at_hertz and high.at_hertz
        else prosody.at_hertz,
    )
