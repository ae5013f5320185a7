"""Spindrift over HTTP."""

from __future__ import annotations

import base64
import binascii
import hmac
import time
from dataclasses import dataclass, field
from typing import Annotated, Any

from fastapi import Body, FastAPI, Form, HTTPException, Query
from fastapi.responses import HTMLResponse

from fond_echo.contract.base import JsonObject
from fond_echo.core.audio.containers import decode
from fond_echo.core.audio.errors import SoundError
from fond_echo.core.audio.inspect import findings_of
from fond_echo.standins.faults import MESSAGES, add_faults

BOT = "desk"
Word = Annotated[str, Query(alias="pass")]
PAGE_SIZE = 20
AGAIN = 3
"""So many items come once more, where they come twice."""


@dataclass(frozen=True)
class Item:
    """Something in the feed."""

    ref: int
    thread: str
    code: str
    label: str
    body: str = ""
    audio: bytes = field(default=b"", repr=False)
    how: str = ""

    def reported(self) -> JsonObject:
        reported: JsonObject = {
            "ref": self.ref,
            "thread": self.thread,
            "from": {"code": self.code, "label": self.label},
            "body": self.body,
        }
        if self.audio:
            reported["audio"] = {"ref": self.ref, "bytes": len(self.audio), "how": self.how}
        return reported


class Feed:
    """All items, in memory."""

    def __init__(self) -> None:
        self.items: list[Item] = []
        # In memory only, but no number may come again after a restart.
        self._first = int(time.time())

    def add(self, thread: str, code: str, label: str, body: str = "", audio: bytes = b"") -> Item:
        """Raises 415 for audio that is not sound."""
        how = ""
        if audio:
            try:
                how = "attached" if findings_of(audio, decode(audio)) else "spoken"
            except SoundError as error:
                raise HTTPException(415, str(error)) from error
        item = Item(self._first + len(self.items), thread, code, label, body, audio, how)
        self.items.append(item)
        return item


def _bytes(text: str) -> bytes:
    try:
        return base64.b64decode(text, validate=True)
    except (binascii.Error, ValueError) as error:
        raise HTTPException(400, "audio is not base64") from error


def create_app(pass_word: str) -> FastAPI:
    """The network, for a bot that knows the pass word."""
    feed = Feed()
    app = FastAPI(openapi_url=None)
    app.state.feed = feed
    faults = add_faults(app)
    posted: dict[str, int] = {}

    def check(given: str) -> None:
        if not hmac.compare_digest(given.encode(), pass_word.encode()):
            raise HTTPException(403, "wrong pass word")

    @app.get("/feed")
    async def read(word: Word, since: str = "") -> JsonObject:
        check(word)
        start = int(since or 0)
        fault = faults.next(MESSAGES)
        if fault == "late":
            return {"items": [], "next": since}
        if fault == "duplicate":
            start -= AGAIN
        items = [item for item in feed.items if item.ref > start][:PAGE_SIZE]
        shown = [item.reported() for item in items]
        return {"items": shown, "next": str(items[-1].ref if items else start)}

    @app.get("/audio/{ref}")
    async def audio(ref: int, word: Word) -> JsonObject:
        check(word)
        item = next((each for each in feed.items if each.ref == ref and each.audio), None)
        if item is None:
            raise HTTPException(404, "there is no such audio")
        return {"content": base64.b64encode(item.audio).decode()}

    def once(mark: str, add: Any) -> JsonObject:
        if mark and mark in posted:
            return {"ref": posted[mark]}
        item = add()
        if mark:
            posted[mark] = item.ref
        return {"ref": item.ref}

    @app.post("/post")
    async def post(
        to: Annotated[str, Form()],
        body: Annotated[str, Form()],
        word: Annotated[str, Form(alias="pass")],
        mark: Annotated[str, Form()] = "",
    ) -> JsonObject:
        check(word)
        return once(mark, lambda: feed.add(to, BOT, "Desk", body))

    @app.post("/post-audio")
    async def post_audio(
        to: Annotated[str, Body()],
        content: Annotated[str, Body()],
        word: Annotated[str, Body(alias="pass")],
        mark: Annotated[str, Body()] = "",
    ) -> JsonObject:
        check(word)
        return once(mark, lambda: feed.add(to, BOT, "Desk", audio=_bytes(content)))

    @app.post("/people/{code}")
    async def say(
        code: str, body: Annotated[str, Body()] = "", content: Annotated[str, Body()] = ""
    ) -> JsonObject:
        """A person says something; for tests and the tour."""
        item = feed.add(f"thread-{code}", code, code.title(), body, _bytes(content))
        return item.reported()

    @app.get("/threads/{thread}")
    async def thread(thread: str, since: int = 0) -> list[JsonObject]:
        return [i.reported() for i in feed.items if i.thread == thread and i.ref > since]

    @app.get("/")
    async def about() -> HTMLResponse:
        return HTMLResponse("<!doctype html><title>Spindrift</title><p>A polled chat network.</p>")

    return app
