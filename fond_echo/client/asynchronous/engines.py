"""What the client does with engines."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar

from fond_echo.client import engine_calls
from fond_echo.client.call import Call
from fond_echo.contract.bench import BenchAnswer, BenchDetail, BenchIn, BenchOut, DifferenceOut
from fond_echo.contract.engine import EngineIn, EngineOut, EngineTrialIn, EngineTrialOut

Answer = TypeVar("Answer")


class AsyncEngineCalls:
    """What a client has for it."""

    async def make(self, call: Call[Answer]) -> Answer:
        """Make a call."""
        raise NotImplementedError

    async def engines(self) -> list[EngineOut]:
        """All connected engines, with their last seven days."""
        return await self.make(engine_calls.engines())

    async def engine(self, name: str) -> EngineOut:
        """One engine, with its last seven days."""
        return await self.make(engine_calls.engine(name))

    async def put_engine(self, name: str, given: EngineIn) -> EngineOut:
        """Connect an engine, or change how it is asked."""
        return await self.make(engine_calls.put_engine(name, given))

    async def delete_engine(self, name: str) -> None:
        """Disconnect an engine."""
        return await self.make(engine_calls.delete_engine(name))

    async def try_engine(self, name: str, given: EngineTrialIn) -> EngineTrialOut:
        """Ask an engine once, outside of any turn."""
        return await self.make(engine_calls.try_engine(name, given))

    async def benches(self) -> list[BenchOut]:
        """All benches, the latest first, each with its engines ranked."""
        return await self.make(engine_calls.benches())

    async def bench(self, name: str) -> BenchDetail:
        """A bench with every answer, word by word."""
        return await self.make(engine_calls.bench(name))

    async def put_bench(self, name: str, given: BenchIn) -> BenchOut:
        """Begin a bench, or go on with it."""
        return await self.make(engine_calls.put_bench(name, given))

    async def add_bench_answers(self, name: str, answers: Sequence[BenchAnswer]) -> None:
        """Put down what engines made of files."""
        return await self.make(engine_calls.add_bench_answers(name, answers))

    async def compare_engines(
        self, name: str, first: str, second: str, other: str = ""
    ) -> DifferenceOut:
        """Two engines of a bench on the same files, or one in two benches."""
        return await self.make(engine_calls.compare_engines(name, first, second, other))

    async def delete_bench(self, name: str) -> None:
        """Delete a bench with all its answers."""
        return await self.make(engine_calls.delete_bench(name))
