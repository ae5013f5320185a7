"""A scene of the tour: what people send beside words and sound."""

from __future__ import annotations

from collections.abc import Callable

import httpx

from fond_echo.contract.base import JsonObject
from fond_echo.standins.providers.drawing import draw

SENT = (
    ("umbrella.png", "image/png", "with Maren Aldous"),
    ("boat.mp4", "video/mp4", "cannot take files of that kind"),
)
"""Files, their media types, and what is answered."""


def pictured(
    client: httpx.Client,
    answers_to: Callable[[httpx.Client, JsonObject], list[JsonObject]],
    say: Callable[[str], None],
    problem: Callable[[str], None],
) -> None:
    """Send a picture that the assistant takes, and a film that it does not.

    Args:
        client: at the stand-in network.
        answers_to: gives the posts that answered one of ours.
        say: where lines go.
        problem: takes each thing that went wrong.
    """
    data = draw("a green umbrella")
    for name, kind, wanted in SENT:
        sent = client.post(
            "/people/sunniva/paper",
            params={"name": name},
            content=data,
            headers={"Content-Type": kind},
        )
        sent.raise_for_status()
        answers = answers_to(client, sent.json())
        words = answers[0].get("words", "") if answers else "nothing"
        say(f"   sent    {name}, {kind}, {len(data):,} bytes\n   answer  {words}")
        if wanted not in words:
            problem(f"Sunniva sends {name}: the answer was {words!r}")
