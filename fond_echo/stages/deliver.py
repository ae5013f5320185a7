"""deliver: what a turn sends, planned before anything goes out, and another way where the
network cannot."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any

from fond_echo.contract.reply import Attachment, Choice
from fond_echo.core.dialogue.markup import links_in
from fond_echo.core.dialogue.shaping import numbered
from fond_echo.turns.delivery import PlannedDelivery
from fond_echo.turns.ports import Abilities
from fond_echo.turns.ready import AnsweredTurn
from fond_echo.turns.turn import TurnSoFar


def plan(turn: AnsweredTurn, can: Abilities) -> list[PlannedDelivery]:
    """What goes out for a turn: texts, choices, attachments, a voice note.

    Before it was spoken, this is what goes out in writing; afterwards the voice note comes behind.

    A voice note that the network does not take (none at all, too long, too large) goes as a
    file, or in writing; choices without buttons become a numbered list; an attachment that
    cannot be sent becomes its address. In a call nothing is written. A text over the limit is
    cut where it hurts least.
    """
    planned: list[PlannedDelivery] = []

    def add(kind: str, text: str = "", clip_id: str | None = None, **extra: Any) -> None:
        planned.append(PlannedDelivery(kind, len(planned), text, clip_id, extra))

    spoken_as = _spoken_as(turn, can)
    also = turn.assistant.says.text("choose")
    if turn.encoded is None and turn.spoken is not None and "text" not in can.kinds:
        # In a call each part was played as it came.
        for part in turn.spoken.parts:
            add("voice", part.text, part.clip.id)

    def voice() -> None:
        if spoken_as is not None and turn.encoded is not None:
            text = "\n\n".join(reply.written for reply in turn.answered.final)
            add(spoken_as, text, turn.encoded.clip.id)

    if not turn.answers_in_writing:
        voice()
    # What is read besides comes before the voice: it was there first.
    written = "text" in can.kinds and (turn.answers_in_writing or spoken_as is None)
    for number, reply in enumerate(turn.answered.parts):
        if reply not in turn.answered.final:
            continue
        choices = [(choice.label, choice.value) for choice in reply.choices]
        buttons = bool(choices) and "choices" in can.kinds
        if written and number in turn.answered.early:
            choices, buttons = [], False
        elif written:
            text = reply.written
            if not buttons:
                text = numbered(text, [label for label, _ in choices])
            pieces = cut(text, can.text_characters)
            before = turn.answered.early.get(number - 1, "") if reply.rewrites else ""
            if before and len(pieces) == 1 and can.can_edit(buttons):
                add("edit", text, id=before, choices=choices if buttons else [])
                pieces, buttons = [], False
            for piece in pieces[:-1] if buttons else pieces:
                add("text", piece)
            if buttons:
                add("choices", pieces[-1] if pieces else also, choices=choices)
        elif buttons:
            add("choices", also, choices=choices)
        for attachment in reply.attachments:
            kind = _attached_as(attachment, can)
            if kind is None and "text" in can.kinds and attachment.url:
                add("text", f"{attachment.name or attachment.url}: {attachment.url}")
            elif kind is not None:
                add(kind, "", attachment.clip or None, url=attachment.url, name=attachment.name,
                    media_type=attachment.media_type)  # fmt: skip
        for place in reply.places:
            if "place" in can.kinds:
                add("place", place.name, latitude=place.latitude, longitude=place.longitude)
            elif "text" in can.kinds:
                add("text", f"{place.name}: {place.uri}")
    if turn.answers_in_writing:
        voice()
    elif spoken_as is not None and "text" in can.kinds:
        # What was said as "a link" can be pressed.
        texts = [reply.written for reply in turn.answered.final]
        if links := [link for text in texts for link in links_in(text)]:
            add("text", "\n".join(dict.fromkeys(links))[: can.text_characters])
    return planned


def rewritten(
    text: str, choices: Sequence[Choice], external_id: str, can: Abilities, part: int
) -> PlannedDelivery:
    """Other words in the place of what stands under an id; where the network cannot, or the words
    are too long for it, sent anew."""
    offered = [(choice.label, choice.value) for choice in choices]
    if can.can_edit(bool(offered)) and external_id and len(text) <= can.text_characters:
        extra = {"id": external_id, "choices": offered}
        return PlannedDelivery("edit", part, text, extra=extra)
    if offered and "choices" in can.kinds:
        return PlannedDelivery("choices", part, text, extra={"choices": offered})
    listed = numbered(text, [label for label, _ in offered])
    if can.can_edit(False) and external_id and len(listed) <= can.text_characters:
        return PlannedDelivery("edit", part, listed, extra={"id": external_id, "choices": []})
    return PlannedDelivery("text", part, listed[: can.text_characters])


def _spoken_as(turn: TurnSoFar, can: Abilities) -> str | None:
    if turn.encoded is None:
        return None
    clip = turn.encoded.clip
    fits = (clip.seconds or 0.0) <= can.voice_seconds and clip.size <= can.voice_bytes
    if "voice" in can.kinds and fits:
        return "voice"
    return "file" if "file" in can.kinds and clip.size <= can.file_bytes else None


def _attached_as(attachment: Attachment, can: Abilities) -> str | None:
    if attachment.media_type.startswith("image/") and "picture" in can.kinds:
        return "picture"
    return "file" if "file" in can.kinds else None


def cut(text: str, limit: int) -> list[str]:
    """A text in pieces of at most `limit` characters, cut where it hurts least."""
    pieces: list[str] = []
    while len(text) > limit:
        window = text[: limit + 1]
        found = (window.rfind(mark) + len(mark.rstrip()) for mark in ("\n\n", "\n", ". ", " "))
        place = next((each for each in found if each > limit // 3), limit)
        pieces.append(text[:place].rstrip())
        text = text[place:].lstrip()
    return [*pieces, text] if text else pieces
