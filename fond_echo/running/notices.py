"""Telling subscriptions of events: fanned out in the order of commits, signed, tried again with
longer and longer pauses, and kept as dead when they cannot be told."""

from __future__ import annotations

import asyncio
import json
import time
from datetime import UTC, datetime, timedelta

import httpx
import structlog
from sqlalchemy import insert, select, text
from sqlalchemy.exc import SQLAlchemyError

from fond_echo.contract.signatures import signed_headers
from fond_echo.core.errors import FondEchoError
from fond_echo.outside.secrets import Vault
from fond_echo.running.world import ServiceWorld
from fond_echo.settings import Settings
from fond_echo.store.database import Database
from fond_echo.store.events import Cursor, StoredEvent, events_after
from fond_echo.store.records import Notice, Subscription
from fond_echo.web.events import envelope_of

log = structlog.get_logger()

LOOK_SECONDS = 0.5
PAUSES = (5, 30, 120, 600, 1_800, 7_200, 21_600)
"""Seconds before each further try; after the last the notice is dead."""
AT_ONCE = 20
LOCK = 141_421_356


class Teller:
    """Fans events out and sends them."""

    def __init__(self, settings: Settings, database: Database, world: ServiceWorld) -> None:
        self._settings = settings
        self._database = database
        self._world = world

    async def run(self) -> None:
        """Tell, for ever."""
        while True:
            try:
                await self.fan_out()
                count = await self.send_due()
            except SQLAlchemyError as error:
                log.warning("events could not be told", reason=str(error).splitlines()[0])
                count = 0
            if not count:
                await asyncio.sleep(LOOK_SECONDS)

    async def fan_out(self) -> int:
        """Make a notice of each new event for each subscription that wants it."""
        count = 0
        async with self._database.writing() as session:
            # One process at a time: notices keep the order of events.
            locked = text("SELECT pg_try_advisory_xact_lock(:lock)")
            if not (await session.execute(locked, {"lock": LOCK})).scalar_one():
                return 0
            for subscription in (await session.execute(select(Subscription))).scalars().all():
                found = await events_after(session, Cursor.parse(subscription.cursor))
                for event in found:
                    subscription.cursor = str(event.cursor)
                    if _wanted(subscription, event):
                        told = envelope_of(event, self._settings.address)
                        # One by one: their numbers are given in this order.
                        made = insert(Notice).values(
                            subscription_id=subscription.id, event=told.model_dump(mode="json")
                        )
                        await session.execute(made)
                        count += 1
        return count

    async def send_due(self) -> int:
        """Send what is due; gives how many notices that were."""
        async with self._database.writing() as session:
            due = (
                select(Notice, Subscription)
                .join(Subscription, Subscription.id == Notice.subscription_id)
                .where(Notice.state == "due", Notice.due_at <= datetime.now(UTC))
                .order_by(Notice.number)
                .limit(AT_ONCE)
                .with_for_update(of=Notice, skip_locked=True)
            )
            rows = (await session.execute(due)).all()
            if rows:
                vault = await self._world.vault()
                for notice, subscription in rows:
                    await self._send(notice, subscription, vault.apart())
        return len(rows)

    async def _send(self, notice: Notice, subscription: Subscription, vault: Vault) -> None:
        body = json.dumps(notice.event, separators=(",", ":")).encode()
        problem = ""
        try:
            url = httpx.URL(subscription.address)
            secret = vault[subscription.secret]
            vault.check_hosts(url.host, url.port or (443 if url.scheme == "https" else 80))
            headers = signed_headers(secret, notice.id, int(time.time()), body)
            headers["Content-Type"] = "application/cloudevents+json"
            answer = await self._world.client.post(
                subscription.address, content=body, headers=headers, timeout=10.0
            )
            if answer.status_code >= 300:
                problem = f"it answered {answer.status_code}"
        except (httpx.HTTPError, FondEchoError) as error:
            problem = str(error) or type(error).__name__
        notice.attempts += 1
        if not problem:
            notice.state, notice.error = "sent", ""
            return
        notice.error = problem[:500]
        if notice.attempts > len(PAUSES):
            notice.state = "dead"
            log.warning("an event was given up", subscription=subscription.id, reason=problem)
        else:
            pause = PAUSES[notice.attempts - 1]
            notice.due_at = datetime.now(UTC) + timedelta(seconds=pause)


def _wanted(subscription: Subscription, event: StoredEvent) -> bool:
    full = f"fond-echo.{event.type}"
    types = subscription.types
    return not types or any(full.startswith(each) or event.type.startswith(each) for each in types)


async def forget_sent(database: Database) -> None:
    """Notices that were sent an hour ago are not kept."""
    async with database.writing() as session:
        await session.execute(
            text("DELETE FROM notices WHERE state = 'sent' AND made_at < now() - interval '1 hour'")
        )
