"""What templates of an assistant's file may ask for."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from fond_echo.documents.assistant import AssistantFile
from fond_echo.turns.turn import TurnSoFar


def template_values(turn: TurnSoFar) -> dict[str, Any]:
    """What templates of an assistant file may ask for."""
    return {
        "turn": {
            "text": turn.text,
            "arrived_as": turn.inbound.arrived_as,
            "number": turn.number,
            "quoted": turn.inbound.quoted.text if turn.inbound.quoted is not None else "",
        },
        "slots": turn.routed.slots if turn.routed else {},
        "contact": {"name": turn.contact_name, "id": turn.contact_id, "channel": turn.channel},
        "memory": turn.memory,
        "variables": turn.state.variables,
        "conversation": {"recent": [each.model_dump() for each in turn.state.recent]},
        "now": turn.clock,
        "hours": hours_at(turn.assistant, turn.clock),
        "reply": {},
    }


def hours_at(assistant: AssistantFile, now: datetime) -> dict[str, Any]:
    """Whether somebody is there (always, where the assistant has no hours); and when next: the time
    and the date, empty where that is not within a month."""
    spec = assistant.hours
    if spec is None:
        return {"open": True, "opens_at": "", "opens_on": ""}
    hours = spec.hours()
    opens = hours.next_open(now)
    return {
        "open": hours.is_open(now),
        "opens_at": f"{opens:%H:%M}" if opens else "",
        "opens_on": f"{opens:%Y-%m-%d}" if opens else "",
    }
