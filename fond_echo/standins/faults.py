"""What can go wrong with an outside service, switched on from outside: PUT /faults with a path,
a fault and how many times. Of a chat network, `messages` is the path by which it tells of
messages: these can come twice or late."""

from __future__ import annotations

import asyncio
from dataclasses import dataclass, field
from typing import Literal

from fastapi import FastAPI, Request
from fastapi.responses import JSONResponse, Response
from starlette.types import ASGIApp, Message, Receive, Scope, Send

Fault = Literal[
    "slow", "busy", "broken", "cut", "garbage", "empty", "truncated", "wrong-type", "duplicate",
    "late",
]  # fmt: skip
MESSAGES = "messages"
LATE_SECONDS = 6.0
SLOW_SECONDS = 30.0
REST_SECONDS = 7


@dataclass
class Faults:
    """Which path has which fault, and how many times yet; −1 is for ever."""

    of: dict[str, tuple[Fault, int]] = field(default_factory=dict)

    def set(self, path: str, fault: Fault | None, times: int = -1) -> None:
        """Switch a fault on, or off with None."""
        self.of.pop(path, None)
        if fault is not None:
            self.of[path] = (fault, times)

    def next(self, path: str) -> Fault | None:
        """The fault of this request."""
        found = next((each for each in self.of if path.startswith(each)), None)
        if found is None:
            return None
        fault, times = self.of[found]
        self.set(found, None if times == 1 else fault, times - 1 if times > 0 else times)
        return fault


class FaultyApp:
    """An application whose answers fail where a fault is on."""

    def __init__(self, app: ASGIApp, faults: Faults) -> None:
        self._app, self._faults = app, faults

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "websocket" and self._faults.next(scope["path"]) is not None:
            # Whatever the fault is, the socket is not opened.
            await send({"type": "websocket.close", "code": 1011})
            return
        fault = self._faults.next(scope["path"]) if scope["type"] == "http" else None
        match fault:
            case None:
                await self._app(scope, receive, send)
            case "slow":
                await asyncio.sleep(SLOW_SECONDS)
                await self._app(scope, receive, send)
            case "busy":
                rest = {"Retry-After": str(REST_SECONDS)}
                busy = JSONResponse({"reason": "too many"}, 429, headers=rest)
                await busy(scope, receive, send)
            case "broken":
                await JSONResponse({"reason": "broken"}, 500)(scope, receive, send)
            case "garbage":
                await Response(b"\x00\xff<what>", media_type="application/json")(
                    scope, receive, send
                )
            case "empty":
                await Response(b"", media_type="application/json")(scope, receive, send)
            case "wrong-type":
                await JSONResponse([1, "two", None])(scope, receive, send)
            case "duplicate" | "late":
                reason = f"only {MESSAGES} of a chat network come {fault}"
                await JSONResponse({"reason": reason}, 500)(scope, receive, send)
            case "cut" | "truncated":
                await _cut(self._app, scope, receive, send, loudly=fault == "cut")


async def _cut(app: ASGIApp, scope: Scope, receive: Receive, send: Send, *, loudly: bool) -> None:
    """Half of the answer, and then the end: of the connection, or of what looks whole."""

    async def half(message: Message) -> None:
        if message["type"] == "http.response.start":
            length = b"content-length"
            kept = [each for each in message["headers"] if loudly or each[0] != length]
            await send({**message, "headers": kept})
        elif message["type"] == "http.response.body":
            body = message.get("body", b"")
            await send({**message, "body": body[: len(body) // 2], "more_body": False})

    await app(scope, receive, half)


async def fault_in(request: Request) -> tuple[str, Fault | None, int]:
    """What a request to switch a fault says."""
    given = await request.json()
    return str(given["path"]), given.get("fault"), int(given.get("times", -1))


def add_faults(app: FastAPI) -> Faults:
    """Let an application's answers fail where a fault is switched on."""
    faults = Faults()
    app.add_middleware(FaultyApp, faults=faults)

    @app.put("/faults")
    async def switch(request: Request) -> dict[str, str]:
        faults.set(*await fault_in(request))
        return {"done": "yes"}

    return faults
