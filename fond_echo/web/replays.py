"""Turns replayed on another revision, and those that no route was for."""

from __future__ import annotations

import asyncio
from collections import Counter
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Annotated

from fastapi import Query
from pydantic import ValidationError
from sqlalchemy import func, select
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.connectors.logic import LogicCaller
from fond_echo.contract.base import JsonObject
from fond_echo.contract.channel import Inbound as Message
from fond_echo.contract.renditions import LINK_HOURS
from fond_echo.contract.replay import (
    GapOut,
    ReplayBegin,
    ReplayIn,
    ReplayOut,
    ReplaysIn,
    ReplaysOut,
    StageTime,
)
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.dialogue.gaps import Missed, gaps
from fond_echo.core.dialogue.outcomes import DID_YOU_MEAN, FALLBACK
from fond_echo.core.dialogue.verdict import HOLDING
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.digest import digest
from fond_echo.records.claim import claimed
from fond_echo.replays.nothing_outside import NothingOutside
from fond_echo.replays.replaying import (
    RecordedAnswers,
    counted_by_verdict,
    held_against,
    outcome_of,
    take_again,
)
from fond_echo.settings import Settings
from fond_echo.signed_links import link_to
from fond_echo.stages.transcribe import speech_in
from fond_echo.store.records import (
    Assistant,
    Channel,
    Contact,
    Conversation,
    Inbound,
    Revision,
    Run,
    Stage,
    Turn,
)
from fond_echo.turns.memory import facts
from fond_echo.turns.state import ConversationState
from fond_echo.turns.turn import TurnSoFar, assistant_of
from fond_echo.web.access import MayBuild
from fond_echo.web.asked_for_real import asking
from fond_echo.web.assistants import AssistantName
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.paging import whole_id
from fond_echo.web.past_turns import assistant_now, results_of_stage
from fond_echo.web.service import Service, TheService
from fond_echo.web.turns import TurnId

router = CheckedRouter(prefix="/api", tags=["replays"])


@dataclass(frozen=True)
class Onto:
    """A revision that is replayed on."""

    revision: str
    assistant: AssistantFile


async def revision_of(
    service: Service, name: str, onto: str, files: Mapping[str, str] | None
) -> tuple[Onto, Mapping[str, str]]:
    """The revision that is meant, read. Raises NotFound, or InvalidFile for one that does not check
    any more."""
    if files is None:
        async with service.database.reading() as session:
            record = await session.get(Assistant, name)
            named = {"live": record.live, "draft": record.draft} if record else {}
            found = await session.get(Revision, named.get(onto) or onto)
            if found is None or found.assistant != name:
                raise NotFound(f"{name} has no revision {onto!r}")
            files = found.files
    else:
        (await service.check(files)).raise_errors()
    revision = digest(files)
    return Onto(revision, await asyncio.to_thread(assistant_of, revision, dict(files))), files


async def frozen(session: AsyncSession, turn_id: str) -> TurnSoFar:
    """A turn as its run was frozen, with what its stages added.

    Raises:
        NotFound: there is no such turn.
        Conflict: it was erased, or has not been worked yet.
    """
    turn_id = await whole_id(session, Turn, turn_id)
    around = (
        select(Turn, Conversation, Contact, Channel, Inbound, Run)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .join(Contact, Contact.id == Conversation.contact_id)
        .join(Channel, Channel.name == Conversation.channel)
        .join(Inbound, Inbound.turn_id == Turn.id)
        .outerjoin(Run, Run.id == Turn.run_id)
        .where(Turn.id == turn_id)
    )
    row = (await session.execute(around)).one_or_none()
    if row is None:
        raise NotFound(f"there is no turn {turn_id}")
    turn, conversation, contact, channel, inbound, run = row
    if turn.erased_at is not None:
        raise Conflict("the turn was erased: there is nothing to replay")
    if run is None or turn.state not in ("answered", "failed"):
        raise Conflict(f"the turn is {turn.state}", remedy="wait until it has been answered")
    if run.revision_erased_at is not None:
        raise Conflict(
            "the revision that answered the turn was erased, with the words of somebody in it",
            remedy="it can be read, and not replayed",
        )
    files = (await session.get_one(Revision, run.revision)).files
    wanted = select(Stage).where(Stage.run_id == run.id).order_by(Stage.started_at)
    rows = (await session.execute(wanted)).scalars().all()
    try:
        return _as_frozen(turn, conversation, contact, channel, inbound, run, files, rows)
    except ValidationError as error:
        raise Conflict(
            "the turn was recorded by a version that wrote it down in another way",
            remedy="it can be read and heard, and not replayed",
        ) from error


def _as_frozen(
    turn: Turn, conversation: Conversation, contact: Contact, channel: Channel, inbound: Inbound,
    run: Run, files: Mapping[str, str], rows: Sequence[Stage],
) -> TurnSoFar:  # fmt: skip
    """Raises ValidationError for records of another shape."""
    so_far = TurnSoFar(
        id=turn.id, run_id=run.id, run="live", number=turn.number, channel=channel.name,
        conversation_id=conversation.id, contact_id=contact.id, contact_name=contact.name,
        inbound=Message.model_validate(inbound.message),
        assistant=assistant_of(run.revision, files),
        revision=run.revision, clock=run.clock, seed=run.seed,
        memory=facts(run.memory_before, run.clock),
        state=ConversationState.read(run.state_before), standing=turn.standing,
    )  # fmt: skip
    return claimed(so_far, turn, channel, rows, resumed=True).turn


def relinked(was: TurnSoFar, settings: Settings) -> TurnSoFar:
    """The turn with links to its files that are good from now on."""
    if was.fetched is None or not was.fetched.files:
        return was
    files = [
        each.model_copy(update={"url": link_to(settings, each.clip.id, LINK_HOURS)[0]})
        if each.clip is not None else each
        for each in was.fetched.files
    ]  # fmt: skip
    return replace(was, fetched=was.fetched.model_copy(update={"files": files}))


async def replayed(
    service: Service,
    was: TurnSoFar,
    onto: Onto,
    logic: LogicCaller,
    begin: ReplayBegin,
    *,
    ask: bool = False,
) -> ReplayOut:
    """A turn as it was, and as it would be on a revision. Raises Conflict where it is to be heard
    and has no sound."""
    hearing, was = None, relinked(was, service.settings)
    if begin == "transcribe" and was.fetched is not None and was.fetched.clip is not None:
        if not was.inbound.sound or was.decoded is None:
            raise Conflict("the turn has no sound to hear again")
        data = await service.clips.load(was.decoded.clip.id)
        clip = at_rate((await service.decoder.decode(data)).clip, RATE)

        async def hearing(expected: Expected) -> Heard:
            language = onto.assistant.language
            heard = await service.recognizer.transcribe(
                clip, expected, language=language, long=False
            )
            return speech_in(heard)

    async with service.database.reading() as session:
        wanted = select(Stage.name, Stage.seconds).where(Stage.run_id == was.run_id)
        times = (await session.execute(wanted.order_by(Stage.started_at))).all()
    before = outcome_of(was).model_copy(update={"stages": [
        StageTime(stage=name, milliseconds=round(1_000 * seconds, 1))
        for name, seconds in times if name != "receive"
    ]})  # fmt: skip
    needs = NothingOutside(logic, RecordedAnswers(was))
    async with asking(service, onto.assistant, ask) as engines:
        if engines is not None:
            needs.answerer, needs.helper = engines.answerer, engines.helper
        after = await take_again(
            was, onto.assistant, onto.revision, needs, hearing, as_routed=begin == "answer"
        )
    if engines is not None:
        after = after.model_copy(update={"asked": [*engines.asked, *after.asked]})
    return await asyncio.to_thread(
        held_against, was.id, onto.revision, before, after, onto.assistant.its_language
    )


@router.post("/turns/{turn_id}/replays")
async def replay_turn(
    turn_id: TurnId, given: ReplayIn, _: MayBuild, service: TheService
) -> ReplayOut:
    """Replay a turn, frozen as it was, on another revision of its assistant: what would be
    different. Nothing is stored or sent."""
    async with service.database.reading() as session:
        was = await frozen(session, turn_id)
    onto, _files = await revision_of(service, was.assistant.assistant, given.revision, given.files)
    logic = LogicCaller(service.builder.client, await service.vault())
    return await replayed(service, was, onto, logic, given.begin, ask=given.ask)


@router.post("/assistants/{name}/replays")
async def replay_turns(
    name: AssistantName, given: ReplaysIn, _: MayBuild, service: TheService
) -> ReplaysOut:
    """Replay many turns of an assistant, the latest first, a page at a time; `cursor` goes on
    with those before."""
    onto, _files = await revision_of(service, name, given.revision, given.files)
    wanted = (
        select(Turn.id)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .join(Channel, Channel.name == Conversation.channel)
        .join(Run, Run.id == Turn.run_id)
        .join(Revision, Revision.digest == Run.revision)
        .where(
            Revision.assistant == name, Turn.state.in_(("answered", "failed")),
            Turn.erased_at.is_(None), Turn.standing == "", Turn.draft.is_(False),
        )
        .order_by(Turn.id.desc())
        .limit(given.limit)
    )  # fmt: skip
    for condition in (
        Turn.id < given.cursor if given.cursor else None,
        Channel.name == given.channel if given.channel else None,
        Turn.received_at >= given.since if given.since else None,
        Turn.received_at < given.until if given.until else None,
        func.lower(Turn.text).contains(given.text.lower()) if given.text else None,
    ):
        if condition is not None:
            wanted = wanted.where(condition)
    logic = LogicCaller(service.builder.client, await service.vault())
    items, skipped = [], 0
    async with service.database.reading() as session:
        ids = (await session.execute(wanted)).scalars().all()
    for turn_id in ids:
        try:
            async with service.database.reading() as session:
                was = await frozen(session, turn_id)
        except (Conflict, NotFound):
            skipped += 1  # erased meanwhile, or being tried again
            continue
        if not (was.text or was.choice) or was.answering == "operator":
            skipped += 1
            continue
        items.append(await replayed(service, was, onto, logic, given.begin, ask=given.ask))
    return ReplaysOut(
        items=items, next=ids[-1] if len(ids) == given.limit else "", skipped=skipped,
        verdicts=counted_by_verdict(items),
    )  # fmt: skip


@router.get("/assistants/{name}/gaps")
async def list_gaps(
    name: AssistantName,
    _: MayBuild,
    service: TheService,
    last: Annotated[int, Query(ge=1, le=10_000, description="turns to look at")] = 1_000,
) -> list[GapOut]:
    """List what people said lately that no route is for, grouped by meaning: what to add to the
    draft."""
    assistant = await assistant_now(service.database, name)
    rows = await results_of_stage(
        service.database, name, "route", [Turn.text, Stage.output], Turn.text != "",
        Turn.route.in_((FALLBACK, DID_YOU_MEAN)), last=last,
    )  # fmt: skip
    async with service.database.reading() as session:
        heard = select(Turn.id).join(Stage, Turn.run_id == Stage.run_id).where(
            Turn.id.in_([row.id for row in rows]), Stage.name == "transcribe"
        )  # fmt: skip
        with_sound = set((await session.execute(heard)).scalars())
    missed: list[Missed] = []
    judged: dict[str, str] = {}
    if assistant.fallback.reply.free:
        # An engine answered them: the gaps are where it did not.
        answers = await results_of_stage(
            service.database, name, "answer", [Stage.output], Turn.text != "", last=last
        )
        judged = {each.id: (each.output.get("verdict") or {}).get("kind", "") for each in answers}
        judged = {turn: kind for turn, kind in judged.items() if kind not in ("", *HOLDING)}
        rows = [row for row in rows if row.id in judged]
    for turn_id, said, output in rows:
        if (output or {}).get("outcome", "reply") not in ("reply", "did-you-mean", "did-you-say"):
            continue
        scores: list[JsonObject] = (output or {}).get("scores") or [{}]
        best = scores[0]
        missed.append(Missed(
            turn_id, said, best.get("route", ""), best.get("confidence", 0.0),
            sound=turn_id in with_sound,
        ))  # fmt: skip
    found = await asyncio.to_thread(gaps, missed, assistant.its_language)
    return [
        GapOut(
            example=each.example, count=each.count, turns=list(each.turns[:50]),
            wordings=list(each.wordings[:20]), nearest=each.nearest, confidence=each.confidence,
            heard=each.heard,
            verdicts=Counter(judged[turn] for turn in each.turns if turn in judged),
        )
        for each in found
    ]  # fmt: skip
