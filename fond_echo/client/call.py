"""A call of the API: what is sent, and how its answer is read."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any, Generic, TypeVar

import httpx
from pydantic import TypeAdapter, ValidationError

from fond_echo.client.errors import Refused, Unreachable
from fond_echo.contract.api import Problem

Answer = TypeVar("Answer")


@dataclass(frozen=True)
class Call(Generic[Answer]):
    """One call: a request, and the reading of its answer."""

    method: str
    path: str
    read: Callable[[httpx.Response], Answer]
    json: Any = None
    content: bytes | None = None
    query: Mapping[str, str | int | Sequence[str]] = field(default_factory=dict)

    def finish(self, response: httpx.Response) -> Answer:
        """Raises Refused for a problem."""
        if response.status_code >= 400:
            raise Refused(_problem(response))
        return self.read(response)


def _problem(response: httpx.Response) -> Problem:
    try:
        return Problem.model_validate_json(response.content)
    except ValidationError:
        return Problem(
            type="about:blank",
            title=f"The service answered {response.status_code}",
            status=response.status_code,
        )


def shape_of(of: type[Answer]) -> Callable[[httpx.Response], Answer]:
    """The reading of an answer in a shape."""
    adapter: TypeAdapter[Answer] = TypeAdapter(of)
    return lambda response: adapter.validate_json(response.content)


def nothing(response: httpx.Response) -> None:
    """The reading of an answer without a body."""


def unreachable(address: str, error: httpx.HTTPError) -> Unreachable:
    """The error for a connection that failed."""
    reason = str(error) or type(error).__name__
    return Unreachable(
        f"no answer from {address}: {reason}", remedy="is it running? fond-echo serve"
    )
