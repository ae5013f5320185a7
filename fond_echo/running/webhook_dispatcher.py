"""Delivering events to subscriptions.

Events are fanned out in the order of commits and posted, signed by the Standard Webhooks scheme.
Each subscription has a task of its own, so that one whose server hangs costs the others nothing,
and no transaction is open while a server is waited for: a delivery is leased, posted, settled.
Deliveries with one order key (a call, a conversation) go out one after the other: where one fails,
those after it wait until it is delivered, or given up.
"""

from __future__ import annotations

import asyncio
import json
import time
from collections.abc import Sequence
from datetime import UTC, datetime, timedelta
from functools import partial
from typing import Any

import structlog
from sqlalchemy import insert, select, text, update
from sqlalchemy.exc import SQLAlchemyError

from fond_echo.background import Looking, keep_running
from fond_echo.composition import Installation
from fond_echo.connectors.addresses import address_of
from fond_echo.connectors.secrets import Vault
from fond_echo.contract.base import JsonObject
from fond_echo.contract.signatures import signed_headers
from fond_echo.core.errors import FondEchoError
from fond_echo.settings import Settings
from fond_echo.store.database import AWAY, Database
from fond_echo.store.event_records import Subscription, WebhookDelivery
from fond_echo.store.events import Cursor, StoredEvent, events_after
from fond_echo.web.events import envelope_of

log = structlog.get_logger()

SOON, LONGEST_FAN_OUT, LONGEST_DUE = 0.2, 4.0, 2.0
"""Seconds between looks: for new events, of which a notice tells; for what is due, which may come
of another process's work, or by the clock."""

LIST_SECONDS = 2.0
"""How often new subscriptions are looked for."""

PAUSES = (5, 30, 120, 600, 1_800, 7_200, 21_600)
"""Seconds before each further try; after the last a delivery is undelivered."""

MAX_AGE = timedelta(hours=24)
"""One that is older is undelivered after its next failure: those behind it have waited for it."""

AT_ONCE = 16
"""Posts to one subscription at the same time, each with another order key."""

POST_SECONDS = 10.0
LEASE_SECONDS = 30.0
"""Longer than a post may take: then its process has stopped, and another takes it."""

LOCK = 141_421_356

_LEASE = text(
    """
    UPDATE webhook_deliveries SET leased_until = now() + make_interval(secs => :lease)
     WHERE id IN (
        SELECT first.id FROM webhook_deliveries AS first
         WHERE first.subscription_id = :subscription AND first.state = 'due'
           AND first.due_at <= now()
           AND (first.leased_until IS NULL OR first.leased_until < now())
           AND NOT EXISTS (SELECT FROM webhook_deliveries AS before
                            WHERE before.subscription_id = first.subscription_id
                              AND before.state = 'due'
                              AND before.order_key = first.order_key
                              AND before.number < first.number)
         ORDER BY first.number LIMIT :most
           FOR UPDATE SKIP LOCKED)
    RETURNING id, event, attempts, created_at
    """
)
"""The first due delivery of each order key."""


class WebhookDispatcher:
    """Fans events out, and posts them."""

    def __init__(self, settings: Settings, database: Database, world: Installation) -> None:
        self._settings = settings
        self._database = database
        self._world = world
        self._senders: dict[str, asyncio.Task[None]] = {}
        self._events = Looking(SOON, LONGEST_FAN_OUT)
        self._due: dict[str, Looking] = {}

    def told(self, type: str, subject: str) -> None:
        """Something was committed."""
        self._events.wake()

    async def run(self) -> None:
        """Dispatch, without end."""
        try:
            async with asyncio.TaskGroup() as tasks:
                tasks.create_task(keep_running("fanning events out", self._fan_out_on))
                tasks.create_task(keep_running("finding subscriptions", self._attend))
        finally:
            for task in self._senders.values():
                task.cancel()

    async def _fan_out_on(self) -> None:
        while True:
            found = await self.fan_out()
            if found:
                for due in self._due.values():
                    due.wake()
            await self._events.pause(found)

    async def _attend(self) -> None:
        """Give each subscription a sender, and end those of subscriptions that are gone."""
        while True:
            async with self._database.reading() as session:
                there = set((await session.execute(select(Subscription.id))).scalars())
            for id in set(self._senders) - there:
                self._senders.pop(id).cancel()
                del self._due[id]
            for id in there - set(self._senders):
                self._due[id] = Looking(SOON, LONGEST_DUE)
                work = partial(self._send_on, id, self._due[id])
                self._senders[id] = asyncio.create_task(
                    keep_running(f"posting to subscription {id}", work)
                )
            await asyncio.sleep(LIST_SECONDS)

    async def _send_on(self, subscription_id: str, due: Looking) -> None:
        while True:
            await due.pause(await self.send_due(subscription_id))

    async def fan_out(self) -> int:
        """Make a delivery of each new event for each subscription that wants it."""
        rows: list[JsonObject] = []
        async with self._database.writing() as session:
            # One process at a time: deliveries keep the order of events.
            locked = text("SELECT pg_try_advisory_xact_lock(:lock)")
            if not (await session.execute(locked, {"lock": LOCK})).scalar_one():
                return 0
            for subscription in (await session.execute(select(Subscription))).scalars().all():
                for event in await events_after(session, Cursor.parse(subscription.cursor)):
                    subscription.cursor = str(event.cursor)
                    if _wanted(subscription, event):
                        reported = envelope_of(event, self._settings.address)
                        rows.append(
                            {
                                "subscription_id": subscription.id,
                                "event": reported.model_dump(mode="json"),
                                "order_key": order_key(event),
                            }
                        )
            if rows:
                # In this order: so their numbers are given.
                await session.execute(insert(WebhookDelivery), rows)
        return len(rows)

    async def send_due(self, subscription_id: str) -> int:
        """Post what is due to a subscription; gives how many deliveries were tried."""
        leased = await self._lease(subscription_id)
        if not leased:
            return 0
        async with self._database.reading() as session:
            subscription = await session.get(Subscription, subscription_id)
        if subscription is None:
            return 0
        vault = await self._world.vault()
        posts = (self._try(subscription, each, vault.apart()) for each in leased)
        await self._settle(await asyncio.gather(*posts))
        return len(leased)

    async def _lease(self, subscription_id: str) -> Sequence[Any]:
        async with self._database.writing() as session:
            values = {"subscription": subscription_id, "lease": LEASE_SECONDS, "most": AT_ONCE}
            return (await session.execute(_LEASE, values)).all()

    async def _try(self, subscription: Subscription, leased: Any, vault: Vault) -> JsonObject:
        """Post one delivery; gives what came of it, with its id. Whatever goes wrong is its own."""
        try:
            problem = await self._post(subscription, leased, vault)
        except Exception as error:
            problem = f"{type(error).__name__}: {error}"
        changes: JsonObject = {"id": leased.id, "attempts": leased.attempts + 1}
        if not problem:
            return changes | {"state": "sent", "error": ""}
        changes["error"] = problem[:500]
        old = datetime.now(UTC) - leased.created_at > MAX_AGE
        if old or leased.attempts >= len(PAUSES):
            log.warning("event not delivered", subscription=subscription.id, reason=problem)
            return changes | {"state": "undelivered"}
        pause = timedelta(seconds=PAUSES[leased.attempts])
        return changes | {"due_at": datetime.now(UTC) + pause}

    async def _settle(self, results: Sequence[JsonObject]) -> None:
        """Write down what came of deliveries, all at once."""
        try:
            async with self._database.writing() as session:
                for result in results:
                    values = {name: value for name, value in result.items() if name != "id"}
                    changed = update(WebhookDelivery).where(
                        WebhookDelivery.id == result["id"], WebhookDelivery.state == "due"
                    )
                    await session.execute(changed.values(**values, leased_until=None))
        except (SQLAlchemyError, *AWAY) as error:
            # Their leases end, and they are posted again, with the same ids.
            log.warning("what came of events is lost", reason=str(error).splitlines()[0])

    async def _post(self, subscription: Subscription, leased: Any, vault: Vault) -> str:
        """What was wrong; empty where it was taken."""
        body = json.dumps(leased.event, separators=(",", ":")).encode()
        try:
            host, port = address_of(subscription.address)
            secret = vault[subscription.secret]
            vault.check_hosts(host, port)
            headers = signed_headers(secret, leased.id, int(time.time()), body)
            headers["Content-Type"] = "application/cloudevents+json"
            async with asyncio.timeout(POST_SECONDS + 1):
                answer = await self._world.client.post(
                    subscription.address, content=body, headers=headers, timeout=POST_SECONDS
                )
        except FondEchoError as error:
            return str(error)
        return f"it answered {answer.status_code}" if answer.status_code >= 300 else ""


def order_key(event: StoredEvent) -> str:
    """Events with the same key are delivered in order: those of a call, of a conversation."""
    return str(event.data.get("call") or event.data.get("conversation") or event.subject)


def _wanted(subscription: Subscription, event: StoredEvent) -> bool:
    full = f"fond-echo.{event.type}"
    types = subscription.types
    return not types or any(full.startswith(each) or event.type.startswith(each) for each in types)
