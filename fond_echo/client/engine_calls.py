"""Engines: the calls of the API, for both clients."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar

from fond_echo.client.call import Call, nothing, shape_of
from fond_echo.contract.bench import BenchAnswer, BenchDetail, BenchIn, BenchOut, DifferenceOut
from fond_echo.contract.engine import EngineIn, EngineOut, EngineTrialIn, EngineTrialOut

Answer = TypeVar("Answer")


def engines() -> Call[list[EngineOut]]:
    return Call("GET", "/api/engines", shape_of(list[EngineOut]))


def engine(name: str) -> Call[EngineOut]:
    return Call("GET", f"/api/engines/{name}", shape_of(EngineOut))


def put_engine(name: str, given: EngineIn) -> Call[EngineOut]:
    return Call("PUT", f"/api/engines/{name}", shape_of(EngineOut), given.model_dump())


def delete_engine(name: str) -> Call[None]:
    return Call("DELETE", f"/api/engines/{name}", nothing)


def try_engine(name: str, given: EngineTrialIn) -> Call[EngineTrialOut]:
    return Call("POST", f"/api/engines/{name}/trials", shape_of(EngineTrialOut), given.model_dump())


def benches() -> Call[list[BenchOut]]:
    return Call("GET", "/api/benches", shape_of(list[BenchOut]))


def bench(name: str) -> Call[BenchDetail]:
    return Call("GET", f"/api/benches/{name}", shape_of(BenchDetail))


def put_bench(name: str, given: BenchIn) -> Call[BenchOut]:
    return Call("PUT", f"/api/benches/{name}", shape_of(BenchOut), given.model_dump())


def add_bench_answers(name: str, answers: Sequence[BenchAnswer]) -> Call[None]:
    body = [each.model_dump() for each in answers]
    return Call("POST", f"/api/benches/{name}/answers", nothing, body)


def compare_engines(name: str, first: str, second: str, other: str) -> Call[DifferenceOut]:
    query = {"first": first, "second": second, "other": other}
    path = f"/api/benches/{name}/differences"
    return Call("GET", path, shape_of(DifferenceOut), query=query)


def delete_bench(name: str) -> Call[None]:
    return Call("DELETE", f"/api/benches/{name}", nothing)
