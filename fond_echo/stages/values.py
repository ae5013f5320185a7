"""What templates of an assistant's file may ask for."""

from __future__ import annotations

from typing import Any

from fond_echo.stages.turn import TurnSoFar


def template_values(turn: TurnSoFar) -> dict[str, Any]:
    """What templates of an assistant file may ask for."""
    return {
        "turn": {"text": turn.text, "arrived_as": turn.inbound.arrived_as, "number": turn.number},
        "slots": turn.routed.slots if turn.routed else {},
        "contact": {"name": turn.contact_name, "id": turn.contact_id, "channel": turn.channel},
        "memory": turn.memory,
        "variables": turn.state.variables,
        "conversation": {"recent": [each.model_dump() for each in turn.state.recent]},
        "now": turn.clock,
        "reply": {},
    }
