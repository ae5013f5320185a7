"""The ASGI application behind `fond_echo.logic`."""

from __future__ import annotations

import json
import logging
import time
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable, Mapping, Sequence
from datetime import UTC, datetime
from typing import Any

from pydantic import ValidationError

from fond_echo.contract.errors import BadSignature
from fond_echo.contract.logic import LogicContact, LogicConversation, LogicRequest, LogicTurn
from fond_echo.contract.reply import Reply
from fond_echo.contract.signatures import verify
from fond_echo.core.caching import Recent
from fond_echo.logic.errors import NotAReply, UnknownAction

log = logging.getLogger("fond_echo.logic")

Answer = Reply | str | Mapping[str, Any]
"""What a function may answer: a reply, its words, or its fields."""

Answering = Callable[[LogicRequest], Awaitable[Answer] | AsyncIterator[Answer]]
Scope = Mapping[str, Any]
Receive = Callable[[], Awaitable[Mapping[str, Any]]]
Send = Callable[[dict[str, Any]], Awaitable[None]]

_Response = tuple[int, bytes, AsyncIterator[bytes] | None]

MAX_BODY = 2_000_000
REMEMBERED = 1_000


class Logic:
    """Business logic as an ASGI application: one POST a turn, verified, answered by a function.

    Args:
        secrets: those shared with Fond Echo; more than one while they are being changed.

    A question whose id was answered before gets the same answer again, without the function
    being called: a question is asked again when its answer got lost on the way.
    """

    def __init__(self, secrets: Sequence[str]) -> None:
        if not secrets or not all(secrets):
            raise ValueError("business logic needs the secret that it shares with Fond Echo")
        self._secrets = tuple(secrets)
        self._functions: dict[str, Answering] = {}
        self._answered: Recent[str, list[bytes]] = Recent(REMEMBERED)

    def answers(self, action: str) -> Callable[[Answering], Answering]:
        """Let a function answer an action. It gets the turn, and returns words, a Reply, or
        a reply's fields as a dict; or it yields several, and each is spoken as soon as it is
        there."""

        def keep(function: Answering) -> Answering:
            self._functions[action] = function
            return function

        return keep

    async def ask(self, action: str, text: str = "", **fields: Any) -> Reply:
        """Call a function without HTTP, for tests; of an answer in parts, the last.

        Args:
            text: what was said.
            fields: others of LogicRequest, such as `memory` or `now`.

        Raises:
            UnknownAction: no function answers it.
            NotAReply: the function's answer is not a reply.
        """
        requested = LogicRequest(
            action=action,
            route=fields.pop("route", action),
            assistant=fields.pop("assistant", "test-desk"),
            now=fields.pop("now", datetime.now(UTC)),
            turn=fields.pop("turn", None) or LogicTurn(id="test", text=text),
            contact=fields.pop("contact", None) or LogicContact(id="test", channel="test-channel"),
            conversation=fields.pop("conversation", None) or LogicConversation(id="test", turns=1),
            **fields,
        )
        return [part async for part in self._answer(requested)][-1]

    async def _answer(self, requested: LogicRequest) -> AsyncGenerator[Reply]:
        function = self._functions.get(requested.action)
        if function is None:
            known = ", ".join(sorted(self._functions)) or "none"
            raise UnknownAction(f"nothing answers {requested.action!r}", remedy=f"known: {known}")
        answer = function(requested)
        if isinstance(answer, AsyncIterator):
            async for part in answer:
                yield _reply(requested.action, part)
        else:
            yield _reply(requested.action, await answer)

    async def __call__(self, scope: Scope, receive: Receive, send: Send) -> None:
        if scope["type"] == "lifespan":
            await _lifespan(receive, send)
            return
        if scope["type"] != "http":
            raise RuntimeError(f"business logic is asked over HTTP, not {scope['type']}")
        status, body, parts = await self._respond(scope, receive)
        kind = b"application/x-ndjson" if parts else b"application/json"
        start = {"status": status, "headers": [(b"content-type", kind)]}
        await send({"type": "http.response.start", **start})
        await send({"type": "http.response.body", "body": body, "more_body": bool(parts)})
        if parts:
            async for part in parts:
                await send({"type": "http.response.body", "body": part, "more_body": True})
            await send({"type": "http.response.body", "body": b""})

    async def _respond(self, scope: Scope, receive: Receive) -> _Response:
        if scope["method"] == "GET":
            return 200, _json({"answers": sorted(self._functions)}), None
        if scope["method"] != "POST":
            return 405, _json({"problem": "business logic is asked by POST"}), None
        body = await _body(receive)
        if body is None:
            return 413, _json({"problem": f"more than {MAX_BODY:,} bytes"}), None
        headers = {name.decode().lower(): value.decode() for name, value in scope["headers"]}
        try:
            message_id = verify(self._secrets, headers, body, time.time())
        except BadSignature as error:
            return 401, _json({"problem": str(error)}), None
        if message_id in self._answered:
            first, *others = self._answered[message_id]
            return 200, first, _again(others) if others else None
        try:
            answer = self._answer(LogicRequest.model_validate_json(body))
            parts = [(await anext(answer)).model_dump_json().encode()]
            second = await anext(answer, None)
        except ValidationError as error:
            return 422, _json({"problem": str(error)}), None
        except NotAReply as error:
            log.exception("answering failed")
            return 500, _json({"problem": str(error)}), None
        except UnknownAction as error:
            return 404, _json({"problem": str(error)}), None
        except Exception:
            log.exception("answering failed")
            return 500, _json({"problem": "answering failed; the log says why"}), None
        if second is None:
            self._remember(message_id, parts)
            return 200, parts[0], None
        return 200, parts[0] + b"\n", self._rest(message_id, parts, second, answer)

    async def _rest(
        self, message_id: str, parts: list[bytes], second: Reply, answer: AsyncIterator[Reply]
    ) -> AsyncIterator[bytes]:
        """The parts after the first, a line each; all of them are remembered at the end."""
        part: Reply | None = second
        while part is not None:
            parts.append(part.model_dump_json().encode())
            yield parts[-1] + b"\n"
            part = await anext(answer, None)
        self._remember(message_id, [part + b"\n" for part in parts])

    def _remember(self, message_id: str, parts: list[bytes]) -> None:
        self._answered.keep(message_id, parts)


async def _again(parts: list[bytes]) -> AsyncIterator[bytes]:
    for part in parts:
        yield part


def _reply(action: str, found: object) -> Reply:
    """What a function answered, as a reply. Raises NotAReply."""
    if isinstance(found, Reply):
        return found
    if isinstance(found, str):
        found = {"text": found}
    if not isinstance(found, Mapping):
        what = f"{action!r} answered {type(found).__name__}"
        raise NotAReply(what, remedy="return words, a Reply, or a dict of a reply's fields")
    try:
        return Reply.model_validate(dict(found))
    except ValidationError as error:
        first = error.errors()[0]
        path = ".".join(map(str, first["loc"]))
        what = f"{action!r} answered no reply: {': '.join(filter(None, (path, first['msg'])))}"
        remedy = f"a reply has {', '.join(Reply.model_fields)}"
        raise NotAReply(what, remedy=remedy) from error


def _json(value: Any) -> bytes:
    return json.dumps(value).encode()


async def _body(receive: Receive) -> bytes | None:
    body: bytes = b""
    while True:
        message = await receive()
        body += message.get("body", b"")
        if len(body) > MAX_BODY:
            return None
        if not message.get("more_body"):
            return body


async def _lifespan(receive: Receive, send: Send) -> None:
    while True:
        message = await receive()
        await send({"type": message["type"] + ".complete"})
        if message["type"] == "lifespan.shutdown":
            return
