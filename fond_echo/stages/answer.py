"""answer: what is said, from words, documents or business logic, part by part."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator, Sequence
from dataclasses import replace
from typing import Any

from fond_echo.answers.errors import WrongRoute
from fond_echo.answers.free import answered, listener_of, recorded
from fond_echo.answers.sentences import (
    did_you_mean,
    did_you_say,
    menu,
    once_more,
    own_or,
    remembered,
    rendered,
    said,
    unsure,
    yes_no,
)
from fond_echo.answers.shaping import shortened, with_files, worked_on
from fond_echo.answers.transcripts import transcript
from fond_echo.contract.logic import (
    LogicContact,
    LogicConversation,
    LogicRequest,
    LogicTurn,
)
from fond_echo.contract.reply import (
    Announce,
    Attachment,
    Choice,
    End,
    HandOver,
    RecordMessage,
    Reply,
    Transfer,
    elements_of,
)
from fond_echo.core.dialogue.deciding import Outcome
from fond_echo.core.dialogue.documents import Found
from fond_echo.core.dialogue.outcomes import FALLBACK
from fond_echo.core.dialogue.shaping import first_sentences, speakable
from fond_echo.core.errors import FondEchoError
from fond_echo.core.grammar.lists import names_in
from fond_echo.documents.reply import ReplySpec
from fond_echo.stages.errors import NotRun
from fond_echo.stages.route import led_to
from fond_echo.turns.needs import AnswerNeeds
from fond_echo.turns.ready import RoutedTurn
from fond_echo.turns.state import Done
from fond_echo.turns.turn import TurnSoFar

MAX_OFFERED = 8
"""A list of at most so many names is offered as choices when it is asked for."""

MOST_LED = 3
"""Answers of one turn that may lead on to another route."""

PASSAGE_SENTENCES = 2
"""So much of a page is spoken."""


async def answer(turn: RoutedTurn, needs: AnswerNeeds) -> AsyncIterator[Reply]:
    """The parts of the reply as they come, with the files that go along stored."""
    async for reply in _followed(turn, needs):
        whole = await with_files(reply, turn, needs)
        yield _offering_more(whole, turn) if whole.more and turn.heard_only else whole


async def _followed(turn: RoutedTurn, needs: AnswerNeeds, led: int = 0) -> AsyncIterator[Reply]:
    """The parts of the reply; where one names a route, that goes on with the turn.

    Raises:
        WrongRoute: the assistant has no such route, or each leads to the next.
    """
    async for reply in _parts(turn, needs):
        if not reply.route:
            yield reply
            continue
        if turn.assistant.route(reply.route) is None:
            known = sorted(each.route for each in turn.assistant.routes)
            raise WrongRoute(
                f"the answer names the route {reply.route[:40]!r}, which the assistant has not",
                remedy=f"it may name {', '.join(known[:10])}",
            )
        if led == MOST_LED:
            raise WrongRoute(
                f"{MOST_LED} answers led from route to route, and {reply.route} would be the next",
                remedy="let one of them answer in words",
            )
        if reply.text or reply.spoken:
            yield reply.model_copy(update={"route": "", "slots": {}})
        needs.led.routed = led_to(turn, reply.route, reply.slots)
        onward = replace(turn, routed=needs.led.routed)
        async for part in _followed(onward, needs, led + 1):
            yield part
        return


def _offering_more(reply: Reply, turn: TurnSoFar) -> Reply:
    """A reply that asks whether to go on with what is left to say."""
    words = reply.spoken or speakable(reply.text)
    return reply.model_copy(update={"spoken": f"{words} {turn.assistant.says.text('more')}"})


async def _parts(turn: RoutedTurn, needs: AnswerNeeds) -> AsyncIterator[Reply]:
    if turn.routed.outcome != "reply":
        done = turn.state.done if turn.routed.outcome == "undo" else None
        if done is not None and not turn.state.announces(turn.clock):
            async for part in _undone(turn, done, needs):
                yield part
            return
        if turn.routed.outcome != "recorded":
            yield of_dialogue(turn)
            return
        spec = turn.assistant.spec(turn.routed.route)
        if not spec.logic:
            yield own_or(spec.kept, "message-kept", turn)
            return
    told = turn.assistant.spec(turn.routed.route).transcript
    if told is not None:
        # It is given back as it was heard, however surely.
        yield await transcript(told, turn, needs)
        return
    if (again := once_more(turn)) is not None:
        yield again
        return
    if turn.routed.route == FALLBACK and not turn.routed.sure:
        yield unsure(turn)
        return
    spec = turn.assistant.spec(turn.routed.route)
    kept = needs.kept
    if spec.free and needs.answerer is None and turn.run != "live":
        parts = kept.free(turn) if kept is not None else None
        if parts is None:
            raise NotRun(f"no engine was asked in a {turn.run}", remedy="ask it for real: --ask")
        needs.led.routed = kept.led() if kept is not None else None
        for part in parts:
            yield part
        return
    if spec.free:
        found = await answered(spec, turn, needs, request(turn, ""))
        if found.route:
            yield found
            return
        whole = await worked_on(found, spec, turn, needs)
        yield await shortened(whole, spec, turn, needs)
        if (question := _still_open(turn)) is not None:
            yield question
        return
    if spec.documents:
        yield from_pages(spec, turn)
        return
    if not spec.logic:
        yield await shortened(
            await worked_on(written(spec, turn), spec, turn, needs), spec, turn, needs
        )
        return
    service, _, action = spec.logic.partition(".")
    asked = request(turn, action)
    if kept is not None:
        parts = kept.logic(spec.logic, asked, turn.assistant.logic[service])
        for part in parts or ():
            yield part
        if parts is not None:
            return
    if turn.run != "live" and not spec.safe:
        raise NotRun(
            f"{spec.logic} was not asked in a {turn.run}"
            + (", and no kept answer matches what it would be sent" if kept is not None else ""),
            remedy="mark the route's reply safe: true where asking changes nothing",
        )
    said: list[str] = []
    listens: dict[str, Any] = {}
    described = turn.assistant.logic[service]
    if described.stream is not None:
        listens = {"listener": listener_of(needs, turn, said)}
    if described.late_seconds and needs.late is not None:
        patient = described.model_copy(
            update={"timeout": described.timeout + described.late_seconds}
        )
        waited = needs.logic.ask(patient, asked, safe=spec.safe, once=needs.once)
        for part in await _in_time(waited, described.timeout, turn, needs, spec.logic):
            whole = await worked_on(part, spec, turn, needs)
            yield await shortened(whole, spec, turn, needs)
        return
    requested = needs.logic.ask(described, asked, safe=spec.safe, once=needs.once, **listens)
    try:
        with recorded(needs, spec.logic):
            async for part in requested:
                whole = await worked_on(part, spec, turn, needs)
                yield await shortened(whole, spec, turn, needs)
    except FondEchoError:
        if not said:
            raise
        yield Reply(text=" ".join([*said, turn.assistant.says.text("cut-short")]))


async def _undone(turn: RoutedTurn, done: Done, needs: AnswerNeeds) -> AsyncIterator[Reply]:
    """What business logic says that takes back what it did; that nothing does, where it has no such
    function."""
    if not done.undo:
        yield said(turn, "cannot-take-back")
        return
    if turn.run != "live":
        raise NotRun(f"{done.undo} was not asked in a {turn.run}", remedy="it is in live turns")
    service, _, action = done.undo.partition(".")
    asked = request(turn, action).model_copy(update={"route": done.route, "slots": done.slots})
    with recorded(needs, done.undo):
        async for part in needs.logic.ask(turn.assistant.logic[service], asked, once=needs.once):
            yield part


async def _in_time(
    answer: AsyncIterator[Reply], seconds: float, turn: RoutedTurn, needs: AnswerNeeds, name: str
) -> list[Reply]:
    """The answer where it comes in time; else words that it will come, and it is sent then."""
    assert needs.late is not None

    async def collected() -> list[Reply]:
        with recorded(needs, name):
            return [part async for part in answer]

    task = asyncio.create_task(collected())
    done, _ = await asyncio.wait({task}, timeout=seconds)
    if done:
        return task.result()
    needs.late(task)
    return [said(turn, "late-answer")]


def of_dialogue(turn: RoutedTurn) -> Reply:
    """What the dialogue itself says: a question, a goodbye, and so on."""
    routed = turn.routed
    match routed.outcome:
        case "ask" | "refused" if routed.open is not None:
            question = _question(turn, routed.open["tries"])
            text = f"{routed.why} {question.text}" if routed.outcome == "refused" else question.text
            return question.model_copy(update={"text": text.strip()})
        case "which-half":
            early, late = routed.why.split()
            return said(turn, "which-half", [Choice(label=each) for each in (early, late)],
                        early=early, late=late)  # fmt: skip
        case "confirm":
            return Reply(text=_read_back(turn), choices=yes_no(turn))
        case "did-you-mean" if routed.requested is not None:
            return did_you_mean(turn, routed.requested.routes)
        case "did-you-say":
            return did_you_say(turn, routed.offered)
        case "say-again":
            return said(turn, "say-it-again")
        case "menu":
            return menu(turn)
        case "given-up":
            return unsure(turn, "still-not-understood")
        case "never-mind":
            return said(turn, "never-mind")
        case "goodbye":
            text = rendered(turn.assistant.goodbye, turn)
            return Reply(text=text or turn.assistant.says.text("goodbye"), then=End())
        case "operator":
            if not turn.assistant.operator:
                return unsure(turn, "nobody-to-hand-over-to")
            then: Any = HandOver()
            if turn.in_call and turn.assistant.operator_number:
                then = Transfer(to=turn.assistant.operator_number)
            return Reply(text=rendered(turn.assistant.operator, turn), then=then)
        case "closed":
            route = turn.assistant.route(turn.routed.route)
            words = route.closed if route is not None else turn.assistant.operator_closed
            return Reply(text=rendered(words, turn))
        case "again":
            last = turn.state.last
            return last if last else unsure(turn, "nothing-said-yet")
        case "undo":
            said_at = turn.state.announced_at
            was_said = said_at is not None and turn.clock >= said_at
            return said(turn, "too-late-to-take-back" if was_said else "taken-back")
        case "start-over":
            return said(turn, "cleared")
        case "forget-me":
            return said(turn, "forgotten")
        case "stop-writing" | "write-again":
            return said(turn, routed.outcome)
        case "more":
            return _going_on(turn)
        case "about-me":
            return remembered(turn)
    raise AssertionError(routed.outcome)


def _still_open(turn: RoutedTurn) -> Reply | None:
    """What is asked for once more after the answer to a question beside it."""
    open_ = turn.routed.open
    if open_ is None or turn.routed.route != FALLBACK:
        return None
    outcome: Outcome = "confirm" if open_["confirming"] else "ask"
    beside = {"route": open_["route"], "outcome": outcome, "slot": open_["asking"]}
    values = {name: value for name, (value, _) in open_["filled"].items()}
    routed = turn.routed.model_copy(update=beside | {"slots": values})
    return of_dialogue(replace(turn, routed=routed))


def _question(turn: RoutedTurn, tries: int) -> Reply:
    """The slot that is asked for, in other words every time."""
    spec = turn.assistant.route_named(turn.routed.route).slots[turn.routed.slot]
    wording = spec.wordings[min(tries, len(spec.wordings) - 1)]
    if tries and len(spec.wordings) == 1 and turn.routed.outcome == "ask":
        wording = turn.assistant.says.text("ask-again", question=wording)
    choices = list(spec.choices)
    rule = turn.assistant.rules.rules.get(spec.rule)
    if not choices and rule is not None:
        named = list(dict.fromkeys(worth for _, worth in names_in(rule.body)))
        if 1 < len(named) <= MAX_OFFERED:
            choices = [Choice(label=name) for name in named]
    return Reply(text=rendered(wording, turn), choices=choices)


def _read_back(turn: RoutedTurn) -> str:
    return rendered(turn.assistant.route_named(turn.routed.route).read_back, turn)


def from_pages(spec: ReplySpec, turn: RoutedTurn) -> Reply:
    """The passage that answers, with its source to be read and not heard."""
    documents = turn.assistant.documents_of(turn.routed.route)
    near = documents.near(turn.text) if documents is not None else []
    if near and not _names_one(turn.text, near):
        titles = [each.passage.heading or each.passage.source for each in near][:MAX_OFFERED]
        return said(turn, "which-passage", [Choice(label=each[:80]) for each in titles])
    found = documents.best(turn.text) if documents is not None else None
    if found is None:
        return own_or(spec.unknown, "unknown", turn)
    sentences = spec.sentences or PASSAGE_SENTENCES
    whole = speakable(found.passage.text)
    spoken = first_sentences(whole, sentences, turn.router.language)
    more = _after(whole, sentences, turn)
    text = f"{found.passage.text}\n\n({found.passage.source})"
    return Reply(text=text, spoken=spoken, more=more)


def _after(text: str, sentences: int, turn: TurnSoFar) -> str:
    """What follows the first sentences of a text."""
    return " ".join(turn.router.language.writing.sentences_of(text)[sentences:])


def _going_on(turn: TurnSoFar) -> Reply:
    """The next sentences of what was left to say, and then what is left."""
    more = turn.state.more
    words = first_sentences(more, PASSAGE_SENTENCES, turn.router.language)
    return Reply(text=words, more=_after(more, PASSAGE_SENTENCES, turn))


def _names_one(text: str, found: Sequence[Found]) -> bool:
    """Whether somebody said a heading: then its passage is meant."""
    return any(text.strip().rstrip(".?!").lower() == each.passage.heading.lower() for each in found)


def written(spec: ReplySpec, turn: TurnSoFar) -> Reply:
    """A reply of the assistant file, its templates filled in."""
    then: Any = None
    match spec.then:
        case "end":
            then = End()
        case "operator":
            then = HandOver()
        case "transfer":
            then = Transfer(to=rendered(spec.to, turn))
        case "record":
            then = RecordMessage(max_seconds=spec.max_seconds)
        case "announce":
            to = rendered(spec.to, turn) or turn.inbound.conference
            if not to:
                return own_or(spec.no_conference, "no-conference", turn)
            words = rendered(spec.announced, turn)
            then = Announce(over=spec.over, text=words, to=to, after=spec.after)
    reply = Reply(
        text=rendered(spec.text, turn) or (turn.text if spec.translate_to else ""),
        spoken=rendered(spec.spoken, turn),
        sound=spec.sound,
        voice=spec.voice,
        prosody=spec.prosody,
        attachments=[Attachment(**each.model_dump()) for each in spec.attachments],
        **elements_of([spec]),
        then=then,
    )
    return reply


def _sound_of(turn: TurnSoFar) -> str:
    """The clip of what was said: as it came, or as it was heard in a call."""
    came = (turn.fetched and turn.fetched.clip) or (turn.decoded and turn.decoded.clip)
    return came.id if came else ""


def request(turn: RoutedTurn, action: str) -> LogicRequest:
    """What business logic is sent."""
    return LogicRequest(
        action=action,
        route=turn.routed.route,
        assistant=turn.assistant.assistant,
        run=turn.run,
        draft=turn.draft,
        now=turn.clock,
        turn=LogicTurn(
            id=turn.id,
            text=turn.text,
            arrived_as=turn.inbound.arrived_as,
            language=turn.assistant.language,
            heard=turn.heard,
            sound=_sound_of(turn),
            recorded=turn.routed.outcome == "recorded",
            quoted=turn.inbound.quoted.text if turn.inbound.quoted is not None else "",
            attachments=turn.sent_files,
        ),
        slots=turn.routed.slots,
        contact=LogicContact(id=turn.contact_id, name=turn.contact_name, channel=turn.channel),
        memory=turn.memory,
        conversation=LogicConversation(
            id=turn.conversation_id,
            turns=turn.number,
            recent=turn.state.recent,
            variables=turn.state.variables,
        ),
    )
