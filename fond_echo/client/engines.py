"""Outside engines: the calls, and what both clients have for them."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar

from fond_echo.client.call import Call, nothing, shape_of
from fond_echo.contract.bench import BenchAnswer, BenchDetail, BenchIn, BenchOut, DifferenceOut
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


def _benches() -> Call[list[BenchOut]]:
    return Call("GET", "/api/benches", shape_of(list[BenchOut]))


def _bench(name: str) -> Call[BenchDetail]:
    return Call("GET", f"/api/benches/{name}", shape_of(BenchDetail))


def _put_bench(name: str, given: BenchIn) -> Call[BenchOut]:
    return Call("PUT", f"/api/benches/{name}", shape_of(BenchOut), given.model_dump())


def _add_bench_answers(name: str, answers: Sequence[BenchAnswer]) -> Call[None]:
    body = [each.model_dump() for each in answers]
    return Call("POST", f"/api/benches/{name}/answers", nothing, body)


def _compare_engines(name: str, first: str, second: str, other: str) -> Call[DifferenceOut]:
    query = {"first": first, "second": second, "other": other}
    path = f"/api/benches/{name}/differences"
    return Call("GET", path, shape_of(DifferenceOut), query=query)


def _delete_bench(name: str) -> Call[None]:
    return Call("DELETE", f"/api/benches/{name}", nothing)


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

    def benches(self) -> list[BenchOut]:
        """All benches, the latest first, each with its engines ranked."""
        return self.make(_benches())

    def bench(self, name: str) -> BenchDetail:
        """A bench with every answer, word by word."""
        return self.make(_bench(name))

    def put_bench(self, name: str, given: BenchIn) -> BenchOut:
        """Begin a bench, or go on with it."""
        return self.make(_put_bench(name, given))

    def add_bench_answers(self, name: str, answers: Sequence[BenchAnswer]) -> None:
        """Put down what engines made of files."""
        return self.make(_add_bench_answers(name, answers))

    def compare_engines(self, name: str, first: str, second: str, other: str = "") -> DifferenceOut:
        """Two engines of a bench on the same files, or one in two benches."""
        return self.make(_compare_engines(name, first, second, other))

    def delete_bench(self, name: str) -> None:
        """Delete a bench with all its answers."""
        return self.make(_delete_bench(name))


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

    async def benches(self) -> list[BenchOut]:
        """All benches, the latest first, each with its engines ranked."""
        return await self.make(_benches())

    async def bench(self, name: str) -> BenchDetail:
        """A bench with every answer, word by word."""
        return await self.make(_bench(name))

    async def put_bench(self, name: str, given: BenchIn) -> BenchOut:
        """Begin a bench, or go on with it."""
        return await self.make(_put_bench(name, given))

    async def add_bench_answers(self, name: str, answers: Sequence[BenchAnswer]) -> None:
        """Put down what engines made of files."""
        return await self.make(_add_bench_answers(name, answers))

    async def compare_engines(
        self, name: str, first: str, second: str, other: str = ""
    ) -> DifferenceOut:
        """Two engines of a bench on the same files, or one in two benches."""
        return await self.make(_compare_engines(name, first, second, other))

    async def delete_bench(self, name: str) -> None:
        """Delete a bench with all its answers."""
        return await self.make(_delete_bench(name))
