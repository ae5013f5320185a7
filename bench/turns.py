"""What a turn costs beside hearing and speaking, and how soon a webhook is answered.

The whole demo runs as for a person: PostgreSQL, web, work, speech, the stand-in network and the
timetable, all on this machine. Passengers ask in turn, by voice note and by text. A turn lasts
from its message's arrival to its answer's delivery; its overhead is what is left without the
stages transcribe and speak, and "ours" also leaves out waiting for the network and the logic.

    python -m bench.turns
"""

from __future__ import annotations

import tempfile
import time
from pathlib import Path
from typing import Any

import httpx

from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.contract.api import TurnDetail
from fond_echo.core.audio.clip import join
from fond_echo.core.audio.containers import encode
from fond_echo.demo import run as demo
from fond_echo.speech.material import synthesizer

QUESTION = "When is the next boat to Brannick?"


def ask(network: httpx.Client, note: bytes | None) -> dict[str, Any]:
    """Ask, and wait for the answer."""
    if note is None:
        answer = network.post("/people/isla/say", json={"words": QUESTION})
    else:
        answer = network.post("/people/isla/record", content=note)
    post: dict[str, Any] = answer.json()
    while True:
        found = network.get(f"/rooms/{post['room']}/posts", params={"after": post["number"]}).json()
        if any(each["sender"]["automated"] for each in found["posts"]):
            return post
        time.sleep(0.01)


def lengths(turn: TurnDetail) -> tuple[float, float, float]:
    """Seconds of a turn: all of it, its overhead, and our own part of that."""
    assert turn.finished_at is not None
    total = (turn.finished_at - turn.received_at).total_seconds()
    stages = turn.runs[0].stages
    speech = sum(stage.seconds for stage in stages if stage.name in ("transcribe", "speak"))
    outside = sum(stage.seconds for stage in stages if stage.name in ("fetch", "deliver"))
    logic = sum(stage.seconds for stage in stages if stage.name == "answer")
    return total, total - speech, total - speech - outside - logic


def spans(turns: list[TurnDetail]) -> list[tuple[str, float, float]]:
    """Of each stage in order, medians in milliseconds: when it begins after the message's arrival,
    and how long it takes; then when the turn has ended."""
    begins: dict[str, list[float]] = {}
    lasts: dict[str, list[float]] = {}
    for turn in turns:
        for stage in turn.runs[0].stages:
            after = (stage.started_at - turn.received_at).total_seconds()
            begins.setdefault(stage.name, []).append(1000 * after)
            lasts.setdefault(stage.name, []).append(1000 * stage.seconds)
    ends = [1000 * (t.finished_at - t.received_at).total_seconds() for t in turns if t.finished_at]
    rows = [(name, percentile(each, 0.5), percentile(lasts[name], 0.5)) for name, each in
            begins.items()]  # fmt: skip
    return [*sorted(rows, key=lambda row: row[1]), ("the end", percentile(ends, 0.5), 0.0)]


def main() -> None:
    chosen = options(__doc__, turns=40)
    parts = synthesizer().speak(QUESTION, "curlew")
    note = encode(join([part.clip for part in parts]), "ogg")
    rows = []
    where: list[tuple[str, float, float]] = []
    with tempfile.TemporaryDirectory(prefix="fond-echo-bench-") as folder:
        Path(folder).chmod(0o755)
        with demo.world(Path(folder) / "data") as world:
            network = httpx.Client(base_url=world.places.network, trust_env=False, timeout=60)
            with FondEcho(world.settings.address, world.key) as echo:
                for kind, sound in (("voice note", note), ("text", None)):
                    for _ in range(5):
                        ask(network, sound)
                    for _ in range(chosen.turns):
                        ask(network, sound)
                    time.sleep(1.0)
                    turns = [echo.turn(each.id) for each in echo.turns(limit=chosen.turns).items]
                    where += [(f"{kind}: {name}", *span) for name, *span in spans(turns)]
                    figures = list(zip(*(lengths(turn) for turn in turns), strict=True))
                    for name, values in zip(("whole", "overhead", "ours"), figures, strict=True):
                        milliseconds = [1000 * value for value in values]
                        p50, p95 = (percentile(milliseconds, share) for share in (0.5, 0.95))
                        rows.append((f"{kind}: {name}", p50, p95))
                reported = network.get("/told").json()["deliveries"]
                answers = [1000 * each["seconds"] for each in reported]
                rows.append(
                    ("webhook answered", percentile(answers, 0.5), percentile(answers, 0.95))
                )
    show(f"{chosen.turns} turns of each kind, ms", ("what", "p50", "p95"), rows, chosen.json)
    show("where their time goes, p50, ms", ("stage", "begins", "takes"), where)


if __name__ == "__main__":
    main()
