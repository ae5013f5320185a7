"""The request machine: runs the steps of a description.

A step's templates are rendered over the facts at hand, one HTTP exchange is made, and what its
`take` names is added to the facts for the steps after it.
"""

from __future__ import annotations

import asyncio
import json
import re
import time
from collections.abc import AsyncIterator, Mapping, Sequence
from contextlib import asynccontextmanager, nullcontext
from dataclasses import dataclass
from typing import Any

import httpx
from websockets.asyncio.client import ClientConnection

from fond_echo.connectors.addresses import address_of
from fond_echo.connectors.answers import from_base64, is_done, pause_after, taken
from fond_echo.connectors.errors import (
    ConnectorError,
    ForbiddenAddress,
    NoAnswer,
    Refused,
    WrongAnswer,
)
from fond_echo.connectors.exchanging import MAX_STREAM_SECONDS, Received, exchanged
from fond_echo.connectors.oauth import TokenSource
from fond_echo.connectors.secrets import Secrets
from fond_echo.connectors.sockets import messages, opened
from fond_echo.connectors.streaming import Listener, StreamReader
from fond_echo.connectors.throttle import Throttle
from fond_echo.connectors.wire import (
    Payload,
    check_path,
    host_and_port,
    json_or_none,
    multipart_of,
    read_message,
    shortened,
)
from fond_echo.contract.base import JsonObject
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.templates import compile_template, render_tree
from fond_echo.documents.steps import SecretRef, Step

LOOKED_AT = 20_000
"""Bytes of an answer in which secrets are looked for before its beginning is recorded."""

HEADER_REMEDY = "put it into the body, or encode it: {{ text | base64 }}"

SWITCHED = 101
"""Switching Protocols (RFC 9110 §15.2.2): a socket is open."""

MAX_ANSWER = 60 * 2**20
"""Bytes of an answer with sound; other answers may have a twentieth."""


@dataclass
class Exchange:
    """One exchange as it is recorded: secrets struck out, bodies by size."""

    method: str
    url: str
    status: int | None = None
    seconds: float = 0.0
    sent: Any = None
    received: Any = None
    error: str = ""


@dataclass
class Outcome:
    """What the steps of a request gave: the facts taken, bytes where a step carries them, and the
    JSON of the last answer."""

    facts: JsonObject
    payload: Payload | None
    exchanges: list[Exchange]
    document: Any = None


class RequestMachine:
    """Runs requests for one channel or service.

    Args:
        client: an HTTP client behind the address guard.
        vault: the secrets it may use.
        values: facts that are always at hand, such as `base`.
        hosts: "host:port" pairs that a whole URL taken from an answer may lead to.
        throttle: keeps to the service's rate; none where it has none.
        tokens: where `{{ token }}` comes from.
    """

    def __init__(
        self,
        client: httpx.AsyncClient,
        vault: Secrets,
        values: Mapping[str, Any] | None = None,
        hosts: Sequence[str] = (),
        throttle: Throttle | None = None,
        tokens: TokenSource | None = None,
    ) -> None:
        self._client = client
        self._throttle = throttle
        self._tokens = tokens
        self._vault = vault
        self._values = dict(values or {})
        own = [host_and_port(str(v)) for v in self._values.values() if "://" in str(v)]
        self._hosts = frozenset([*hosts, *own])
        self._own = frozenset(self._values)

    async def run(
        self, steps: Sequence[Step], facts: Mapping[str, Any], listener: Listener | None = None
    ) -> Outcome:
        """Make the exchanges of a request, one after another.

        Args:
            listener: hears of the pieces of a streamed answer as they come.

        Raises:
            ConnectorError: with `exchanges` set to those made so far, the failed one included.
        """
        known = {**self._values, **facts}
        taken: JsonObject = {}
        exchanges: list[Exchange] = []
        payload: Payload | None = None
        document: Any = None
        for step in steps:
            if self._tokens is not None:
                known["token"] = await self._tokens.token(self._vault)
                self._vault.hide(known["token"])
            found, received, document = await self._step(step, known, exchanges, listener)
            payload = received or payload
            known |= found
            taken |= found
        return Outcome(taken, payload, exchanges, document)

    async def _step(
        self,
        step: Step,
        known: Mapping[str, Any],
        exchanges: list[Exchange],
        listener: Listener | None,
    ) -> tuple[JsonObject, Payload | None, Any]:
        """Make a step's exchange, again as its `retry` and `until` say."""
        tries = 0
        deadline = time.monotonic() + step.until.for_ if step.until else 0.0
        while True:
            exchange = Exchange(step.method.upper(), step.url)
            exchanges.append(exchange)
            try:
                found, received, document = await self._exchange(step, known, exchange, listener)
            except ConnectorError as error:
                exchange.error = str(error)
                error.what = self._vault.redacted(error.what)
                error.where = self._vault.redacted(error.where)
                error.exchanges = exchanges
                pause = pause_after(error, tries)
                if tries >= step.retry or pause is None:
                    raise
                tries += 1
                await asyncio.sleep(pause)
                continue
            finally:
                self.record(exchange)
            if step.until is None or is_done(step.until, document, exchange.url, exchanges):
                return found, received, document
            if time.monotonic() + step.until.every > deadline:
                what = f"not {step.until.is_!r} within {step.until.for_:g} s"
                late = NoAnswer(what, where=exchange.url)
                late.exchanges = exchanges
                raise late
            await asyncio.sleep(step.until.every)

    def struck(self, facts: JsonObject) -> JsonObject:
        """Facts that become words of ours, without secrets that came back in them."""
        return {name: self._vault.redacted(value) for name, value in facts.items()}

    def record(self, exchange: Exchange) -> None:
        """Strike secrets out of an exchange, and then shorten it: what is kept of one goes through
        here, whatever it was sent or received by."""
        for name in ("url", "sent", "received", "error"):
            value = self._vault.redacted(getattr(exchange, name))
            setattr(exchange, name, shortened(value) if name in ("sent", "received") else value)

    async def _exchange(
        self,
        step: Step,
        known: Mapping[str, Any],
        exchange: Exchange,
        listener: Listener | None,
    ) -> tuple[JsonObject, Payload | None, Any]:
        most = MAX_ANSWER if step.bytes is True or step.base64 else MAX_ANSWER // 20
        reader = StreamReader(step.stream, step.take, listener) if step.stream else None
        if step.socket is not None:
            return await self._over_socket(step, known, exchange, reader, most)
        values = {**known, "secrets": self._vault}
        try:
            url = self._url(step.url, values)
            request = self._request(step, url, values, exchange)
        except TemplateFailed as error:
            raise WrongAnswer(f"the {step.method} step: {error}") from error
        except (httpx.InvalidURL, UnicodeError, ValueError, TypeError) as error:
            raise WrongAnswer(f"the {step.method} step makes no request: {error}") from error
        self._vault.check_hosts(*address_of(url))
        exchange.url = self._vault.redacted(url)
        try:
            answer = await self._send(request, most, step.timeout, reader)
        finally:
            self._note_streamed(exchange, reader)
        exchange.status, exchange.seconds = answer.status, answer.seconds
        if reader is not None and reader.status:
            return reader.taken(exchange.url), None, None
        return self._answer(step, answer, exchange)

    def _note_streamed(self, exchange: Exchange, reader: StreamReader | None) -> None:
        if reader is not None and reader.status:
            exchange.status = reader.status
            text = "".join(reader.pieces)
            exchange.received = {"documents": reader.documents, "streamed": text}

    @asynccontextmanager
    async def socket(
        self, address: str, headers: Mapping[str, str | SecretRef], facts: Mapping[str, Any],
        seconds: float, exchange: Exchange,
    ) -> AsyncIterator[ClientConnection]:  # fmt: skip
        """A WebSocket to an address, with headers; both are templates over the facts.

        Args:
            seconds: in which it has to be open.
            exchange: takes down where it leads, and how it went.

        Raises:
            ConnectorError: it is not opened, or breaks while it is used.
        """
        begun, values = time.monotonic(), {**self._values, **facts, "secrets": self._vault}
        if self._tokens is not None:
            values["token"] = await self._tokens.token(self._vault)
            self._vault.hide(values["token"])
        try:
            url = self._url(address, values)
            given = {name: self._header(value, values) for name, value in headers.items()}
        except TemplateFailed as error:
            raise WrongAnswer(f"the socket: {error}") from error
        self._vault.check_hosts(*address_of(url))
        exchange.url = self._vault.redacted(url)
        try:
            async with (
                self._throttle.place() if self._throttle else nullcontext(),
                opened(self._client, url, given, seconds) as socket,
            ):
                exchange.status = SWITCHED
                yield socket
        finally:
            exchange.seconds = time.monotonic() - begun

    async def _over_socket(
        self, step: Step, known: Mapping[str, Any], exchange: Exchange,
        reader: StreamReader | None, most: int,
    ) -> tuple[JsonObject, Payload | None, Any]:  # fmt: skip
        """A step that is a WebSocket: its first message, and what comes back."""
        assert step.socket is not None
        sound = bytearray() if step.bytes is True else None
        seconds = step.timeout
        async with self.socket(step.socket, step.headers, known, seconds, exchange) as socket:
            if step.body_json is not None:
                first = render_tree(step.body_json, {**known, "secrets": self._vault})
                exchange.sent = first
                await socket.send(json.dumps(first))
            found = messages(socket, most, seconds, sound)
            exchange.received = []
            try:
                async with asyncio.timeout(MAX_STREAM_SECONDS):
                    if reader is None:
                        async for each in found:
                            exchange.received.append(read_message(each))
                    else:
                        reader.status = SWITCHED
                        await reader.read(found, exchange.url)
            except TimeoutError as error:
                what = f"the socket is still open after {MAX_STREAM_SECONDS:g} s"
                raise NoAnswer(what, where=exchange.url) from error
            finally:
                self._note_streamed(exchange, reader)
        taken = reader.taken(exchange.url) if reader is not None else {}
        return taken, Payload(bytes(sound)) if sound is not None else None, None

    def _url(self, template: str, values: Mapping[str, Any]) -> str:
        """The address: every value put into it percent-encoded, except a channel's own base.

        A template that is a lone value taken from outside is a whole URL; it may lead only to
        declared hosts.
        """
        lone = re.fullmatch(r"\s*\{\{\s*(\w+)\s*\}\}\s*", template)
        if lone and lone[1] not in self._own:
            url = str(compile_template(template).render(values))
            if url.startswith("/"):
                raise ForbiddenAddress(
                    f"{url[:120]!r} is a path, and no whole address",
                    remedy=f"write {{{{ base }}}}{{{{ {lone[1]} | path }}}}",
                )
            place = host_and_port(url)
            if place not in self._hosts:
                raise ForbiddenAddress(
                    f"an answer leads to {place}, which is not declared",
                    remedy="add it to hosts in the description",
                )
            return url
        url = compile_template(template).address(values, self._own)
        address_of(url)
        check_path(url)
        return url

    def _request(
        self, step: Step, url: str, values: Mapping[str, Any], exchange: Exchange
    ) -> httpx.Request:
        headers = {name: self._header(value, values) for name, value in step.headers.items()}
        query = {name: str(render_tree(text, values)) for name, text in step.query.items()}
        content: JsonObject = {}
        if step.body_json is not None:
            content["json"] = render_tree(step.body_json, values)
            exchange.sent = content["json"]
        elif step.form is not None:
            content["data"] = {k: str(v) for k, v in render_tree(step.form, values).items()}
            exchange.sent = content["data"]
        elif step.multipart is not None:
            content["files"], exchange.sent = multipart_of(render_tree(step.multipart, values))
        elif isinstance(step.bytes, str):
            payload = compile_template(step.bytes).render(values)
            if not isinstance(payload, Payload):
                raise WrongAnswer("bytes: must be a fact that holds sound or a file")
            content["content"] = payload.data
            headers.setdefault("Content-Type", payload.media_type)
            exchange.sent = f"{len(payload.data)} bytes"
        return self._client.build_request(
            step.method.upper(), url, headers=headers, params=query or None, **content
        )

    def _header(self, value: str | SecretRef, values: Mapping[str, Any]) -> str:
        text = self._vault[value.secret] if isinstance(value, SecretRef) else None
        if text is None:
            text = str(render_tree(value, values))
        text = re.sub(r"[\r\n\0]", "", text)
        if not text.isascii():
            raise WrongAnswer("a header has characters that are not ASCII", remedy=HEADER_REMEDY)
        return text

    async def _send(
        self, request: httpx.Request, most: int, seconds: float, reader: StreamReader | None
    ) -> Received:
        request.extensions["timeout"] = httpx.Timeout(seconds).as_dict()
        if self._throttle is not None:
            async with self._throttle.place():
                return await exchanged(self._client, request, most, seconds, reader)
        return await exchanged(self._client, request, most, seconds, reader)

    def _answer(
        self, step: Step, answer: Received, exchange: Exchange
    ) -> tuple[JsonObject, Payload | None, Any]:
        status, kind, body = answer.status, answer.kind, answer.body
        carries_bytes = step.bytes is True
        if status >= 300:
            text = self._text_of(body, 300)
            exchange.received = text
            more = " (redirects are not followed)" if status < 400 else ""
            if status == 401 and self._tokens is not None:
                self._tokens.forget()
            raise Refused(
                f"the service answered {status}{more}: {text[:200]}",
                status=status,
                where=f"{exchange.method} {exchange.url}",
                retry_after=answer.rest,
            )
        if carries_bytes:
            exchange.received = f"{len(body)} bytes, {kind or 'no type'}"
            media_type = kind.partition(";")[0] or "application/octet-stream"
            return {}, Payload(body, media_type), None
        if not step.take and step.base64 is None and step.until is None:
            exchange.received = self._text_of(body, 500)
            return {}, None, json_or_none(body)
        try:
            document = httpx.Response(200, content=body).json()
        except (ValueError, RecursionError) as error:
            raise WrongAnswer("the answer is not JSON", where=exchange.url) from error
        exchange.received = document
        if step.until and str(taken(document, step.until.path)) != step.until.is_:
            return {}, None, document
        facts = {name: taken(document, path) for name, path in step.take.items()}
        missing = [step.take[name] for name, value in facts.items() if value is None]
        if missing:
            raise WrongAnswer(f"nothing at {', '.join(missing)} in the answer", where=exchange.url)
        return facts, from_base64(step, document) if step.base64 else None, document

    def _text_of(self, body: bytes, most: int) -> str:
        """The beginning of an answer as it is recorded: struck out before it is cut."""
        return str(self._vault.redacted(body[:LOOKED_AT].decode("utf-8", "replace")))[:most]
