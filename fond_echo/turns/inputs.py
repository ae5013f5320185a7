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
            return {"sound": turn.inbound.sound.model_dump()} if turn.inbound.sound else {}
        case "decode":
            return {"clip": turn.fetched.clip.id} if turn.fetched else {}
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
