"""The phone process: listens on every phone channel, and carries its calls."""

from __future__ import annotations

import asyncio
import errno
import signal
import time
from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, replace
from functools import partial
from typing import Any

import structlog
from sqlalchemy import select, update
from sqlalchemy.exc import SQLAlchemyError

from fond_echo.background import Looking, keep_running
from fond_echo.composition import Installation
from fond_echo.connectors.secrets import Vault
from fond_echo.contract.channel import ChannelSettings
from fond_echo.contract.engine import EngineKind
from fond_echo.core.errors import FondEchoError
from fond_echo.core.telephony.sip.calls import where
from fond_echo.core.telephony.sip.values import parse_uri
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.call_handling import Speaking, sentences_of
from fond_echo.documents.phone import Listening, PhoneConnector, RegistrarSpec, read_phone
from fond_echo.engines.built_in import NAME as BUILT_IN
from fond_echo.engines.cached import CachedSynthesizer
from fond_echo.engines.registry import Wanted
from fond_echo.phone.dependencies import CallDependencies
from fond_echo.phone.errors import LinkClosed
from fond_echo.phone.remote import BackendHandlers
from fond_echo.phone.roles import ChannelState
from fond_echo.phone.service import ServiceBackend
from fond_echo.running.media import Media
from fond_echo.running.preparing import Preparation
from fond_echo.running.recorder import Recorder
from fond_echo.settings import Settings
from fond_echo.speech.priority import Priority
from fond_echo.speech.remote import RemoteSpeech
from fond_echo.store.calls import ENDING
from fond_echo.store.database import AWAY, Database
from fond_echo.store.migrate import migrate
from fond_echo.store.notices import Notices
from fond_echo.store.queue import queue_app
from fond_echo.store.records import Assistant, Channel, Contact, Conversation, Revision, Turn
from fond_echo.turns.turn import assistant_of
from fond_echo.watchdog import SECONDS_OF_CALLS, watch

log = structlog.get_logger()

FACTS_SECONDS = 10.0
SOON, LONGEST = 0.05, 2.0
"""Seconds between looks whether channels came, went or changed, and calls are to be placed: notices
tell of most of it, but for calls that are to be placed later."""

LOOKED_FOR = ("assistant.", "channel.", "call.requested", ENDING)
"""What of that is committed, by how the types of its notices begin."""


MAX_KEPT = 200
"""Revisions of which it is kept how they speak."""


@dataclass
class _Open:
    """A channel that listens: what it was made of, its description, how its assistant speaks."""

    mark: tuple[str, ...]
    connector: PhoneConnector
    speaking: Speaking


class Phones:
    """The phone channels of an installation, as they are in the database."""

    def __init__(
        self, database: Database, backend: ServiceBackend, media: Media, world: Installation
    ) -> None:
        self._database, self._backend, self._media, self._world = database, backend, media, world
        self._open: dict[str, _Open] = {}
        self._speaks: dict[str, Speaking] = {}
        self._told_at = 0.0

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
        for name in list(self._open):
            if name not in channels or self._open[name].mark != _mark(channels[name]):
                del self._open[name]
                await self._media.close(name)
        for name, channel in channels.items():
            if name not in self._open:
                await self._start(channel, live[name])
            if (known := self._open.get(name)) is not None:
                self._backend.channels[name] = channel
                speaking = await self._speaking(channel, live[name], known.connector)
                if speaking != known.speaking:
                    known.speaking = speaking
                    await self._media.speak_as(name, speaking)
                await self._say(channel, await self._media.look(name))

    async def _start(self, channel: Channel, live: str) -> None:
        try:
            connector = read_phone(channel.connector, f"{channel.name}.yaml")
            vault = await self._world.vault()
            passwords = {
                each.password.secret: _password(vault, each) for each in connector.registrars
            }
            passwords |= {
                each.password.secret: vault[each.password.secret] for each in connector.callers
            }
            speaking = await self._speaking(channel, live, connector)
            self._backend.channels[channel.name] = channel
            await self._media.open(channel.name, channel.connector, speaking, passwords)
        except LinkClosed:
            raise
        except OSError as error:
            why = self._why_not(error, connector.listen)
            await self._say(channel, ChannelState("not-connected", why, [], {}))
            return
        except FondEchoError as error:
            await self._say(channel, ChannelState("not-connected", str(error), [], {}))
            return
        self._open[channel.name] = _Open(_mark(channel), connector, speaking)
        log.info("phone channel listens", channel=channel.name, port=connector.listen.port)

    def _why_not(self, error: OSError, wanted: Listening) -> str:
        """Why a channel cannot listen, and what to do."""
        place = f"{wanted.host}:{wanted.port}"
        if error.errno != errno.EADDRINUSE:
            return f"cannot listen on {place}: {error.strerror}"
        for name, known in self._open.items():
            if known.connector.listen.port == wanted.port:
                return (
                    f"the channel {name} listens on port {wanted.port}: give this one another port"
                )
        return f"another program listens on {place}: stop it, or give the channel another port"

    async def _speaking(self, channel: Channel, live: str, connector: PhoneConnector) -> Speaking:
        """How a channel's assistant speaks, in its live revision, and those of its numbers; and how
        to testers, in their drafts."""
        own = ChannelSettings.model_validate(channel.settings).engines
        named = {channel.assistant, *connector.assistants.values()}
        wanted = select(Assistant).where(Assistant.name.in_(named), Assistant.live.is_not(None))
        testing = select(Contact.external_id).where(Contact.channel == channel.name, Contact.tester)
        async with self._database.reading() as session:
            found = {each.name: each for each in (await session.scalars(wanted)).all()}
            testers = (await session.scalars(testing)).all()

        async def speaks(own_revision: str, which: Callable[[Assistant], str]) -> Speaking:
            return replace(
                _with(await self._speaks_as(own_revision), own),
                numbers={
                    number: _with(await self._speaks_as(which(found[name])), own)
                    for number, name in connector.assistants.items()
                    if name in found
                },
            )

        speaking = await speaks(live, lambda each: each.live or "")
        if not testers or channel.assistant not in found:
            return speaking
        drafted = await speaks(
            found[channel.assistant].draft or live, lambda each: each.draft or each.live or ""
        )
        return replace(speaking, testers=dict.fromkeys(testers, drafted))

    async def _speaks_as(self, live: str) -> Speaking:
        """How an assistant speaks, in a revision."""
        if live in self._speaks:
            return self._speaks[live]
        async with self._database.reading() as session:
            revision = await session.get_one(Revision, live)
        assistant = assistant_of(revision.digest, revision.files)
        greeting = _always_the_same(assistant)
        says = sentences_of(assistant.says)
        speaking = Speaking(assistant.voice, greeting, live or "", says, assistant.language)
        speaking = _with(speaking, assistant.engines.of(in_call=True))
        # The latest are kept: a draft may change many times a day.
        self._speaks = dict([(revision.digest, speaking), *self._speaks.items()][:MAX_KEPT])
        return speaking

    async def _say(self, channel: Channel, found: ChannelState) -> None:
        facts: dict[str, Any] = {"registrars": found.registrars} if found.registrars else {}
        # How the loop does changes all the time; that is told every few seconds.
        stale = time.monotonic() - self._told_at > FACTS_SECONDS
        loop = found.loop if stale else channel.facts.get("loop")
        if loop:
            facts["loop"] = loop
        reported = (channel.state, channel.reason, channel.facts)
        if reported == (found.state, found.reason, facts):
            return
        if stale:
            self._told_at = time.monotonic()
        async with self._database.writing() as session:
            changed = update(Channel).where(Channel.name == channel.name)
            values = {"state": found.state, "reason": found.reason, "facts": facts}
            await session.execute(changed.values(**values))


def _always_the_same(assistant: AssistantFile) -> str:
    """The words of a greeting that is spoken, and the same in every call; "" for any other."""
    own = assistant.greeting
    words = (own.spoken or own.text).strip() if own is not None and not own.sound else ""
    return "" if "{{" in words or "{%" in words else words


def _with(speaking: Speaking, names: Mapping[EngineKind, Sequence[str]]) -> Speaking:
    """How an assistant speaks and hears, with the engines that are named for calls."""
    if "speak" in names:
        speaking = replace(speaking, engines=tuple(names["speak"]))
    if hears := names.get("transcribe"):
        speaking = replace(speaking, live=hears[0] != BUILT_IN)
    return speaking


def _mark(channel: Channel) -> tuple[str, ...]:
    """What makes a channel another one."""
    return channel.connector, channel.assistant, str(channel.settings)


def _password(vault: Vault, spec: RegistrarSpec) -> str:
    """What proves to a registrar who we are; it is never sent, and bound to its host all the same.
    Raises SecretMisused."""
    host, port, _ = where(parse_uri(spec.uri))
    value = vault[spec.password.secret]
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
    stopping = asyncio.Event()
    for name in (signal.SIGINT, signal.SIGTERM):
        asyncio.get_running_loop().add_signal_handler(name, stopping.set)
    async with Installation.open(settings, database, "call") as world, queue.open_async():
        world.warm()
        synthesizer = CachedSynthesizer(world.synthesizer(Wanted(purpose="call")))
        recorder = Recorder(settings)
        await recorder.start()
        needs = CallDependencies(
            database, queue, world, world.clips, world.blobs, synthesizer, world.client, recorder,
            world.engine_voice,
        )  # fmt: skip
        backend = ServiceBackend(needs)
        handlers = BackendHandlers(backend)
        media = Media(handlers, settings)
        await media.begin()
        phones = Phones(database, backend, media, world)
        count = await lost(database)
        log.info("the telephone begins", calls_lost=count)
        gone = [asyncio.create_task(each.gone()) for each in (media, recorder)]
        stopped = asyncio.create_task(stopping.wait())
        looking = Looking(SOON, LONGEST)

        speech = RemoteSpeech(settings.speech_url, settings.speech_token, Priority.LONG_FILE)
        preparation = Preparation(database, speech, in_call=True)

        def told(type: str, subject: str) -> None:
            if not type or type.startswith(LOOKED_FOR):
                looking.wake()
            preparation.told(type, subject)

        beside = [
            asyncio.create_task(keep_running(name, work))
            for name, work in (
                ("holding the loop to its turns", partial(watch, SECONDS_OF_CALLS)),
                ("showing the process with the calls that this one lives", handlers.show_life),
                ("hearing of what was committed", Notices(database, told).listen),
                ("preparing what is published", preparation.run),
            )
        ]
        try:
            while not stopping.is_set():
                try:
                    await phones.look()
                except (SQLAlchemyError, *AWAY) as error:
                    log.warning("the database is away", reason=str(error).splitlines()[0])
                except LinkClosed:
                    raise
                except Exception:
                    # One channel's fault ends no calls.
                    log.exception("a look at the telephone channels failed")
                pause = asyncio.create_task(looking.pause(None))
                await asyncio.wait([*gone, stopped, pause], return_when=asyncio.FIRST_COMPLETED)
                pause.cancel()
                if any(each.done() for each in gone):
                    raise LinkClosed("the process with the sound of calls, or of recordings, ended")
        finally:
            for task in beside:
                task.cancel()
            await speech.close()
            await media.stop()
            await backend.stop()
            await recorder.stop()
    await database.close()
