"""What a turn leaves behind: the conversation's state, what is remembered, who answers next."""

from __future__ import annotations

from dataclasses import dataclass, field
from datetime import timedelta
from typing import Any

from fond_echo.contract.logic import Exchange
from fond_echo.contract.reply import (
    MAX_ELEMENTS,
    Announce,
    Ask,
    End,
    HandOver,
    RecordMessage,
    Reply,
    Transfer,
    elements_of,
)
from fond_echo.turns.state import ConversationState, Done, OpenSlots, Recording
from fond_echo.turns.turn import TurnSoFar

RECENT = 6
"""So many of the last turns are kept for templates and business logic."""

MAX_CHARACTERS = 500
"""Characters of each of them."""


@dataclass(frozen=True)
class Closing:
    """What is written down with the end of a turn.

    `remember` holds (facts, days) of each part of the reply. `undo` puts state and memory back to
    where they were before the last turn. `announce` is said in a conference room. `opted_out` is
    whether the person said that they do not want to be written to first, or do again.
    """

    state: ConversationState
    remember: list[tuple[dict[str, Any], int]] = field(default_factory=list)
    hand_over: bool = False
    undo: bool = False
    announce: Announce | None = None
    opted_out: bool | None = None


def closing_of(turn: TurnSoFar) -> Closing:
    """What a turn that was answered leaves behind."""
    parts = turn.answered.final if turn.answered else []
    before = turn.state
    variables = dict(before.variables)
    for part in parts:
        variables |= part.variables
    state = ConversationState(
        choices=[choice.value for part in parts for choice in part.choices],
        variables={name: value for name, value in variables.items() if value is not None},
        recent=_recent(turn, parts),
        last=before.last,
        assistant=before.assistant,
        brief=turn.answered.briefs[-1] if turn.answered and turn.answered.briefs else before.brief,
    )
    if turn.in_call and turn.no_match:
        state.not_understood = before.not_understood + 1
    outcome = turn.routed.outcome if turn.routed else ""
    if parts and outcome != "again":
        state.last = _last(parts)
    if any(isinstance(part.then, End) for part in parts):
        state.choices, state.variables, state.brief, state.ended = [], {}, "", True
    else:
        _ask(state, turn, parts)
        _next(state, turn, parts)
    wanted = next((p.then for p in parts if isinstance(p.then, Announce)), None)
    if wanted is not None:
        state.announced_at = turn.clock + timedelta(seconds=wanted.after)
    remember = [(part.remember, part.remember_days) for part in parts if part.remember]
    state.done = _done(turn, outcome)
    if outcome in ("start-over", "forget-me"):
        # Nothing of the talk is left to later turns, or to business logic.
        state = ConversationState(assistant=before.assistant)
    if outcome == "forget-me":
        remember = [(dict.fromkeys(turn.memory), 0)]
    return Closing(
        state,
        remember,
        hand_over=any(
            isinstance(part.then, HandOver)
            or (isinstance(part.then, Transfer) and not turn.in_call)
            for part in parts
        ),
        undo=outcome == "undo" and state.done is None,
        announce=wanted,
        opted_out={"stop-writing": True, "write-again": False}.get(outcome),
    )


def _done(turn: TurnSoFar, outcome: str) -> Done | None:
    """What the turn changed elsewhere; where it was to take back what nothing does, that still."""
    routed = turn.routed
    if outcome == "undo":
        before = turn.state.done
        if turn.state.announces(turn.clock):
            return None
        return before if before is not None and not before.undo else None
    if routed is None or outcome not in ("reply", "recorded") or turn.answered is None:
        return None
    spec = turn.assistant.spec(routed.route)
    if not spec.logic or spec.safe or turn.answered.apology_for:
        return None
    return Done(route=routed.route, slots=routed.slots, undo=spec.undo)


def _recent(turn: TurnSoFar, parts: list[Reply]) -> list[Exchange]:
    # That something went wrong is no answer that an engine should take for its own.
    apologized = turn.answered is not None and bool(turn.answered.apology_for)
    said = "" if apologized else " ".join(part.written for part in parts)
    if not (turn.text or said):
        return turn.state.recent
    mine = "" if turn.standing in ("operator", "late") else turn.text
    exchange = Exchange(said=mine[:MAX_CHARACTERS], answered=said[:MAX_CHARACTERS])
    return [*turn.state.recent, exchange][-RECENT:]


def _next(state: ConversationState, turn: TurnSoFar, parts: list[Reply]) -> None:
    """What a part asks to be done after it was said."""
    for part in parts:
        match part.then:
            case Transfer(to=to) if turn.in_call:
                state.transfer = to
                return
            case RecordMessage(max_seconds=seconds):
                route = turn.routed.route if turn.routed else ""
                state.recording = Recording(route=route, seconds=seconds, since=turn.clock)
                return


def _last(parts: list[Reply]) -> Reply:
    """The answer as it would be given again, without what it did."""
    elements = elements_of(parts)
    said = any(part.text or part.spoken for part in parts) or any(elements.values())
    return Reply(
        text="\n\n".join(part.text for part in parts if part.text)[:20_000],
        spoken=" ".join(part.spoken for part in parts if part.spoken)[:20_000],
        attachments=[each for part in parts for each in part.attachments][:10],
        **{name: found[:MAX_ELEMENTS] for name, found in elements.items()},
        then=None if said else parts[-1].then,
    )


def _ask(state: ConversationState, turn: TurnSoFar, parts: list[Reply]) -> None:
    """What is open until the next turn."""
    routed = turn.routed
    if routed is None:
        return
    open_ = OpenSlots.model_validate(routed.open) if routed.open else None
    requested = next((part.then for part in parts if isinstance(part.then, Ask)), None)
    route = turn.assistant.route(routed.route)
    if requested is not None and route is not None and requested.slot in route.slots:
        filled = {name: (v, "") for name, v in routed.slots.items() if name != requested.slot}
        open_ = OpenSlots(route=routed.route, filled=filled, asking=requested.slot)
    state.more = parts[-1].more if parts and turn.heard_only else ""
    if state.more:
        state.since, state.revision = turn.clock, turn.revision
    wished = turn.answered.wished if turn.answered else None
    if wished is not None:
        state.wished, state.since, state.revision = wished, turn.clock, turn.revision
    if open_ is not None or routed.requested is not None or routed.offered:
        state.open, state.meant, state.offered = open_, routed.requested, routed.offered
        state.since, state.revision = turn.clock, turn.revision
