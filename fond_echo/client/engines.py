"""Outside engines: the calls, and what both clients have for them."""

from __future__ import annotations

from typing import TypeVar

from fond_echo.client.call import Call, nothing, shape_of
from fond_echo.contract.engine import EngineIn, EngineOut, EngineTrialIn, EngineTrialOut

Answer = TypeVar("Answer")


def _engines() -> Call[list[EngineOut]]:
    return Call("GET", "/api/engines", shape_of(list[EngineOut]))


def _engine(name: str) -> Call[EngineOut]:
    return Call("GET", f"/api/engines/{name}", shape_of(EngineOut))


def _put_engine(name: str, given: EngineIn) -> Call[EngineOut]:
    return Call("PUT", f"/api/engines/{name}", shape_of(EngineOut), given.model_dump())


def _delete_engine(name: str) -> Call[None]:
    return Call("DELETE", f"/api/engines/{name}", nothing)


def _try_engine(name: str, given: EngineTrialIn) -> Call[EngineTrialOut]:
    return Call("POST", f"/api/engines/{name}/trials", shape_of(EngineTrialOut), given.model_dump())


class EngineCalls:
    """What a client has for it."""

    def make(self, call: Call[Answer]) -> Answer:
        """Make a call."""
        raise NotImplementedError

    def engines(self) -> list[EngineOut]:
        """All connected engines, with their last seven days."""
        return self.make(_engines())

    def engine(self, name: str) -> EngineOut:
        """One engine, with its last seven days."""
        return self.make(_engine(name))

    def put_engine(self, name: str, given: EngineIn) -> EngineOut:
        """Connect an engine, or change how it is asked."""
        return self.make(_put_engine(name, given))

    def delete_engine(self, name: str) -> None:
        """Disconnect an engine."""
        return self.make(_delete_engine(name))

    def try_engine(self, name: str, given: EngineTrialIn) -> EngineTrialOut:
        """Ask an engine once, outside of any turn."""
        return self.make(_try_engine(name, given))


class AsyncEngineCalls:
    """What a client has for it."""

    async def make(self, call: Call[Answer]) -> Answer:
        """Make a call."""
        raise NotImplementedError

    async def engines(self) -> list[EngineOut]:
        """All connected engines, with their last seven days."""
        return await self.make(_engines())

    async def engine(self, name: str) -> EngineOut:
        """One engine, with its last seven days."""
        return await self.make(_engine(name))

    async def put_engine(self, name: str, given: EngineIn) -> EngineOut:
        """Connect an engine, or change how it is asked."""
        return await self.make(_put_engine(name, given))

    async def delete_engine(self, name: str) -> None:
        """Disconnect an engine."""
        return await self.make(_delete_engine(name))

    async def try_engine(self, name: str, given: EngineTrialIn) -> EngineTrialOut:
        """Ask an engine once, outside of any turn."""
        return await self.make(_try_engine(name, given))
