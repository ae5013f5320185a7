"""A scene of the tour: free answers. The engine chooses a route, books after a yes that is said,
and what it left to be filled in does not go out."""

from __future__ import annotations

import re
from collections.abc import Callable
from datetime import UTC, datetime, timedelta
from typing import TYPE_CHECKING

import httpx

from fond_echo.demo.outside import CHANNEL, asked_aloud

if TYPE_CHECKING:
    from fond_echo.client import FondEcho
    from fond_echo.demo.run import World

CONTACT = "sunniva"


def free_answers(
    echo: FondEcho, world: World, say: Callable[[str], None], problem: Callable[[str], None]
) -> None:
    """Four questions to the assistant with a language engine, which are checked.

    Args:
        say: where lines go.
        problem: takes each thing that went wrong.
    """
    day = datetime.now(UTC).date() + timedelta(days=3)
    with httpx.Client(trust_env=False, timeout=60.0) as client:
        for said, aloud, answer, route in (
            ("Who lets my nan cross without a ticket?", False, r"four pounds", "fares"),
            (f"Two of us cycle: 2 bicycle places to Pell on {day}", False,
             r"Shall I book 2 bicycle places to Pell", "fallback"),
            ("yes please", True, r"Booked: 2 bicycle places to Pell", "fallback"),
            ("From which berth do dogs sail on the Old Dunlin?", False, r"Two at most", "fallback"),
        ):  # fmt: skip
            found = (
                asked_aloud(client, world, said, CONTACT)
                if aloud
                else echo.ask(CHANNEL, said, CONTACT).model_dump()
            )
            turn = echo.turn(found["turn"])
            text = " ".join(delivery.text for delivery in turn.deliveries).replace("\n", " ")
            stages = {stage.name: stage.output or {} for stage in turn.runs[0].stages}
            output = stages.get("answer", {})
            say(f"   {'says' if aloud else 'types'}   {said}")
            if (led := output.get("routed")) is not None:
                say(f"   · the engine chose the route {led['route']}")
            if (verdict := output.get("verdict")) is not None:
                again = verdict["again"].replace("-", " ")
                say(f"   · judged: {verdict['kind']}{f', {again}' if again else ''}")
            say(f"   answer  {text}")
            if not re.search(answer, text):
                problem(f"free answers, {said!r}: the answer was {text!r}")
            if turn.route != route:
                problem(f"free answers, {said!r}: the route was {turn.route}, not {route}")
            if "[" in text:
                problem(f"free answers, {said!r}: {text!r} went out")
