"""Asking business logic: a signed POST of the turn, a reply back, whole or in parts."""

from __future__ import annotations

import asyncio
import time
from collections import Counter
from collections.abc import AsyncGenerator, AsyncIterator, Awaitable, Callable
from contextlib import aclosing
from hashlib import blake2b
from typing import Any

import httpx
from pydantic import ValidationError

from fond_echo.connectors.addresses import address_of
from fond_echo.connectors.breaker import Breakers
from fond_echo.connectors.errors import ConnectorError, LogicFailed, Unreachable
from fond_echo.connectors.given import reply_given
from fond_echo.connectors.machine import Exchange, RequestMachine
from fond_echo.connectors.secrets import Vault
from fond_echo.connectors.streaming import STREAMED, Listener
from fond_echo.connectors.wire import json_or_none, shortened
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.reply import Reply
from fond_echo.contract.signatures import signed_headers
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.services import LogicService
from fond_echo.documents.steps import Step

MAX_ANSWER = 1_000_000
REMEDY = 'answer JSON such as {"text": "…"}'
IN_PARTS = "application/x-ndjson"
"""An answer of this type is a reply a line; each is spoken as soon as it is there."""

Once = Callable[[str], Awaitable[None]]
"""Puts a question down before it is asked; raises where it stands there already."""

PAUSES = (0.2, 0.6)
"""Seconds before it is asked again, where nothing can have been answered."""


class _NothingSent(LogicFailed):
    """It was not reached: nothing was asked."""


class LogicCaller:
    """Asks business logic through an HTTP client behind the address guard."""

    def __init__(
        self, client: httpx.AsyncClient, vault: Vault, breakers: Breakers | None = None
    ) -> None:
        self._client = client
        self._vault = vault
        self._breakers = breakers or Breakers()
        self._asked: Counter[str] = Counter()
        self.exchanges: list[Exchange] = []
        """As they were made, failed ones too, with secrets struck out."""

    async def ask(
        self, service: LogicService, request: LogicRequest, *, safe: bool = False,
        listener: Listener | None = None, once: Once | None = None,
    ) -> AsyncIterator[Reply]:  # fmt: skip
        """The parts of the answer; `listener` hears of the pieces of one that is streamed.

        The id of a question is the same for every attempt at it, in a later attempt at its turn
        too, so that logic which changes things can know a repeated question; no other question has
        it. It is asked again only where it was not reached, or where asking is safe and nothing
        came back. Where asking is not safe, and a service in its own shape is not told the id
        (`{{ call }}`), `once` is handed it before.

        Raises:
            LogicFailed: whatever went wrong.
        """
        breaker = self._breakers.of(service.url)
        if (left := breaker.left) > 0:
            what = f"it failed {breaker.most} times in a row, and is paused for {left:.0f} s more"
            raise LogicFailed(what, where=service.url)
        request = self._numbered(request)
        body = request.model_dump_json().encode()
        if once is not None and not safe and not service.told_call:
            await once(request.call)
        for pause in (*PAUSES, None):
            parts = 0
            try:
                async with aclosing(self._parts(service, request, body, listener)) as answer:
                    async for part in answer:
                        parts += 1
                        yield part
            except LogicFailed as error:
                again = not parts and (safe or isinstance(error, _NothingSent))
                if pause is None or not again:
                    breaker.note(False)
                    raise
                await asyncio.sleep(pause)
            else:
                breaker.note(True)
                return

    def _numbered(self, request: LogicRequest) -> LogicRequest:
        """A question with its id: that of its turn, and what tells it from others of the turn. A
        turn that is worked again asks the same in the same words."""
        asked = request.model_dump_json(exclude={"call"}).encode()
        of = f"{request.turn.id}.{request.run}.{blake2b(asked, digest_size=8).hexdigest()}"
        self._asked[of] += 1
        number = self._asked[of]
        return request.model_copy(update={"call": of if number == 1 else f"{of}.{number}"})

    async def _parts(
        self, service: LogicService, request: LogicRequest, body: bytes, listener: Listener | None
    ) -> AsyncGenerator[Reply]:
        if service.request is not None:
            yield await self._in_its_shape(service, request, listener)
            return
        try:
            host, port = address_of(service.url)
            secrets = [self._vault[name] for name in service.secrets]
            self._vault.check_hosts(host, port)
            headers = signed_headers(secrets, request.call, int(time.time()), body)
            exchange = Exchange("POST", service.url, sent=self._shown(body))
            self.exchanges.append(exchange)
            begun = time.monotonic()
            async with aclosing(self._post(service, headers, body)) as answer:
                async for piece in answer:
                    exchange.status, exchange.seconds = 200, time.monotonic() - begun
                    exchange.received = [*(exchange.received or []), self._shown(piece)]
                    yield _reply(service, piece)
        except LogicFailed as error:
            if self.exchanges:
                self.exchanges[-1].error = self._vault.redacted(str(error))
            raise
        except FondEchoError as error:
            raise LogicFailed(f"{service.url} was not asked: {error}") from error

    def _shown(self, body: bytes) -> Any:
        """A body as it is recorded."""
        found = json_or_none(body)
        if found is None:
            found = body[:2_000].decode("utf-8", "replace")
        return shortened(self._vault.redacted(found))

    async def _in_its_shape(
        self, service: LogicService, request: LogicRequest, listener: Listener | None
    ) -> Reply:
        """Ask a service that knows nothing of us, in the shape that it takes."""
        facts = {**request.model_dump(mode="json"), "text": request.turn.text}
        machine = RequestMachine(self._client, self._vault)
        try:
            found = await machine.run(_steps(service), facts, listener)
        except ConnectorError as error:
            self.exchanges += error.exchanges
            kind = _NothingSent if isinstance(error, Unreachable) else LogicFailed
            raise kind(error.what, where=error.where, remedy=error.remedy) from error
        self.exchanges += found.exchanges
        if service.gives is not None:
            return reply_given(service, machine.struck({"answer": found.document})["answer"])
        facts = machine.struck(found.facts)
        words = str(facts[STREAMED if service.stream else "answer"]).strip()
        if not words:
            raise LogicFailed("its answer is empty", where=service.url)
        return Reply(text=words)

    async def _post(
        self, service: LogicService, headers: dict[str, str], body: bytes
    ) -> AsyncGenerator[bytes]:
        """The JSON of each part."""
        request = self._client.build_request(
            "POST",
            service.url,
            content=body,
            headers={**headers, "Content-Type": "application/json"},
            timeout=service.timeout,
        )
        deadline = time.monotonic() + service.timeout
        try:
            async with asyncio.timeout(service.timeout):
                response = await self._client.send(request, stream=True)
            try:
                in_parts = response.headers.get("content-type", "").startswith(IN_PARTS)
                left, size = b"", 0
                async for chunk in response.aiter_bytes():
                    left, size = left + chunk, size + len(chunk)
                    if size > MAX_ANSWER:
                        what = f"the answer is over {MAX_ANSWER:,} bytes"
                        raise LogicFailed(what, where=service.url)
                    if time.monotonic() > deadline + service.timeout * in_parts:
                        raise TimeoutError
                    *lines, left = left.split(b"\n") if in_parts else [left]
                    for line in lines:
                        if line.strip() and response.status_code == 200:
                            yield line
            finally:
                await response.aclose()
        except (httpx.ConnectError, httpx.ConnectTimeout) as error:
            reason = str(error) or type(error).__name__
            raise _NothingSent(f"it cannot be reached: {reason}", where=service.url) from error
        except (httpx.TimeoutException, TimeoutError) as error:
            what = f"no answer within {service.timeout:g} s"
            raise LogicFailed(what, where=service.url) from error
        except (httpx.HTTPError, httpx.InvalidURL, UnicodeError) as error:
            reason = str(error) or type(error).__name__
            raise LogicFailed(f"the connection broke: {reason}", where=service.url) from error
        if response.status_code != 200:
            text = self._vault.redacted(left[:2_000].decode("utf-8", "replace"))[:200]
            raise LogicFailed(f"it answered {response.status_code}: {text}", where=service.url)
        if left.strip() or not in_parts:
            yield left


def _steps(service: LogicService) -> list[Step]:
    """How a service is asked in its own shape."""
    common = {"headers": service.headers, "timeout": service.timeout}
    # Where answers give more than words, these are not all that may be there.
    plain = service.answer is not None and service.gives is None
    taken = {"answer": service.answer} if plain else {}
    poll = service.poll
    first = {"post": service.url, "json": service.request, **common}
    first |= {"take": taken if poll is None else poll.take}
    if service.stream is not None:
        first["stream"] = service.stream.model_dump(by_alias=True)
    steps = [Step.model_validate(first)]
    if poll is not None:
        until = poll.until.model_dump(by_alias=True)
        steps.append(
            Step.model_validate({"get": poll.get, "until": until, "take": taken, **common})
        )
    return steps


def _reply(service: LogicService, answer: bytes) -> Reply:
    try:
        return Reply.model_validate_json(answer)
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(str(step) for step in first["loc"])
        what = f"its answer is not a reply: {where + ': ' if where else ''}{first['msg']}"
        raise LogicFailed(what, where=service.url, remedy=REMEDY) from error
