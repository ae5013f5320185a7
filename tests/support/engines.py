"""The provider in this process, and engines that are connected to it by the demo's own files."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from importlib import resources
from typing import Any

import httpx
import uvicorn

from fond_echo.connectors.breaker import Breaker
from fond_echo.connectors.guard import guarded_client
from fond_echo.connectors.secrets import Secret, Vault
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip, join
from fond_echo.engines.connected import ConnectedEngines
from fond_echo.engines.described import DescribedEngine
from fond_echo.engines.order import Connected, EngineOrder
from fond_echo.speech.material import synthesizer
from fond_echo.standins.providers.app import create_app
from tests.support.world import LocalSpeech, PlainDecoder

BASE = "http://gannet.test"
WORD = "a-word-that-gannet-knows"
VAULT = Vault({"gannet-pass": Secret("gannet-pass", WORD, frozenset(("gannet.test",)))})

ONE_ROUTE = """\
engines: {answer: [harbour-mind]}
logic:
  timetable: {url: "http://127.0.0.1:1/logic", key: {secret: timetable-mark}}
routes:
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: Four pounds.}
fallback:
  reply:
    free: true
"""
"""Of an assistant: an engine that answers, business logic, one route, and all else free."""


def engine_file(name: str) -> str:
    return (resources.files("fond_echo.demo") / "engines" / f"{name}.yaml").read_text("utf-8")


class Gannet:
    """The provider, and a client that reaches nothing else."""

    def __init__(self, **fields: Any) -> None:
        self.base, self.vault = BASE, VAULT
        self.app = create_app(WORD, **fields)
        self.client = httpx.AsyncClient(transport=httpx.ASGITransport(self.app))
        self.connected = ConnectedEngines(self.client, PlainDecoder())

    @classmethod
    def at(cls, place: str, client: httpx.AsyncClient) -> Gannet:
        """The provider at a host and port."""
        found = cls.__new__(cls)
        found.base, found.client = f"http://{place}", client
        found.connected = ConnectedEngines(client, PlainDecoder())
        found.vault = Vault({"gannet-pass": Secret("gannet-pass", WORD, frozenset((place,)))})
        return found

    def engine(self, name: str, *changes: tuple[str, str]) -> DescribedEngine:
        text = engine_file(name)
        for old, new in changes:
            assert old in text, old
            text = text.replace(old, new)
        return self.connected.make(text, f"{name}.yaml", {"base": self.base}, self.vault.apart())

    async def fault(self, path: str, fault: str | None, times: int = -1) -> None:
        given = {"path": path, "fault": fault, "times": times}
        (await self.client.put(f"{self.base}/faults", json=given)).raise_for_status()

    def order(self, kind: Any, *names: str, built_in: Any = None, **spent: float) -> EngineOrder:
        """An order of engines of the demo; what is not there is built in."""
        connected = {
            name: Connected(self.engine(name), Breaker(), spent.get(name.replace("-", "_"), 0.0))
            for name in names
            if name not in ("built-in", "nobody")
        }
        return EngineOrder({kind: names}, connected, lambda kind, name: built_in)


@asynccontextmanager
async def gannet_on_loopback(**fields: Any) -> AsyncIterator[Gannet]:
    """The provider at a port, for what needs a socket."""
    config = uvicorn.Config(create_app(WORD, **fields), port=0, log_level="error", lifespan="off")
    server = uvicorn.Server(config)
    server.install_signal_handlers = lambda: None  # type: ignore[method-assign]
    running = asyncio.create_task(server.serve())
    try:
        for _ in range(500):
            if server.started:
                break
            await asyncio.sleep(0.02)
        place = f"127.0.0.1:{server.servers[0].sockets[0].getsockname()[1]}"
        async with guarded_client([place]) as client:
            yield Gannet.at(place, client)
    finally:
        server.should_exit = True
        await running


class Built:
    """Our own engine's place, without its work."""

    async def transcribe(self, clip: Clip, expected: Any, **_: Any) -> Heard:
        return Heard(spoken="by ourselves", written="By ourselves.", confidence=0.5,
                     source="dictation")  # fmt: skip

    async def speak(self, text: str, voice: str, **_: Any) -> Any:
        async for part in LocalSpeech().speak(text, "petrel", seed=1):
            yield part


def said(text: str, voice: str = "curlew") -> Clip:
    return join([part.clip for part in synthesizer().speak(text, voice)])
