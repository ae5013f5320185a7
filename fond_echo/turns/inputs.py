"""What is recorded of a stage's input, as far as it says more than the output of the one before."""

from __future__ import annotations

from typing import Any

from fond_echo.contract.turn import StageName
from fond_echo.turns.expected import expected_of
from fond_echo.turns.turn import TurnSoFar


def input_of(stage: StageName, turn: TurnSoFar) -> dict[str, Any]:
    """The facts a stage looked at, small enough to keep."""
    match stage:
        case "fetch":
            came = turn.inbound
            looked_at: dict[str, Any] = {}
            if came.sound:
                looked_at["sound"] = came.sound.model_dump()
            if came.files:
                looked_at["files"] = [each.model_dump() for each in came.files]
            return looked_at
        case "decode":
            sound = turn.fetched.clip if turn.fetched else None
            return {"clip": sound.id} if sound else {}
        case "transcribe":
            clip = turn.decoded.clip.id if turn.decoded else None
            return {"clip": clip, "expected": list(expected_of(turn).phrases)[:100]}
        case "route":
            return {"text": turn.text, "command": turn.inbound.command}
        case "answer":
            return {"route": turn.routed.route} if turn.routed else {"standing": turn.standing}
        case "speak":
            return {"voice": turn.assistant.voice}
        case "encode":
            return {"parts": len(turn.spoken.parts)} if turn.spoken else {}
        case _:
            return {}
