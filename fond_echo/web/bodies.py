"""Bodies of requests: read no further than their limit, and no longer than they may take."""

from __future__ import annotations

import asyncio
import json
import re
from collections.abc import Callable, Coroutine, Iterator, MutableMapping
from typing import Any

from fastapi import APIRouter, Response
from fastapi.dependencies.models import Dependant
from fastapi.routing import APIRoute
from pydantic import BaseModel
from starlette.exceptions import HTTPException
from starlette.requests import Request
from starlette.types import ASGIApp, Message, Receive, Scope, Send

from fond_echo.documents.errors import nearest
from fond_echo.web.errors import NotUsable, TooLarge

IDLE_SECONDS = 10.0
"""How long the next piece of a body may take."""

WHOLE_SECONDS = 120.0
"""How long all of a body may take: 25 MB over 2 Mbit/s."""

MAX_BYTES = 32 * 2**20
"""What no body of any request may be over: long sound, or a folder of files."""

LIMITS = (
    ("/api/assistants", MAX_BYTES), ("/api/turns", MAX_BYTES), ("/api/benches", MAX_BYTES),
    ("/api/speech", MAX_BYTES), ("/api/engines", MAX_BYTES), ("/api/channels", MAX_BYTES),
    ("/api/clips", MAX_BYTES),
    ("/ask/", MAX_BYTES), ("/webhooks/", 20 * 2**20), ("/at/", 6 * 2**20),
)  # fmt: skip
"""By how an address begins; what is sent to others may have a few megabytes."""

FEW_BYTES = 4 * 2**20
UNKNOWN_BYTES = 64 * 2**10
"""Of a request to the API that comes with no key and no cookie: it is read before it is refused."""

STRICT = ("/api/", "/ask/")
"""Addresses of programs: a parameter that nothing takes is an error there."""

MAX_DEPTH = 100
TOO_DEEP = f"the body is nested more than {MAX_DEPTH} deep"


async def body_of(request: Request, most: int) -> bytes:
    """The body, read no further than the limit whatever it announces. Raises TooLarge."""
    announced = request.headers.get("content-length", "")
    if announced.isdecimal() and int(announced[:18]) > most:
        raise TooLarge(f"{int(announced[:18]):,} bytes are too many", remedy=f"at most {most:,}")
    body = bytearray()
    async for chunk in request.stream():
        body += chunk
        if len(body) > most:
            raise TooLarge(f"the body is over {most:,} bytes")
    return bytes(body)


class BoundedBodies:
    """Middleware: a request whose body does not come ends with 408, one without end with 413
    (RFC 9110 §15.5.9, §15.5.14)."""

    def __init__(self, app: ASGIApp) -> None:
        self._app = app

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "http":
            receive = _bounded(receive, max_bytes(scope))
        await self._app(scope, receive, send)


def max_bytes(scope: Scope) -> int:
    """How long the body of a request may be."""
    path = scope["path"]
    names = {name for name, _ in scope["headers"]}
    if path.startswith("/api/") and not names & {b"authorization", b"cookie"}:
        return UNKNOWN_BYTES
    return next((most for begin, most in LIMITS if path.startswith(begin)), FEW_BYTES)


def _bounded(receive: Receive, most: int) -> Receive:
    loop = asyncio.get_running_loop()
    deadline = loop.time() + WHOLE_SECONDS
    complete, size = False, 0

    async def bounded() -> Message:
        nonlocal complete, size
        if complete:
            # What comes now is only that the other side has gone.
            return await receive()
        try:
            async with asyncio.timeout_at(min(deadline, loop.time() + IDLE_SECONDS)):
                message: MutableMapping[str, Any] = await receive()
        except TimeoutError as error:
            raise HTTPException(408, "the body did not come in time") from error
        complete = not message.get("more_body", False)
        size += len(message.get("body", b""))
        if size > most:
            raise HTTPException(413, f"the body is over {most:,} bytes")
        return message

    return bounded


class _CheckedRequest(Request):
    async def json(self) -> Any:
        """The body, from JSON of UTF-8 (RFC 8259 §8.1), not nested deeper than MAX_DEPTH, and
        without halves of surrogate pairs. Raises NotUsable."""
        try:
            document = json.loads((await self.body()).decode())
            checked(document)
        except UnicodeDecodeError as error:
            raise NotUsable("the body is not UTF-8", remedy="send JSON in UTF-8") from error
        except RecursionError as error:
            raise NotUsable(TOO_DEEP, remedy="send it flatter") from error
        return document


def checked(value: Any, depth: int = 0) -> None:
    """Raises NotUsable for what has no UTF-8, or is nested too deeply."""
    if isinstance(value, str):
        if not value.isascii():
            try:
                value.encode()
            except UnicodeEncodeError as error:
                what = "a text holds half of a surrogate pair"
                raise NotUsable(what, remedy="send whole characters") from error
    elif isinstance(value, (dict, list)):
        if depth >= MAX_DEPTH:
            raise NotUsable(TOO_DEEP, remedy="send it flatter")
        if isinstance(value, dict):
            for key in value:
                checked(key)
        for each in value.values() if isinstance(value, dict) else value:
            checked(each, depth + 1)


def _parameters(dependant: Dependant) -> Iterator[str]:
    """The names of all query parameters that an operation takes."""
    for each in dependant.query_params:
        model = each.field_info.annotation
        if isinstance(model, type) and issubclass(model, BaseModel):
            yield from (info.alias or name for name, info in model.model_fields.items())
        else:
            yield each.alias
    for other in dependant.dependencies:
        yield from _parameters(other)


class _CheckedRoute(APIRoute):
    def get_route_handler(self) -> Callable[[Request], Coroutine[Any, Any, Response]]:
        handle = super().get_route_handler()
        known = set(_parameters(self.dependant))
        # Pages that anybody has a link to may get what others put behind it.
        strict = self.path.startswith(STRICT)

        async def checking(request: Request) -> Response:
            unknown = set(request.query_params) - known if strict else ()
            for name in sorted(unknown):
                raise NotUsable(f"there is no parameter {name!r} here", remedy=nearest(name, known))
            return await handle(_CheckedRequest(request.scope, request.receive))

        return checking


class CheckedRouter(APIRouter):
    """A router whose operations get JSON bodies that can be stored and written again."""

    def __init__(self, prefix: str = "", **more: Any) -> None:
        super().__init__(
            prefix=prefix,
            route_class=_CheckedRoute,
            generate_unique_id_function=operation_id,
            **more,
        )

    def add_api_route(self, path: str, endpoint: Callable[..., Any], **more: Any) -> None:
        """Add an operation; its summary is the first sentence of its docstring."""
        if more.get("summary") is None:
            more["summary"] = first_sentence(endpoint.__doc__ or "")
        super().add_api_route(path, endpoint, **more)


def operation_id(route: APIRoute) -> str:
    """What an operation is called in the OpenAPI document: `get-turn`."""
    return route.name.replace("_", "-")


def first_sentence(text: str) -> str:
    """The first sentence of a docstring, without its stop.

    >>> first_sentence("List all keys,\\n    without values. Revoked ones too.")
    'List all keys, without values'
    """
    plain = " ".join(text.split())
    return re.split(r"(?<=[a-z`)\]])[.;:](?: |$)", plain, maxsplit=1)[0]
