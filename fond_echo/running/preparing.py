"""What is built of a revision once it is published, so that the first message on it need not wait:
its router, the network of what it expects, and what recognition makes of that."""

from __future__ import annotations

import asyncio
from collections.abc import Mapping

import structlog
from sqlalchemy import select

from fond_echo.background import Looking
from fond_echo.core.caching import Recent
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.transcript import Expected
from fond_echo.engines.built_in import NAME
from fond_echo.speech.remote import RemoteSpeech
from fond_echo.store.database import Database
from fond_echo.store.records import Assistant, Channel, Revision
from fond_echo.turns.expected import understood_by
from fond_echo.turns.turn import assistant_of, router_of

log = structlog.get_logger()

SOON, LONGEST = 0.2, 3_600.0
MAX_PREPARED = 100
"""So many assistants, those that changed last, are prepared where a process begins."""


class Preparation:
    """Prepares live revisions in this process and, where it is given, in the speech process.

    Args:
        speech: the speech process, which prepares too.
        in_call: only those of telephone channels, for calls.
    """

    def __init__(self, database: Database, speech: RemoteSpeech, *, in_call: bool) -> None:
        self._database, self._speech, self._in_call = database, speech, in_call
        self._prepared: Recent[str, bool] = Recent(4 * MAX_PREPARED)
        self._looking = Looking(SOON, LONGEST)

    def told(self, type: str, subject: str) -> None:
        """Something was committed."""
        if not type or type == "assistant.published":
            self._looking.wake()

    async def run(self) -> None:
        """Without end."""
        while True:
            for digest in await self._wanted():
                await self._prepare(digest)
            await self._looking.pause(None)

    async def _wanted(self) -> list[str]:
        """Live revisions that were not prepared."""
        live = (
            select(Assistant.live)
            .where(Assistant.live.is_not(None))
            .order_by(Assistant.changed_at.desc())
            .limit(MAX_PREPARED)
        )
        if self._in_call:
            live = live.where(
                Assistant.name.in_(select(Channel.assistant).where(Channel.kind == "phone"))
            )
        async with self._database.reading() as session:
            found = (await session.execute(live)).scalars()
            return [digest for digest in found if digest and digest not in self._prepared]

    async def _prepare(self, digest: str) -> None:
        async with self._database.reading() as session:
            kept = await session.get(Revision, digest)
        if kept is None:
            return
        try:
            expected, language = await asyncio.to_thread(_built, digest, kept.files, self._in_call)
            for each in expected:
                await self._speech.prepare(each, language)
        except FondEchoError as error:
            # Whoever comes first waits, and is told what is wrong.
            log.warning("a revision could not be prepared", revision=digest, reason=str(error))
            if error.code.startswith("speech"):
                return
        self._prepared.keep(digest, True)


def _built(digest: str, files: Mapping[str, str], in_call: bool) -> tuple[list[Expected], str]:
    """What a revision expects before anything was said, and after it asked something; nothing where
    other engines hear for it."""
    assistant = assistant_of(digest, files)
    router_of(digest, assistant)
    engines = assistant.engines
    others = engines.of(in_call=in_call).get("transcribe", [])
    if others and NAME not in others and (in_call or not engines.second_pass):
        return [], assistant.language
    expected = [understood_by(digest, assistant, requested=each) for each in (False, True)]
    return expected, assistant.language
