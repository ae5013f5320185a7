"""Free answers: an engine answers in its own words, by the brief, the last turns, what documents
say, and functions of business logic that it may call."""

from __future__ import annotations

import asyncio
import time
from collections.abc import Awaitable, Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

from fond_echo.answers.briefing import brief_of, briefs_offered, facts_of, routes_offered
from fond_echo.answers.errors import NoFreeAnswer
from fond_echo.answers.sentences import own_or, yes_no
from fond_echo.answers.values import template_values
from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.reply import (
    AnswerVerdict,
    Attachment,
    Choice,
    End,
    HandOver,
    Reply,
    SpokenProsody,
    Then,
    Transfer,
)
from fond_echo.core.dialogue.free import FreeAnswer, FreeQuestion, Sentences
from fond_echo.core.dialogue.functions import Function, Wish, refusal
from fond_echo.core.dialogue.verdict import HOLDING, verdict
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.placeholders import LEFT_BY_ENGINES
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.reply import ReplySpec
from fond_echo.turns.errors import AnswerCutShort
from fond_echo.turns.needs import AnswerNeeds
from fond_echo.turns.ports import Listener
from fond_echo.turns.ready import RoutedTurn
from fond_echo.turns.state import WishedCall

MAX_CALLS = 4
"""Functions that may be called for one question."""

MAX_PASSAGES = 4

MAX_STREAMED = 4_000
"""Characters of a streamed answer that are spoken while it comes."""


async def answered(
    spec: ReplySpec, turn: RoutedTurn, needs: AnswerNeeds, request: LogicRequest
) -> Reply:
    """The answer of the first engine that gives one, after the functions that it wants are called;
    it may be no words, but the route that the engine chose, with the slots that it gave.

    Args:
        request: what business logic is sent, with no slots yet.

    Raises:
        NoFreeAnswer: no engine is at hand, it asked for functions without end, or it answered
            without the result of a function that it has to call.
        AllEnginesFailed: each that was asked failed.

    One that breaks off after sentences were said ends with words that say so.
    """
    if needs.answerer is None:
        raise NoFreeAnswer("no engine that answers freely can be asked here")
    # Among a thousand routes the likeliest take milliseconds, and the loop may own calls.
    functions = [*spec.permitted(), *await asyncio.to_thread(routes_offered, turn)]
    own, handed = functions, [turn.state.brief]
    functions = [*own, *briefs_offered(turn, handed)]
    question = FreeQuestion(
        text=turn.text, brief=brief_of(spec, turn, handed[-1]), language=turn.assistant.language,
        turns=_turns(turn), passages=_passages(spec, turn), memory=turn.memory,
        functions=functions, facts=facts_of(turn),
    )  # fmt: skip
    if (confirmed := turn.routed.confirmed) is not None:
        wish = Wish(confirmed.name, confirmed.arguments)
        question = replace(
            question, calls=(await _result(spec, functions, turn, needs, request, wish),)
        )
    wished, before, urged = 0, list[str](), False
    while True:
        said: list[str] = []
        missing = _missing(spec, question)
        # What may still have to be asked again is not said while it comes.
        aloud = None if missing or spec.shapes_speech else _aloud(needs, said, turn)
        try:
            found = await needs.answerer.answer(question, aloud)
        except AnswerCutShort:
            end = turn.assistant.says.text("cut-short")
            return Reply(text=" ".join([*before, *said, end]))
        if not found.wishes and not missing:
            settled = await _settled(found, question, spec, turn, needs, before, said)
            if isinstance(settled, Reply):
                return settled
            question = settled
            continue
        if not found.wishes:
            if urged:
                raise NoFreeAnswer(f"the engine answered without the result of {missing[0]}")
            urged = True
            urge = {"id": "", "name": missing[0], "arguments": {}, "result": NOT_YET}
            question = replace(question, calls=(*question.calls, urge))
            continue
        # What it says before it asks for a function belongs to its answer.
        before += said
        wished += len(found.wishes)
        if wished > MAX_CALLS:
            raise NoFreeAnswer(f"the engine wanted more than {MAX_CALLS} functions called")
        results = list[dict[str, Any]]()
        for wish in found.wishes:
            function = next((each for each in functions if each.name == wish.name), None)
            if function is not None and function.brief:
                handed.append(function.brief)
                needs.led.briefs = handed[1:]
                functions = [*own, *briefs_offered(turn, handed)]
                brief = brief_of(spec, turn, function.brief)
                question = replace(question, brief=brief, functions=functions)
                results.append(_handed(wish))
                continue
            if function is not None and not refusal(wish, functions):
                if function.route:
                    return Reply(route=function.route, slots=dict(wish.arguments))
                if function.confirm:
                    return _confirmation(function, wish, turn, needs, before)
            results.append(await _result(spec, functions, turn, needs, request, wish))
        question = replace(question, calls=(*question.calls, *results))


async def _settled(
    found: FreeAnswer, question: FreeQuestion, spec: ReplySpec, turn: RoutedTurn,
    needs: AnswerNeeds, before: Sequence[str], said: Sequence[str],
) -> Reply | FreeQuestion:  # fmt: skip
    """What becomes of an answer by its verdict: it goes out; or the engine is asked once more, with
    what was wrong; or that it is not known is said.

    Args:
        before: what it said before it asked for a function.
        said: what of this answer was said aloud already.
    """
    handed_to = [turn.state.brief, *needs.led.briefs][-1]
    judged = await asyncio.to_thread(_judged, found, question, spec, turn, handed_to)
    judged = await _reviewed(judged, found, question, turn, needs)
    asked_before = needs.led.verdict is not None
    bad = judged.kind == "unfilled" or (spec.asks_again and judged.kind not in HOLDING)
    if not bad or before or said:
        again = "asked-again" if asked_before else ""
        needs.led.verdict = judged.model_copy(update={"again": again})
        if not bad:
            return _reply(found, spec, before)
        # A part was heard already: what is left is not made up.
        end = turn.assistant.says.text("cut-short")
        return Reply(text=" ".join([*before, *said, end]))
    again = "not-known" if asked_before else "asked-again"
    needs.led.verdict = judged.model_copy(update={"again": again})
    if asked_before:
        return own_or(spec.unknown, "unknown", turn)
    return replace(question, brief=f"{question.brief}\n\n{_objection(judged)}".strip())


def _judged(
    found: FreeAnswer, question: FreeQuestion, spec: ReplySpec, turn: RoutedTurn, handed_to: str
) -> AnswerVerdict:
    """What an answer is worth, by all that the engine was told."""
    sources = _sources(question)
    # The brief as it is written: what is held against an answer stands in the question's.
    told = [brief_of(spec, turn, handed_to), str(dict(question.memory)), turn.contact_name]
    rests = bool(sources)
    judged = verdict(
        question.text, _unmarked(found.text, turn), [*sources, *told] if rests else [],
        turn.assistant.its_language, earlier=[each["text"] for each in question.turns],
    )  # fmt: skip
    return AnswerVerdict(**vars(judged))


async def _reviewed(
    first: AnswerVerdict, found: FreeAnswer, question: FreeQuestion, turn: RoutedTurn,
    needs: AnswerNeeds,
) -> AnswerVerdict:  # fmt: skip
    """The verdict of the engine that the assistant names for reviews; else the first one."""
    if first.kind == "unfilled" or needs.helper is None or not needs.helper.can("review"):
        return first
    confidence = turn.heard.confidence if turn.heard is not None else 1.0
    try:
        return await needs.helper.review(
            question.text, found.text, _sources(question), first, turn.assistant.language,
            confidence,
        )  # fmt: skip
    except FondEchoError:
        return first


def _sources(question: FreeQuestion) -> list[str]:
    """What an answer may rest on: passages and results."""
    passages = [each["text"] for each in question.passages]
    return passages + [str(each["result"]) for each in question.calls]


def _unmarked(text: str, turn: RoutedTurn) -> str:
    """A text without the placeholders that are meant as they are."""
    for meant in turn.assistant.allowed_placeholders:
        text = text.replace(meant, meant.strip("[]<>{}_$"))
    return text


def _objection(judged: AnswerVerdict) -> str:
    """What an engine is told that is asked once more."""
    about = f" in the sentence {judged.sentence!r}" if judged.sentence else ""
    return (
        f"An answer of yours was not sent: {judged.reason}{about}. Answer the question from what"
        " you are told here, or say that you do not know."
    )


def _handed(wish: Wish) -> dict[str, Any]:
    """That the talk was handed on, as the engine is told of it."""
    result = "handed on: answer by the brief that you have now"
    return {"id": wish.id, "name": wish.name, "arguments": {}, "result": result}


NOT_YET = "not called yet: call it before you answer"
"""What an engine is given in place of the result of a function that it has to call."""


def _missing(spec: ReplySpec, question: FreeQuestion) -> list[str]:
    """The functions whose result an answer needs and has not."""
    called = {each["name"] for each in question.calls if each["result"] != NOT_YET}
    return [name for name in spec.requires if name not in called]


def _confirmation(
    function: Function, wish: Wish, turn: RoutedTurn, needs: AnswerNeeds, before: Sequence[str]
) -> Reply:
    """The question whether a function should be called with these arguments."""
    # What it may leave out, and did, is empty.
    arguments = dict.fromkeys(function.arguments, "") | wish.arguments
    values = {**template_values(turn), "arguments": arguments}
    words = str(compile_template(function.confirm).render(values))
    needs.led.wished = WishedCall(
        route=turn.routed.route, name=wish.name, arguments=wish.arguments, question=turn.text
    )
    return Reply(text=" ".join([*before, words]), choices=yes_no(turn))


async def _result(
    spec: ReplySpec, functions: Sequence[Function], turn: RoutedTurn, needs: AnswerNeeds,
    request: LogicRequest, wish: Wish,
) -> dict[str, Any]:  # fmt: skip
    """A function that was called, as the engine is told of it."""
    result = await _called(spec, functions, turn, needs, request, wish)
    return {"id": wish.id, "name": wish.name, "arguments": wish.arguments, "result": result}


async def _called(
    spec: ReplySpec, functions: Sequence[Function], turn: RoutedTurn, needs: AnswerNeeds,
    request: LogicRequest, wish: Wish,
) -> str:  # fmt: skip
    """The result of a function, or why it was not called; the engine receives either."""
    if why := refusal(wish, functions):
        refused = EngineAsked(engine=wish.name[:100], kind="function", outcome="failed", why=why)
        needs.called.append(refused)
        return f"not called: {why}"
    if turn.run != "live" and spec.functions[wish.name].confirm:
        needs.called.append(
            EngineAsked(
                engine=wish.name, kind="function", outcome="failed",
                why=f"it changes something, and this is a {turn.run}",
            )
        )  # fmt: skip
        return f"not called: this is a {turn.run}"
    service, _, action = wish.name.partition(".")
    asked = request.model_copy(update={"action": action, "slots": wish.arguments})
    described = turn.assistant.logic[service]
    if needs.kept is not None:
        kept = needs.kept.logic(wish.name, asked, described)
        if kept is not None:
            needs.called.append(EngineAsked(engine=wish.name, kind="function", outcome="done"))
            return _in_words(kept)
    # What the person said yes to changes something: it is never asked twice.
    safe = not spec.functions[wish.name].confirm
    once = None if safe else needs.once
    try:
        with recorded(needs, wish.name):
            parts = [p async for p in needs.logic.ask(described, asked, safe=safe, once=once)]
    except FondEchoError:
        return "it failed"
    return _in_words(parts)


def _in_words(parts: Sequence[Reply]) -> str:
    return "\n".join(part.text or part.spoken for part in parts)


@contextmanager
def recorded(needs: AnswerNeeds, name: str) -> Iterator[None]:
    """Put down that a function of business logic was asked, with the exchanges that it took."""
    begun, before = time.monotonic(), len(needs.logic.exchanges)
    why = "it was not waited for"
    try:
        yield
        why = ""
    except FondEchoError as error:
        why = str(error)
        raise
    finally:
        needs.called.append(
            EngineAsked(
                engine=name, kind="function", outcome="failed" if why else "done", why=why,
                seconds=round(time.monotonic() - begun, 3),
                exchanges=[vars(each) for each in needs.logic.exchanges[before:]],
            )
        )  # fmt: skip


def _turns(turn: RoutedTurn) -> list[dict[str, str]]:
    found = [
        {"who": who, "text": text}
        for each in turn.state.recent
        for who, text in (("person", each.said), ("assistant", each.answered))
        if text
    ]
    quoted = turn.inbound.quoted
    if quoted is not None and quoted.text:
        found.append({"who": "assistant" if quoted.ours else "person", "text": quoted.text})
    return found


def _passages(spec: ReplySpec, turn: RoutedTurn) -> list[dict[str, str]]:
    documents = turn.assistant.documents_of(turn.routed.route) if spec.documents else None
    if documents is None:
        return []
    return [
        {"source": each.passage.source, "text": each.passage.text}
        for each in documents.search(turn.text, MAX_PASSAGES)
    ]


def _aloud(
    needs: AnswerNeeds, said: list[str], turn: RoutedTurn
) -> Callable[[str], Awaitable[None]] | None:
    """Speaks sentences as they come, and puts them down; None where nothing is spoken."""
    if (speak := needs.sentence) is None:
        return None

    async def aloud(sentence: str) -> None:
        if LEFT_BY_ENGINES.search(_unmarked(sentence, turn)):
            return
        said.append(sentence)
        await speak(sentence)

    return aloud


@dataclass
class _PiecesAloud:
    """Speaks the sentences of an answer that comes in pieces (`Listener`)."""

    sentences: Sentences
    aloud: Callable[[str], Awaitable[None]]

    async def piece(self, text: str) -> None:
        for sentence in self.sentences.add(text):
            await self.aloud(sentence)


def listener_of(needs: AnswerNeeds, turn: RoutedTurn, said: list[str]) -> Listener | None:
    """Speaks the sentences of business logic that is still answering, and puts them down; None
    where nothing is spoken."""
    aloud = _aloud(needs, said, turn)
    if aloud is None:
        return None
    split = turn.assistant.its_language.writing.sentences_of
    return _PiecesAloud(Sentences(split, MAX_STREAMED), aloud)


def _reply(found: FreeAnswer, spec: ReplySpec, before: Sequence[str] = ()) -> Reply:
    """The answer, its sources to be read and not heard."""
    sources = [f"{each.title} {each.address}".strip() for each in found.sources]
    words = " ".join([*before, found.text])
    spoken = " ".join([*before, found.spoken]) if found.spoken else ""
    text = words + (f"\n\n({'; '.join(sources)})" if sources else "")
    prosody = SpokenProsody(rate=found.rate) if found.rate else spec.prosody
    return Reply(
        text=text, spoken=spoken or (words if sources else ""),
        choices=[Choice(label=each) for each in found.choices],
        remember=dict(found.remember), remember_days=found.remember_days,
        attachments=[Attachment(url=found.file)] if found.file else [],
        voice=found.voice or spec.voice, prosody=prosody, then=_then(found, spec),
    )  # fmt: skip


def _then(found: FreeAnswer, spec: ReplySpec) -> Then | None:
    """What comes after the answer, as far as an engine may say so."""
    match found.then:
        case "end":
            return End()
        case "operator":
            return HandOver()
        case "transfer":
            if found.to not in spec.transfers:
                raise NoFreeAnswer(
                    f"the engine wanted to connect the caller with {found.to[:40]!r}",
                    remedy="name the numbers that it may connect with under transfers:",
                )
            return Transfer(to=found.to)
    return None
