"""Free answers: an engine answers in its own words, by the brief, the last turns, what documents
say, and functions of business logic that it may call."""

from __future__ import annotations

import time
from collections.abc import Awaitable, Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, replace
from typing import Any

from fond_echo.answers.errors import NoFreeAnswer
from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.reply import Choice, Reply
from fond_echo.core.dialogue.free import FreeAnswer, FreeQuestion, Sentences, Wish, refusal
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.reply import ReplySpec
from fond_echo.turns.errors import AnswerCutShort
from fond_echo.turns.needs import AnswerNeeds
from fond_echo.turns.ports import Listener
from fond_echo.turns.ready import RoutedTurn

MAX_CALLS = 4
"""Functions that may be called for one question."""

MAX_PASSAGES = 4

MAX_STREAMED = 4_000
"""Characters of a streamed answer that are spoken while it comes."""


async def answered(
    spec: ReplySpec, turn: RoutedTurn, needs: AnswerNeeds, request: LogicRequest
) -> Reply:
    """The answer of the first engine that gives one, after the functions that it wants are called.

    Args:
        request: what business logic is sent, with no slots yet.

    Raises:
        NoFreeAnswer: no engine is at hand, or it asked for functions without end.
        AllEnginesFailed: each that was asked failed.

    One that breaks off after sentences were said ends with words that say so.
    """
    if needs.answerer is None:
        raise NoFreeAnswer("no engine that answers freely can be asked here")
    functions = spec.permitted()
    question = FreeQuestion(
        text=turn.text, brief=turn.assistant.brief, language=turn.assistant.language,
        turns=_turns(turn), passages=_passages(spec, turn), memory=turn.memory,
        functions=functions,
    )  # fmt: skip
    wished, before = 0, list[str]()
    while True:
        said: list[str] = []
        try:
            found = await needs.answerer.answer(question, _aloud(needs, said))
        except AnswerCutShort:
            end = turn.assistant.says.text("cut-short")
            return Reply(text=" ".join([*before, *said, end]))
        if not found.wishes:
            return _reply(found, before)
        # What it says before it asks for a function belongs to its answer.
        before += said
        wished += len(found.wishes)
        if wished > MAX_CALLS:
            raise NoFreeAnswer(f"the engine wanted more than {MAX_CALLS} functions called")
        results: Sequence[dict[str, Any]] = [
            {"id": wish.id, "name": wish.name, "arguments": wish.arguments,
             "result": await _called(spec, turn, needs, request, wish)}
            for wish in found.wishes
        ]  # fmt: skip
        question = replace(question, calls=(*question.calls, *results))


async def _called(
    spec: ReplySpec, turn: RoutedTurn, needs: AnswerNeeds, request: LogicRequest, wish: Wish
) -> str:
    """The result of a function, or why it was not called; the engine receives either."""
    if why := refusal(wish, spec.permitted()):
        refused = EngineAsked(engine=wish.name, kind="function", outcome="failed", why=why)
        needs.called.append(refused)
        return f"not called: {why}"
    service, _, action = wish.name.partition(".")
    asked = request.model_copy(update={"action": action, "slots": wish.arguments})
    try:
        with recorded(needs, wish.name):
            parts = [
                part
                async for part in needs.logic.ask(turn.assistant.logic[service], asked, safe=True)
            ]
    except FondEchoError:
        return "it failed"
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


def _aloud(needs: AnswerNeeds, said: list[str]) -> Callable[[str], Awaitable[None]] | None:
    """Speaks sentences as they come, and puts them down; None where nothing is spoken."""
    if (speak := needs.sentence) is None:
        return None

    async def aloud(sentence: str) -> None:
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
    aloud = _aloud(needs, said)
    if aloud is None:
        return None
    split = turn.assistant.its_language.writing.sentences_of
    return _PiecesAloud(Sentences(split, MAX_STREAMED), aloud)


def _reply(found: FreeAnswer, before: Sequence[str] = ()) -> Reply:
    """The answer, its sources to be read and not heard."""
    sources = [f"{each.title} {each.address}".strip() for each in found.sources]
    words = " ".join([*before, found.text])
    spoken = " ".join([*before, found.spoken]) if found.spoken else ""
    text = words + (f"\n\n({'; '.join(sources)})" if sources else "")
    return Reply(
        text=text, spoken=spoken or (words if sources else ""),
        choices=[Choice(label=each) for each in found.choices],
        remember=dict(found.remember), remember_days=found.remember_days,
    )  # fmt: skip
