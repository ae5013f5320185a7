"""route: where the turn goes, and why."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Any

from fond_echo.contract.turn import Heard
from fond_echo.core.dialogue.deciding import Dialogue, Meant, Said, Understood
from fond_echo.core.dialogue.hours import Hours
from fond_echo.core.dialogue.outcomes import DID_YOU_MEAN, FALLBACK
from fond_echo.core.dialogue.slots import Judge, Slot
from fond_echo.core.grammar.match import match
from fond_echo.core.language.templates import compile_template
from fond_echo.core.recognition.offering import offered
from fond_echo.turns.expected import expected_of
from fond_echo.turns.needs import Needs
from fond_echo.turns.state import Asked, WishedCall
from fond_echo.turns.turn import Routed, RouteScore, TurnSoFar

SURE = 0.75
"""A dictated transcript at or above this confidence is believed."""

MAX_TEXT = 4_000
"""Characters of a text that are understood; what is longer is no question."""


async def route(turn: TurnSoFar, needs: Needs) -> Routed:
    """Typed and heard text take the same way; only what was heard can be doubted."""
    return await asyncio.to_thread(understand, turn)


def understand(turn: TurnSoFar) -> Routed:
    """What the turn means, with the dialogue that is open in its conversation."""
    recording = turn.state.records(turn.clock)
    if recording is not None and not _leaves_it(turn):
        because = f"the message that {recording.route} asked for"
        return Routed(
            route=recording.route, by="slot", sure=True, because=because, outcome="recorded"
        )
    if turn.files and not turn.text:
        return _of_files(turn)
    heard = turn.heard
    believed = heard is None or heard.source == "expected" or heard.confidence >= SURE
    said = Said(
        turn.text[:MAX_TEXT],
        turn.inbound.command,
        turn.choice,
        "" if turn.choice else turn.inbound.key,
        heard_surely=believed,
        nearest=() if believed or heard is None else nearest(heard, turn),
    )
    dialogue, hours = _dialogue(turn)
    state = turn.state
    asks = state.revision == turn.revision and state.asks(turn.clock)
    if asks and state.wished is not None and (answer := _of_wish(turn, state.wished)) is not None:
        return answer
    open_, meant = (state.open, state.meant) if asks else (None, None)
    found = dialogue.understand(
        said,
        open_.as_core() if open_ else None,
        Meant(tuple(meant.routes), meant.text) if meant else None,
        tuple(state.offered) if asks else (),
        more=bool(state.more) and asks,
    )
    found, instead = _redone(found, turn, dialogue)
    if found.declined and turn.assistant.answers_questions:
        found, instead = replace(found, outcome="reply"), found.declined
    found = _with_quoted(found, turn, dialogue)
    routed = _routed(_closed(found, turn, hours))
    return routed.model_copy(update={"instead": instead}) if instead else routed


def _of_files(turn: TurnSoFar) -> Routed:
    """Where a message goes that is nothing but pictures or files."""
    takes, because = turn.assistant.accepts_files, "it is a file without words"
    if takes is not None and takes.route is not None:
        dialogue, hours = _dialogue(turn)
        found = dialogue.begin(takes.route, {}, "", because)
        return _routed(_closed(found, turn, hours)).model_copy(update={"by": "rule"})
    return Routed(route=FALLBACK, by="rule", sure=True, because=because)


def _dialogue(turn: TurnSoFar) -> tuple[Dialogue, Hours | None]:
    """What decides what the turn means, and when somebody is there."""
    spec = turn.assistant.hours
    hours = spec.hours() if spec is not None else None
    now = turn.clock.astimezone(hours.zone) if hours is not None else turn.clock
    judge = _judge(turn)
    return Dialogue(turn.router, lambda name: slots_of(turn, name), now, judge, hours), hours


def led_to(turn: TurnSoFar, route: str, slots: Mapping[str, Any]) -> Routed:
    """Where a turn goes that an engine sent to a route, with the slots that it gave: they are read
    and judged as if they had been said."""
    dialogue, hours = _dialogue(turn)
    found = dialogue.begin(route, slots, turn.text, "the engine chose it for what was said")
    return _routed(_closed(found, turn, hours))


def _of_wish(turn: TurnSoFar, wished: WishedCall) -> Routed | None:
    """What the answer to whether a function should be called means; None where it is none."""
    language = turn.router.language
    tokens = language.writing.spoken_tokens(turn.text[:200])
    parse = match(language.types.builtin_grammar(), "boolean", tokens)
    if parse is None:
        return None
    named = f"the question whether to call {wished.name}"
    if parse.literal == "no":
        return Routed(
            route=wished.route, by="slot", sure=True, because=f"it was no to {named}",
            outcome="never-mind",
        )  # fmt: skip
    return Routed(
        route=wished.route, by="slot", sure=True, because=f"it was yes to {named}",
        confirmed=wished, instead=wished.question,
    )  # fmt: skip


def _with_quoted(found: Understood, turn: TurnSoFar, dialogue: Dialogue) -> Understood:
    """Where the words alone lead nowhere and quote somebody's message, what that and they mean
    together."""
    quoted = turn.inbound.quoted
    lost = found.decision.route in (FALLBACK, DID_YOU_MEAN) and found.outcome in (
        "reply", "did-you-mean"
    )  # fmt: skip
    if not lost or quoted is None or quoted.ours or not quoted.text:
        return found
    together = dialogue.understand(Said(f"{quoted.text}\n{turn.text}"[:MAX_TEXT]), None)
    if together.decision.route in (FALLBACK, DID_YOU_MEAN):
        together = dialogue.understand(Said(quoted.text), None)
    if together.decision.route in (FALLBACK, DID_YOU_MEAN):
        return found
    because = f"{together.decision.because}; with the message that it quotes"
    return replace(together, decision=replace(together.decision, because=because))


def _redone(found: Understood, turn: TurnSoFar, dialogue: Dialogue) -> tuple[Understood, str]:
    """What "answer again" means: the last question anew, and its words, where asking it twice
    changes nothing; else the last answer once more."""
    if found.outcome != "redo":
        return found, ""
    last = next((each.said for each in reversed(turn.state.recent) if each.said), "")
    if not last:
        return replace(found, outcome="again"), ""
    anew = dialogue.understand(Said(last), None)
    spec = turn.assistant.spec(anew.decision.route)
    if anew.outcome != "reply" or (spec.logic and not spec.safe) or spec.then:
        return replace(found, outcome="again"), ""
    because = f"{anew.decision.because}; it was asked again"
    return replace(anew, decision=replace(anew.decision, because=because)), last


def _closed(found: Understood, turn: TurnSoFar, hours: Hours | None) -> Understood:
    """Outside of the assistant's hours, what is said in their place: nothing stays open then."""
    if hours is None or hours.is_open(turn.clock):
        return found
    route = turn.assistant.route(found.decision.route)
    words = turn.assistant.operator_closed if found.outcome == "operator" else ""
    if route is not None and found.outcome in ("reply", "ask", "confirm"):
        words = route.closed
    if not words:
        return found
    decision = replace(found.decision, because=f"{found.decision.because}; it is out of hours")
    if found.outcome == "operator":
        decision = replace(decision, route=FALLBACK)
    return Understood(decision, "closed")


def nearest(heard: Heard, turn: TurnSoFar) -> tuple[str, ...]:
    """What of all that is expected a sound may have been, as it is written: one phrase, or two."""
    writing = turn.router.language.writing
    names = expected_of(turn).names
    return tuple(
        writing.written_text(text.split(), names).rstrip(".")
        for text in offered(heard.alternatives)
    )


def _leaves_it(turn: TurnSoFar) -> bool:
    """Whether somebody who was to say a message says that they will not."""
    language = turn.router.language
    meant = language.intent_of(language.writing.spoken_tokens(turn.text[:200]))
    return meant in ("never-mind", "goodbye", "operator") or bool(turn.inbound.command)


def slots_of(turn: TurnSoFar, name: str) -> Sequence[Slot]:
    """The slots of a route, as the machine takes them."""
    found = turn.assistant.route(name)
    return [spec.slot(slot) for slot, spec in found.slots.items()] if found else []


def _judge(turn: TurnSoFar) -> Any:
    from fond_echo.answers.values import template_values

    def of_route(name: str) -> Judge:
        found = turn.assistant.route(name)

        def judge(slot: str, value: Any, others: Mapping[str, Any]) -> str:
            spec = found.slots[slot] if found else None
            if spec is not None and spec.kind == "text" and len(value) > spec.max_characters:
                return turn.assistant.says.text("too-long", most=str(spec.max_characters))
            for wanted in spec.conditions if spec else []:
                values = {**template_values(turn), "value": value, "slots": {**others, slot: value}}
                if compile_template(wanted.condition).render(values) not in (
                    True,
                    "True",
                    "true",
                    "yes",
                ):
                    return str(compile_template(wanted.message).render(values))
            return ""

        return judge

    return of_route


def _routed(found: Understood) -> Routed:
    decision = found.decision
    return Routed(
        route=decision.route,
        by=decision.by,
        sure=decision.sure,
        because=decision.because,
        confidence=decision.confidence,
        needed=decision.needed,
        scores=[
            RouteScore(
                route=each.route,
                score=each.score,
                because=each.because,
                confidence=each.confidence,
            )
            for each in decision.scores[:20]
        ],
        outcome=found.outcome,
        slots=dict(found.slots),
        open=found.open.as_json() if found.open else None,
        offered=list(found.offered),
        slot=found.slot,
        why=found.why,
        requested=Asked(routes=list(found.meant.routes), text=found.meant.text)
        if found.meant
        else None,
    )
