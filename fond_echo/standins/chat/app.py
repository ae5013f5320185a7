"""Skerry over HTTP: what bots may do, what people do, and the webhook to the bot."""

from __future__ import annotations

import asyncio
import hmac
import json
import time
from collections.abc import AsyncIterator
from contextlib import asynccontextmanager
from hashlib import sha256
from pathlib import Path
from typing import Annotated

import httpx
from fastapi import Body, Depends, FastAPI, File, Form, HTTPException, Request, Response, UploadFile
from fastapi.responses import HTMLResponse, JSONResponse

from fond_echo.contract.base import JsonObject
from fond_echo.standins.chat.network import BOT, Network, Person, Post
from fond_echo.standins.errors import Refusal
from fond_echo.standins.faults import LATE_SECONDS, MESSAGES, Faults, add_faults

PAGE = Path(__file__).parent / "page.html"
MAX_BYTES = 20 * 2**20
TRIES = 12


class Hook:
    """Tells the bot of every post, in order, until it is taken; every third one twice, as
    networks do when an answer gets lost on the way."""

    def __init__(self, mark: str) -> None:
        self._mark = mark
        self.faults = Faults()
        self._posts: asyncio.Queue[Post] = asyncio.Queue()
        self.address = ""
        self.twice_every = 3
        self.reported: list[JsonObject] = []

    def tell(self, post: Post) -> None:
        self._posts.put_nowait(post)

    async def run(self) -> None:
        async with httpx.AsyncClient(trust_env=False, timeout=10.0) as client:
            while True:
                post = await self._posts.get()
                fault = self.faults.next(MESSAGES)
                if fault == "late":
                    await asyncio.sleep(LATE_SECONDS)
                await self._deliver(client, post)
                again = self.twice_every and post.number % self.twice_every == 0
                if again or fault == "duplicate":
                    await self._deliver(client, post)

    async def _deliver(self, client: httpx.AsyncClient, post: Post) -> None:
        body = json.dumps({"posts": [post.reported()]}).encode()
        for attempt in range(TRIES):
            if attempt:
                await asyncio.sleep(min(0.3 * 2**attempt, 5.0))
            if not self.address:
                continue
            at = str(int(time.time()))
            mac = hmac.digest(self._mark.encode(), at.encode() + b"." + body, sha256).hex()
            headers = {
                "X-Skerry-Time": at,
                "X-Skerry-Mark": mac,
                "Content-Type": "application/json",
            }
            begun = time.perf_counter()
            try:
                answer = await client.post(self.address, content=body, headers=headers)
            except httpx.HTTPError:
                continue
            elapsed = time.perf_counter() - begun
            self.reported.append(
                {"post": post.id, "status": answer.status_code, "seconds": elapsed}
            )
            if answer.status_code < 500:
                return


def _buttons(given: list[dict[str, str]] | None) -> tuple[tuple[str, str], ...]:
    return tuple((each["label"], each["value"]) for each in given or [])


def create_app(token: str, mark: str, network: Network | None = None) -> FastAPI:
    """The network, for a bot that shows `token` and shares `mark`."""
    net = network or Network()
    hook = Hook(mark)

    @asynccontextmanager
    async def lifespan(_: FastAPI) -> AsyncIterator[None]:
        task = asyncio.create_task(hook.run())
        yield
        task.cancel()

    app = FastAPI(lifespan=lifespan, openapi_url=None)
    app.state.network, app.state.hook = net, hook
    hook.faults = add_faults(app)

    @app.exception_handler(Refusal)
    async def _refused(_: Request, error: Exception) -> JSONResponse:
        assert isinstance(error, Refusal)
        return JSONResponse({"reason": str(error)}, status_code=error.status)

    _for_bots(app, net, hook, token)
    _for_people(app, net, hook)
    return app


def _for_bots(app: FastAPI, net: Network, hook: Hook, token: str) -> None:
    async def bot(request: Request) -> None:
        given = request.headers.get("authorization", "")
        if not hmac.compare_digest(given.encode(), f"Bearer {token}".encode()):
            raise HTTPException(401, "the token is not this bot's")

    only_bot = [Depends(bot)]

    @app.get("/self", dependencies=only_bot)
    async def who_am_i() -> dict[str, str]:
        return {"id": BOT.id, "name": BOT.name}

    @app.put("/hooks/{account}", dependencies=only_bot)
    async def hook_here(account: str, address: Annotated[str, Body(embed=True)]) -> dict[str, str]:
        if account != BOT.id:
            raise Refusal(403, "that is not your account")
        hook.address = address
        return {"address": address}

    @app.post("/handles/{sound}", dependencies=only_bot)
    async def handle(sound: str, request: Request) -> dict[str, str]:
        return {"href": f"{str(request.base_url).rstrip('/')}/files/{net.address_for(sound)}"}

    @app.get("/files/{name}")
    async def file(name: str) -> Response:
        return Response(net.fetched(name).data, media_type="application/octet-stream")

    def repeated(key: str) -> dict[str, str] | None:
        return {"id": net.seen_keys[key]} if key and key in net.seen_keys else None

    def posted(post: Post, key: str) -> dict[str, str]:
        if key:
            net.seen_keys[key] = post.id
        hook.tell(post)
        return {"id": post.id}

    @app.post("/rooms/{room}/posts", dependencies=only_bot)
    async def post_words(
        room: str,
        words: Annotated[str, Body()],
        key: Annotated[str, Body()] = "",
        buttons: Annotated[list[dict[str, str]] | None, Body()] = None,
    ) -> dict[str, str]:
        return repeated(key) or posted(net.say(BOT, room, words, _buttons(buttons)), key)

    @app.put("/posts/{post}", dependencies=only_bot)
    async def edit(
        post: str,
        words: Annotated[str, Body(embed=True)],
        buttons: Annotated[list[dict[str, str]] | None, Body()] = None,
    ) -> dict[str, str]:
        return {"id": net.change(post, words, _buttons(buttons)).id}

    @app.delete("/posts/{post}", dependencies=only_bot)
    async def take_away(post: str) -> dict[str, str]:
        return {"id": net.change(post, None).id}

    @app.post("/rooms/{room}/files", dependencies=only_bot)
    async def post_file(
        room: str,
        file: Annotated[UploadFile, File()],
        shown_as: Annotated[str, Form()] = "file",
        key: Annotated[str, Form()] = "",
    ) -> dict[str, str]:
        data = await file.read()
        name = file.filename or "file"
        return repeated(key) or posted(net.show_file(BOT, room, name, len(data), shown_as), key)

    @app.post("/rooms/{room}/spots", dependencies=only_bot)
    async def post_spot(
        room: str,
        label: Annotated[str, Body()],
        north: Annotated[float, Body(ge=-90, le=90)],
        east: Annotated[float, Body(ge=-180, le=180)],
        key: Annotated[str, Body()] = "",
    ) -> dict[str, str]:
        return repeated(key) or posted(net.show_spot(BOT, room, label, north, east), key)

    @app.post("/rooms/{room}/seen", dependencies=only_bot)
    async def seen(room: str, post: Annotated[str, Body(embed=True)]) -> dict[str, str]:
        net.seen[net.room_of(room)] = post
        return {}

    @app.post("/rooms/{room}/sounds", dependencies=only_bot)
    async def post_sound(
        room: str,
        sound: Annotated[UploadFile, File()],
        length: Annotated[float, Form()],
        peaks: Annotated[str, Form()],
        key: Annotated[str, Form()] = "",
    ) -> dict[str, str]:
        data = await sound.read()
        return repeated(key) or posted(
            net.send_note(BOT, room, data, length, json.loads(peaks)), key
        )

    @app.post("/rooms/{room}/signs", dependencies=only_bot)
    async def sign(room: str, doing: Annotated[str, Body(embed=True)]) -> dict[str, str]:
        net.show(room, doing)
        return {}


def _account(person: Person) -> dict[str, str]:
    return {"id": person.id, "name": person.name, "room": person.room}


def _for_people(app: FastAPI, net: Network, hook: Hook) -> None:
    @app.get("/")
    async def page() -> HTMLResponse:
        return HTMLResponse(PAGE.read_text())

    @app.get("/people")
    async def people() -> list[dict[str, str]]:
        return [_account(each) for each in net.people.values()]

    @app.post("/people")
    async def open_account(
        id: Annotated[str, Body()],
        name: Annotated[str, Body()],
    ) -> dict[str, str]:
        return _account(net.open_account(id, name))

    @app.get("/rooms/{room}/posts")
    async def posts(room: str, after: int = 0) -> JsonObject:
        found = net.posts_in(net.room_of(room), after)
        reported = [post.reported() for post in found]
        return {"posts": reported, "doing": net.shown(room), "seen": net.seen.get(room, "")}

    @app.get("/sounds/{sound}")
    async def sound(sound: str) -> Response:
        kept = net.sound(sound)
        return Response(kept.data, media_type="audio/ogg")

    async def body(request: Request) -> bytes:
        data = await request.body()
        if len(data) > MAX_BYTES:
            raise Refusal(413, "too large")
        return data

    def reported(post: Post) -> JsonObject:
        hook.tell(post)
        return post.reported()

    @app.post("/people/{person}/say")
    async def say(
        person: str,
        words: Annotated[str, Body(embed=True)],
        room: Annotated[str, Body()] = "",
        quotes: Annotated[str, Body()] = "",
    ) -> JsonObject:
        author = net.person(person)
        return reported(net.say(author, room or author.room, words, quotes=quotes))

    @app.post("/people/{person}/record")
    async def record(person: str, request: Request) -> JsonObject:
        author = net.person(person)
        data = await body(request)
        return reported(await asyncio.to_thread(net.record, author, author.room, data))

    @app.post("/people/{person}/file")
    async def send_file(person: str, request: Request, name: str = "sound") -> JsonObject:
        author = net.person(person)
        data = await body(request)
        return reported(await asyncio.to_thread(net.send_file, author, author.room, data, name))

    @app.post("/people/{person}/press")
    async def press(person: str, value: Annotated[str, Body(embed=True)]) -> JsonObject:
        author = net.person(person)
        return reported(net.press(author, author.room, value))

    @app.post("/people/{person}/conference")
    async def conference(person: str, number: Annotated[str, Body(embed=True)]) -> dict[str, str]:
        net.conferences[net.person(person).id] = number
        return {"number": number}

    @app.post("/people/{person}/join")
    async def join(person: str) -> JsonObject:
        author = net.person(person)
        return reported(net.join(author, author.room))

    @app.post("/people/{person}/paper")
    async def paper(
        person: str, request: Request, name: str = "picture", below: str = ""
    ) -> JsonObject:
        author = net.person(person)
        kind = request.headers.get("content-type", "")
        return reported(net.send_paper(author, author.room, await body(request), name, kind, below))

    @app.get("/told")
    async def what_the_bot_was_told() -> JsonObject:
        return {"address": hook.address, "deliveries": hook.reported}
