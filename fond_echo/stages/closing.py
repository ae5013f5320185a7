"""What a turn leaves behind: the conversation's state, what is remembered, who answers next."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, field
from datetime import datetime, timedelta
from typing import Any

from fond_echo.contract.reply import Announce, Ask, End, HandOver, RecordMessage, Reply, Transfer
from fond_echo.stages.turn import TurnSoFar

OPEN = timedelta(hours=12)
"""In a chat, a question may be answered so much later."""

RECENT = 6
"""So many of the last turns are kept for templates and business logic."""

MAX_CHARACTERS = 500
"""Characters of each of them."""

_OF_DIALOGUE = ("open", "meant", "since", "revision", "recording", "transfer")


@dataclass(frozen=True)
class Closing:
    """What is written down with the end of a turn.

    `remember` holds (facts, days) of each part of the reply. `undo` puts state and memory back to
    where they were before the last turn. `announce` is said in a conference room.
    """

    state: dict[str, Any]
    remember: list[tuple[dict[str, Any], int]] = field(default_factory=list)
    hand_over: bool = False
    undo: bool = False
    announce: Announce | None = None


def fresh(state: Mapping[str, Any], now: datetime) -> bool:
    """Whether what was asked may still be answered."""
    since = state.get("since")
    return bool(since) and now - datetime.fromisoformat(str(since)) < OPEN


def pinned(state: Mapping[str, Any], live: str, now: datetime) -> str:
    """The revision that a turn is worked with: the one that asked, while its question is open."""
    return str(state["revision"]) if state.get("open") and fresh(state, now) else live


def closing_of(turn: TurnSoFar) -> Closing:
    """What a turn that was answered leaves behind."""
    parts = turn.answered.parts if turn.answered else []
    state = {name: value for name, value in turn.state.items() if name not in _OF_DIALOGUE}
    state["choices"] = [choice.value for part in parts for choice in part.choices]
    variables = {**state.get("variables", {})}
    for part in parts:
        variables |= part.variables
    state["variables"] = {name: value for name, value in variables.items() if value is not None}
    outcome = turn.routed.outcome if turn.routed else ""
    said = " ".join(part.text or part.spoken for part in parts)
    if turn.text or said:
        mine = "" if turn.standing == "operator" else turn.text
        exchange = {"said": mine[:MAX_CHARACTERS], "answered": said[:MAX_CHARACTERS]}
        state["recent"] = [*state.get("recent", []), exchange][-RECENT:]
    if parts and outcome != "again":
        state["last"] = _last(parts)
    written = _written(turn)
    if written:
        state["written"] = written
    state |= _dialogue(turn, parts)
    state |= _next(turn, parts)
    if any(isinstance(part.then, End) for part in parts):
        names = ("recent", "last", "written", "assistant")
        kept = {name: state[name] for name in names if name in state}
        state = {"recent": [], "last": None} | kept | {"ended": True}
    remember = [(part.remember, part.remember_days) for part in parts if part.remember]
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
        undo=outcome == "undo",
        announce=next((p.then for p in parts if isinstance(p.then, Announce)), None),
    )


def _next(turn: TurnSoFar, parts: list[Reply]) -> dict[str, Any]:
    """What a part asks to be done after it was said."""
    for part in parts:
        match part.then:
            case Transfer(to=to) if turn.in_call:
                return {"transfer": to}
            case RecordMessage(max_seconds=seconds):
                since = turn.clock.isoformat()
                route = turn.routed.route if turn.routed else ""
                return {"recording": {"route": route, "seconds": seconds, "since": since}}
    return {}


def _last(parts: list[Reply]) -> dict[str, Any]:
    """The answer as it would be given again, without what it did."""
    return Reply(
        text="\n\n".join(part.text for part in parts if part.text)[:20_000],
        spoken=" ".join(part.spoken for part in parts if part.spoken)[:20_000],
        choices=[choice for part in parts for choice in part.choices][:20],
        attachments=[each for part in parts for each in part.attachments][:10],
        then=parts[-1].then if not any(p.text or p.spoken or p.choices for p in parts) else None,
    ).model_dump(mode="json")


def _written(turn: TurnSoFar) -> str:
    """The network's id of the last text that went out: what a later reply may rewrite."""
    delivered = turn.delivered.parts if turn.delivered else []
    texts = [part for part in delivered if part.kind in ("text", "choices", "edit")]
    return texts[-1].external_id if texts else ""


def _dialogue(turn: TurnSoFar, parts: list[Reply]) -> dict[str, Any]:
    """What is open until the next turn."""
    routed = turn.routed
    if routed is None:
        return {}
    open_ = routed.open
    asked = next((part.then for part in parts if isinstance(part.then, Ask)), None)
    route = turn.assistant.route(routed.route)
    if asked is not None and route is not None and asked.slot in route.slots:
        filled = {name: [v, ""] for name, v in routed.slots.items() if name != asked.slot}
        open_ = {
            "route": routed.route,
            "filled": filled,
            "asking": asked.slot,
            "confirming": False,
            "tries": 0,
        }
    if open_ is None and routed.asked is None:
        return {}
    return {
        "open": open_,
        "meant": routed.asked.model_dump() if routed.asked else None,
        "since": turn.clock.isoformat(),
        "revision": turn.revision,
    }
