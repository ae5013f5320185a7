"""The phone process: listens on every phone channel, and carries its calls."""

from __future__ import annotations

import asyncio
import contextlib
import errno
import signal
from collections.abc import Sequence

import structlog
from sqlalchemy import select, update
from sqlalchemy.exc import SQLAlchemyError

from fond_echo.channels.phone.dependencies import CallDependencies
from fond_echo.channels.phone.prompts import Prompts
from fond_echo.channels.phone.roles import Speaking
from fond_echo.channels.phone.server import PhoneServer
from fond_echo.connectors.secrets import Vault
from fond_echo.core.errors import FondEchoError
from fond_echo.core.telephony.media import loudness
from fond_echo.core.telephony.sip.calls import where
from fond_echo.core.telephony.sip.values import parse_uri
from fond_echo.documents.phone import Listening, RegistrarSpec, read_phone
from fond_echo.running.world import ServiceWorld
from fond_echo.settings import Settings
from fond_echo.speech.priority import Priority
from fond_echo.speech.remote import RemoteSpeech
from fond_echo.stages.turn import assistant_of
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.database import AWAY, Database
from fond_echo.store.migrate import migrate
from fond_echo.store.queue import queue_app
from fond_echo.store.records import Assistant, Channel, Conversation, Revision, Turn

log = structlog.get_logger()

LOOK_SECONDS = 0.5
"""How often it is looked whether channels came, went or changed, and calls are to be placed."""


class Phones:
    """The phone channels of an installation, as they are in the database."""

    def __init__(self, database: Database, needs: CallDependencies, world: ServiceWorld) -> None:
        self._database, self._needs, self._world = database, needs, world
        self._servers: dict[str, tuple[tuple[str, ...], PhoneServer]] = {}
        self._speaks: dict[str, Speaking] = {}

    async def look(self) -> None:
        """Start what is new, stop what is gone, say how each channel stands."""
        async with self._database.reading() as session:
            wanted = (
                select(Channel, Assistant.live)
                .join(Assistant, Assistant.name == Channel.assistant)
                .where(Channel.kind == "phone")
                .order_by(Channel.name)
            )
            rows = (await session.execute(wanted)).all()
        channels = {channel.name: channel for channel, _ in rows}
        live = {channel.name: digest or "" for channel, digest in rows}
        for name in list(self._servers):
            kept = self._servers[name][0]
            if name not in channels or kept != _mark(channels[name]):
                _, server = self._servers.pop(name)
                await server.stop()
        for name, channel in channels.items():
            if name not in self._servers:
                await self._start(channel, live[name])
            if name in self._servers:
                server = self._servers[name][1]
                await self._say(channel, server.standing, server.registered)
                speaking = await self._speaking(live[name])
                if speaking != server.speaking:
                    await server.speak_as(speaking)
                await server.look()

    async def _start(self, channel: Channel, live: str) -> None:
        try:
            description = read_phone(channel.description, f"{channel.name}.yaml")
            vault = await self._world.vault()
            passwords = {each.secret: _password(vault, each) for each in description.registrars}
            passwords |= {each.secret: vault[each.secret] for each in description.callers}
            speaking = await self._speaking(live)
            server = PhoneServer(channel, description, self._needs, speaking, passwords)
            await server.start()
        except OSError as error:
            await self._say(channel, ("not-connected", self._why_not(error, description.listen)))
            return
        except FondEchoError as error:
            await self._say(channel, ("not-connected", str(error)))
            return
        self._servers[channel.name] = _mark(channel), server
        log.info("phone channel listens", channel=channel.name, port=description.listen.port)

    def _why_not(self, error: OSError, wanted: Listening) -> str:
        """Why a channel cannot listen, and what to do."""
        place = f"{wanted.host}:{wanted.port}"
        if error.errno != errno.EADDRINUSE:
            return f"cannot listen on {place}: {error.strerror}"
        for name, (_, server) in self._servers.items():
            if server.description.listen.port == wanted.port:
                return (
                    f"the channel {name} listens on port {wanted.port}: give this one another port"
                )
        return f"another program listens on {place}: stop it, or give the channel another port"

    async def _speaking(self, live: str) -> Speaking:
        """How a channel's assistant speaks, in its live revision."""
        if live in self._speaks:
            return self._speaks[live]
        async with self._database.reading() as session:
            revision = await session.get_one(Revision, live)
        assistant = assistant_of(revision.digest, revision.files)
        always_same = not ("{{" in assistant.greeting or "{%" in assistant.greeting)
        greeting = assistant.greeting.strip() if always_same else ""
        self._speaks = {
            revision.digest: Speaking(assistant.voice, greeting, live or "")
        } | self._speaks
        return self._speaks[revision.digest]

    async def _say(
        self, channel: Channel, standing: tuple[str, str], registered: Sequence[dict[str, str]] = ()
    ) -> None:
        facts = {"registrars": list(registered)} if registered else {}
        if (channel.state, channel.reason) == standing and channel.facts == facts:
            return
        async with self._database.writing() as session:
            state, reason = standing
            changed = update(Channel).where(Channel.name == channel.name)
            await session.execute(changed.values(state=state, reason=reason, facts=facts))

    async def stop(self) -> None:
        for _, server in self._servers.values():
            await server.stop()


def _mark(channel: Channel) -> tuple[str, ...]:
    """What makes a channel another one."""
    return channel.description, channel.assistant, str(channel.settings)


def _password(vault: Vault, spec: RegistrarSpec) -> str:
    """What proves to a registrar who we are; it is never sent, and bound to its host all the same.
    Raises SecretMisused."""
    host, port, _ = where(parse_uri(spec.uri))
    value = vault[spec.secret]
    vault.check_hosts(host, port)
    return value


async def lost(database: Database) -> int:
    """Turns of calls that ended with the process that carried them: they are marked as failed, for
    nobody is there any more to hear an answer. How many there were."""
    what = "the phone process stopped during the call"
    error = {"stage": "receive", "code": "call-lost", "what": what}
    mine = (
        select(Turn.id)
        .join(Conversation, Conversation.id == Turn.conversation_id)
        .join(Channel, Channel.name == Conversation.channel)
        .where(Channel.kind == "phone", Turn.state.in_(("received", "working", "waiting")))
    )
    async with database.writing() as session:
        changed = (
            update(Turn).where(Turn.id.in_(mine)).values(state="failed", error=error)
            .returning(Turn.id)
        )  # fmt: skip
        return len((await session.execute(changed)).all())


async def run(settings: Settings) -> None:
    """Carry calls until told to stop."""
    database = Database(settings.database)
    await migrate(database)
    queue = queue_app(settings.database)
    voice = RemoteSpeech(settings.speech_url, settings.speech_token, Priority.CALL)
    stopping = asyncio.Event()
    for name in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(name, stopping.set)
    async with ServiceWorld.open(settings, database, Priority.CALL) as world, queue.open_async():
        needs = CallDependencies(
            database, queue, world, world.clips, PostgresBlobs(), Prompts(voice), world.client
        )
        phones = Phones(database, needs, world)
        loudness.warm()
        count = await lost(database)
        log.info("the telephone begins", calls_lost=count)
        while not stopping.is_set():
            try:
                await phones.look()
            except (SQLAlchemyError, *AWAY) as error:
                log.warning("the database is away", reason=str(error).splitlines()[0])
            with contextlib.suppress(TimeoutError):
                await asyncio.wait_for(stopping.wait(), LOOK_SECONDS)
        await phones.stop()
    await voice.close()
    await database.close()
