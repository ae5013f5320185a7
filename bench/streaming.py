"""An answer that is streamed against one that comes whole: when the first sound of it is there; and
what an engine by connector costs beside the bare HTTP request.

The provider that ships with it runs on a port of this machine and thinks about every word for as
long as it is told; our own synthesizer speaks.

    python -m bench.streaming [--count 20] [--milliseconds 60]
"""

from __future__ import annotations

import asyncio
import threading
import time
from importlib import resources

import httpx
import uvicorn

from bench.report import options, percentile, show
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.core.audio.containers import Decoded, decode
from fond_echo.core.dialogue.free import FreeQuestion
from fond_echo.engines.connected import ConnectedEngines
from fond_echo.engines.described import Asking, DescribedEngine
from fond_echo.speech.material import synthesizer
from fond_echo.standins.providers.app import create_app
from fond_echo.store.local import free_port

WORD = "a-pass-for-a-benchmark"
PASSAGES = [
    {
        "source": "Handbook, Dogs",
        "text": "Dogs travel free of charge on all our boats. They stay on the open deck with their"
        " owner, and on a lead, for as long as the crossing lasts.",
    }
]
QUESTION = FreeQuestion(
    text="Do dogs travel free on boats, and where on deck do they stay?", brief="",
    language="en", passages=PASSAGES,
)  # fmt: skip


class _Decoder:
    async def decode(self, data: bytes) -> Decoded:
        return decode(data)


def first_sound(text: str) -> None:
    next(iter(synthesizer().speak(text, "dunlin")))


async def begun(engine: DescribedEngine, streamed: bool) -> float:
    """Seconds from the question to the first sound of its answer."""
    start, first = time.monotonic(), 0.0

    async def heard(sentence: str) -> None:
        nonlocal first
        if not first:
            await asyncio.to_thread(first_sound, sentence)
            first = time.monotonic() - start

    answer = await engine.answer(QUESTION, asking=Asking(), heard=heard if streamed else None)
    if not first:
        await asyncio.to_thread(first_sound, answer.text)
        first = time.monotonic() - start
    return first


async def measure(base: str, count: int) -> list[tuple[str, float, float]]:
    rows = []
    async with httpx.AsyncClient() as client:
        vault = Vault({"gannet-pass": Secret("gannet-pass", WORD, frozenset(("127.0.0.1",)))})
        engines = ConnectedEngines(client, _Decoder())
        files = resources.files("fond_echo.demo") / "engines"
        made = {
            name: engines.make((files / f"{name}.yaml").read_text(), name, {"base": base}, vault)
            for name in ("harbour-mind", "spare-mind")
        }
        for name, streamed, engine in (
            ("streamed", True, "harbour-mind"), ("whole", False, "spare-mind"),
        ):  # fmt: skip
            taken = [await begun(made[engine], streamed) for _ in range(count)]
            rows.append((f"first sound, {name}", percentile(taken, 0.5), percentile(taken, 0.95)))
    return rows


async def overhead(base: str, count: int) -> list[tuple[str, float, float]]:
    """The same question by an engine and by a bare client, in turns."""
    taken: dict[str, list[float]] = {"by the engine": [], "bare request": []}
    async with httpx.AsyncClient() as client:
        vault = Vault({"gannet-pass": Secret("gannet-pass", WORD, frozenset(("127.0.0.1",)))})
        text = (resources.files("fond_echo.demo") / "engines" / "spare-mind.yaml").read_text()
        engine = ConnectedEngines(client, _Decoder()).make(
            text.replace("limits: {", "limits: {rate: 10000, "), "spare-mind", {"base": base}, vault
        )
        body = {"words": QUESTION.text, "passages": PASSAGES, "most": 600}
        headers = {"Authorization": f"Bearer {WORD}"}
        for _ in range(count):
            start = time.monotonic()
            (await client.post(f"{base}/reflections", json=body, headers=headers)).json()
            middle = time.monotonic()
            await engine.answer(QUESTION, asking=Asking())
            taken["bare request"].append(middle - start)
            taken["by the engine"].append(time.monotonic() - middle)
    return [(name, percentile(v, 0.5), percentile(v, 0.95)) for name, v in taken.items()]


def provider(word_seconds: float) -> tuple[uvicorn.Server, str]:
    port = free_port()
    app = create_app(WORD, word_seconds=word_seconds)
    server = uvicorn.Server(uvicorn.Config(app, port=port, log_level="warning"))
    threading.Thread(target=server.run, daemon=True).start()
    while not server.started:
        time.sleep(0.02)
    return server, f"http://127.0.0.1:{port}"


def main() -> None:
    chosen = options(__doc__, count=20, milliseconds=60)
    first_sound("One.")
    server, base = provider(chosen.milliseconds / 1_000)
    rows = asyncio.run(measure(base, chosen.count))
    server.should_exit = True
    server, base = provider(0.0)
    rows += asyncio.run(overhead(base, 20 * chosen.count))
    server.should_exit = True
    shown = [(name, f"{p50 * 1_000:.1f}", f"{p95 * 1_000:.1f}") for name, p50, p95 in rows]
    title = f"free answers, {chosen.milliseconds} ms of thought a word; milliseconds"
    show(title, ("", "p50", "p95"), shown, chosen.json)


if __name__ == "__main__":
    main()
