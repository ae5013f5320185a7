"""What is done with a reply before it goes on: shortened, translated, given a picture and files."""

from __future__ import annotations

import base64

from fond_echo.answers.errors import NoHelper
from fond_echo.answers.values import template_values
from fond_echo.contract.reply import Attachment, Reply
from fond_echo.core.dialogue.shaping import first_sentences, speakable, summarized
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.language import Language
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.media import bytes_of, media_type
from fond_echo.documents.reply import ReplySpec
from fond_echo.turns.needs import AnswerNeeds
from fond_echo.turns.ports import HelperPort
from fond_echo.turns.turn import TurnSoFar


async def shortened(reply: Reply, spec: ReplySpec, turn: TurnSoFar, needs: AnswerNeeds) -> Reply:
    """A reply that is spoken in no more sentences than its route says: by the engine that the
    assistant names for summaries, or by picking those that tell most."""
    if not (spec.sentences or spec.summary):
        return reply
    words, language = reply.spoken or speakable(reply.text), turn.router.language
    left: list[str] = []
    if spec.sentences:
        words = first_sentences(words, spec.sentences, language)
    elif needs.helper is not None and needs.helper.can("summarize"):
        try:
            words = await needs.helper.summarize(words, language.code, spec.summary)
        except FondEchoError:
            words, left = _picked(words, spec.summary, language)
    else:
        words, left = _picked(words, spec.summary, language)
    # Who cannot read what was left out is asked whether to go on.
    more = reply.more or (" ".join(left) if turn.heard_only else "")
    return reply.model_copy(update={"spoken": words, "more": more})


def _picked(words: str, most: int, language: Language) -> tuple[str, list[str]]:
    kept, left = summarized(words, most, language)
    return " ".join(kept), left


async def worked_on(reply: Reply, spec: ReplySpec, turn: TurnSoFar, needs: AnswerNeeds) -> Reply:
    """A reply of the assistant's file, in another language and with a picture where it says so.

    Raises:
        NoHelper: no engine is named that can.
        AllEnginesFailed: each that is named failed.
    """
    language = turn.assistant.language
    if spec.translate_to:
        helper = _helper(needs, "translate", turn)
        text = await helper.translate(reply.written or turn.text, language, spec.translate_to)
        reply = reply.model_copy(update={"text": text, "spoken": ""})
    if spec.draw:
        helper = _helper(needs, "draw", turn)
        wanted = str(compile_template(spec.draw).render(template_values(turn))).strip()
        data, kind = await helper.draw(wanted, language)
        name = f"picture.{kind[6:]}"
        if needs.clips is None:
            where = {"url": f"data:{kind};base64,{base64.b64encode(data).decode()}"}
        else:
            where = {"clip": (await needs.clips.keep(turn.id, data, kind, "drawn")).id}
        picture = Attachment(name=name, media_type=kind, **where)
        reply = reply.model_copy(update={"attachments": [*reply.attachments, picture]})
    return reply


def _helper(needs: AnswerNeeds, kind: str, turn: TurnSoFar) -> HelperPort:
    if needs.helper is None or not needs.helper.can(kind):  # type: ignore[arg-type]
        raise NoHelper(
            f"no engine that can {kind} is named for {turn.assistant.assistant}",
            remedy=f"engines: {{{kind}: [NAME]}} in assistant.yaml; fond-echo engine list",
        )
    return needs.helper


async def with_files(reply: Reply, turn: TurnSoFar, needs: AnswerNeeds) -> Reply:
    """A reply whose files of the assistant's folder are stored for the turn, and go along as they
    are now, whatever becomes of the folder; where nothing is stored they are named only."""
    if needs.clips is None or not any(each.file for each in reply.attachments):
        return reply
    found = []
    for each in reply.attachments:
        kept = turn.assistant.media(each.file) if each.file else None
        if kept is None:
            found += [each] if not each.file else []
            continue
        data = bytes_of(kept)
        kind = each.media_type or media_type(each.file, data)
        clip = await needs.clips.keep(turn.id, data, kind, "attached")
        name = each.name or each.file.rpartition("/")[2]
        found.append(Attachment(clip=clip.id, name=name, media_type=kind))
    return reply.model_copy(update={"attachments": found})
