"""The web process's application."""

from __future__ import annotations

import contextlib
from collections.abc import AsyncIterator

from fastapi import FastAPI
from sqlalchemy import select, text

from fond_echo import __version__
from fond_echo.composition import Installation
from fond_echo.contract.base import JsonObject
from fond_echo.settings import Settings
from fond_echo.store.access_records import Key
from fond_echo.store.database import Database
from fond_echo.store.keys import add_key, new_key
from fond_echo.store.migrate import migrate
from fond_echo.store.queue import queue_app
from fond_echo.web import (
    assistants,
    benches,
    calls,
    cases,
    channels,
    clips,
    console,
    contacts,
    contracts,
    conversations,
    correcting,
    drafting,
    engines,
    events,
    health,
    hearing,
    http_channel,
    keys,
    links,
    loading,
    mispronounced,
    packages,
    page_channel,
    problems,
    publishing,
    renditions,
    replays,
    requests,
    saying,
    secrets,
    session,
    subscriptions,
    talking,
    testers,
    trying,
    turn_actions,
    turns,
    webhooks,
    widening,
)
from fond_echo.web.bodies import BoundedBodies
from fond_echo.web.service import Service


@contextlib.asynccontextmanager
async def serving(app: FastAPI, settings: Settings) -> AsyncIterator[None]:
    """What the application needs, while it serves; the database is migrated before."""
    database = Database(settings.database)
    await migrate(database)
    async with Installation.open(settings, database, "program") as installation:
        service = Service(installation, queue_app(settings.database))
        app.state.service = service
        await first_key(service)
        service.feed.start()
        yield
        await service.feed.stop()
    await database.close()


class _Application(FastAPI):
    """Says of every operation how its errors look, once the document is asked for."""

    def openapi(self) -> JsonObject:
        if self.openapi_schema is None:
            problems.describe(super().openapi())
        assert self.openapi_schema is not None
        return self.openapi_schema


def create_app(settings: Settings) -> FastAPI:
    """The application; it migrates the database when it starts."""
    app = _Application(
        title="Fond Echo",
        version=__version__,
        summary="An ear and a voice for text business logic.",
        lifespan=lambda app: serving(app, settings),
        openapi_url="/api/openapi.json",
        docs_url=None,
        redoc_url=None,
    )
    problems.install(app)
    app.add_middleware(BoundedBodies)
    for part in (
        # The first that fits is taken, and what comes most often is looked for first.
        webhooks,
        *(
            session,
            packages,
            assistants,
            trying,
            widening,
            mispronounced,
            replays,
            cases,
            publishing,
            channels,
            requests,
            contracts,
            contacts,
            testers,
            saying,
            turns,
            turn_actions,
            conversations,
            calls,
            talking,
            clips,
            hearing,
            renditions,
            links,
            engines,
            benches,
            secrets,
            keys,
            loading,
            correcting,
            drafting,
        ),
        *(events, subscriptions, http_channel, page_channel, health),
    ):
        # Not included: that would make every route once more, at the first request.
        app.router.routes += part.router.routes

    console.install(app)
    return app


async def first_key(service: Service) -> None:
    """Where there are no keys at all, make one, and show it once."""
    async with service.database.writing() as writing:
        await writing.execute(text("SELECT pg_advisory_xact_lock(577215665)"))
        if (await writing.execute(select(Key.id).limit(1))).first():
            return
        given = service.settings.first_key
        key = given or new_key()
        await add_key(writing, "first", ["admin"], key)
    if not given:
        print(f"The first key, shown only now: {key}", flush=True)
