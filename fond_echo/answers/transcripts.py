"""What was said for long, in writing: sentences and paragraphs, a summary in points with their
times, and the whole as text or, where it is too long for the channel, as a file."""

from __future__ import annotations

from collections.abc import Sequence

import structlog

from fond_echo.contract.reply import Attachment, Reply
from fond_echo.contract.turn import Heard
from fond_echo.core.dialogue.shaping import summary
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.language import Language
from fond_echo.core.language.paragraphs import Paragraph, Stretch, in_sentences, paragraphs
from fond_echo.documents.reply import TranscriptSpec
from fond_echo.turns.needs import AnswerNeeds
from fond_echo.turns.ready import RoutedTurn

log = structlog.get_logger()

PIECE = 6_000
"""Characters that are summarized at once: what is longer is summarized piece by piece, and then
its summaries."""

OF_A_PIECE = 4
"""Sentences of a piece's summary."""

PIECES_OF_TEXT = 3
"""A transcript of more messages than this goes as a file."""

SHORT = 3
"""So many sentences are their own summary."""


async def transcript(spec: TranscriptSpec, turn: RoutedTurn, needs: AnswerNeeds) -> Reply:
    """The reply that gives back what was said."""
    language, says = turn.assistant.its_language, turn.assistant.says
    found = in_paragraphs(turn.heard, turn.text, language)
    whole = "\n\n".join(each.text for each in found)
    timed = [pair for each in found for pair in zip(each.starts, each.sentences, strict=True)]
    if len(timed) <= SHORT:
        return Reply(text=whole)
    points, picked = await _points(found, spec.points, needs, language)
    segments = turn.heard.segments if turn.heard is not None else []
    length = _length(segments[-1].end if segments else 0.0)
    head = says.text("points-picked" if picked else "in-points", length=length)
    listed = "\n".join(f"- {_at(_time_of(point, timed, language))} {point}" for point in points)
    spoken = " ".join(points[: spec.spoken_sentences])
    text = f"{head}\n{listed}\n\n{says.text('said-in-all')}\n\n{whole}"
    if needs.clips is None or len(text) <= PIECES_OF_TEXT * needs.channel.abilities.text_characters:
        return Reply(text=text, spoken=spoken)
    file = "\n\n".join(f"[{_at(each.starts[0])}]\n{each.text}" for each in found)
    kept = await needs.clips.keep(turn.id, file.encode(), "text/plain", "transcript")
    attached = Attachment(clip=kept.id, name="transcript.txt", media_type="text/plain")
    text = f"{head}\n{listed}\n\n{says.text('transcript-in-file')}"
    return Reply(text=text, spoken=spoken, attachments=[attached])


def in_paragraphs(heard: Heard | None, text: str, language: Language) -> list[Paragraph]:
    """What was heard, or written, in sentences and paragraphs."""
    if heard is None or not heard.segments:
        found = tuple(language.writing.sentences_of(text))
        return [Paragraph(found, (0.0,) * len(found))] if found else []
    goes_on = language.wording.GOES_ON
    sentences_of = language.writing.sentences_of
    stretches = [
        part
        for each in heard.segments
        for part in in_sentences(Stretch(each.text, each.start, each.end), sentences_of)
    ]
    return paragraphs(stretches, goes_on.__contains__)


async def _points(
    found: Sequence[Paragraph], most: int, needs: AnswerNeeds, language: Language
) -> tuple[list[str], bool]:
    """The points of a summary, and whether they were picked from the words as they are."""
    sentences_of, helper = language.writing.sentences_of, needs.helper
    pieces = _pieces([each.text for each in found])
    if helper is not None and helper.can("summarize"):
        try:
            short = pieces
            while len(short) > 1:
                summaries = [
                    await helper.summarize(each, language.code, OF_A_PIECE) for each in short
                ]
                short = _pieces(summaries)
                if len(short) >= len(summaries):
                    break  # it makes nothing shorter
            text = await helper.summarize(" ".join(short), language.code, most)
            return sentences_of(text)[:most], False
        except FondEchoError as error:
            log.warning("no engine summarized a transcript", reason=str(error))
    if len(pieces) > 1:
        picked = [summary(each, OF_A_PIECE, language) for each in pieces]
        pieces = [" ".join(picked)]
    return sentences_of(summary(pieces[0], most, language)), True


def _pieces(texts: Sequence[str]) -> list[str]:
    """Texts put together to pieces that can be summarized at once."""
    found: list[str] = []
    for text in texts:
        if found and len(found[-1]) + len(text) < PIECE:
            found[-1] = f"{found[-1]} {text}"
        else:
            found.append(text)
    return found or [""]


def _time_of(point: str, timed: Sequence[tuple[float, str]], language: Language) -> float:
    """When it was said what a point is about: of the sentence that shares most of its words."""
    tokens, filler = language.writing.spoken_tokens, language.wording.FILLERS
    words = {word for word in tokens(point) if word not in filler}

    def shared(pair: tuple[float, str]) -> tuple[float, float]:
        other = {word for word in tokens(pair[1]) if word not in filler}
        return (len(words & other) / max(1, len(words | other)), -pair[0])

    return max(timed, key=shared)[0]


def _length(seconds: float) -> str:
    """How long something is: seconds below a minute and a half."""
    return f"{max(1, round(seconds))} s" if seconds < 90 else f"{round(seconds / 60)} min"


def _at(seconds: float) -> str:
    minutes, rest = divmod(int(seconds), 60)
    hours, minutes = divmod(minutes, 60)
    return f"{hours}:{minutes:02}:{rest:02}" if hours else f"{minutes}:{rest:02}"
