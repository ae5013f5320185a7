"""The queue, in the same database: a job is enqueued in the transaction that needs it."""

from __future__ import annotations

import time
from typing import Any
from weakref import WeakKeyDictionary

import procrastinate
import psycopg
from psycopg_pool import AsyncConnectionPool
from sqlalchemy import text
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.store.database import IDLE_SECONDS, QuietConnection, driver_connection, plain_url

HEARTBEAT_SECONDS = 2.0
STALLED_SECONDS = 6.0
POLL_SECONDS = 1.0

WORK_TURN = "work-turn"
"""The one job of the queued driver: carry a turn as far as it goes now."""

SEND_DELIVERY = "send-delivery"
"""Send a delivery that an operator wants sent again."""


def queue_app(url: str, *, connections: int = 5) -> procrastinate.App:
    """The queue on a database. It must be opened (`open_async`) to run a worker; to enqueue with
    `enqueue` it need not."""
    connector = procrastinate.PsycopgConnector(
        pool_factory=_pool, conninfo=plain_url(url), min_size=1, max_size=connections
    )
    return procrastinate.App(connector=connector)


def _pool(**given: Any) -> AsyncConnectionPool:
    """Connections on which each statement is a transaction of its own, as the queue uses them; one
    that was used lately is taken to be alive."""
    checked: WeakKeyDictionary[Any, float] = WeakKeyDictionary()

    async def check(connection: Any) -> None:
        now = time.monotonic()
        if now - checked.get(connection, 0.0) > IDLE_SECONDS:
            await AsyncConnectionPool.check_connection(connection)
        checked[connection] = now

    kept = {"connection_class": QuietConnection, "configure": _autocommit, "check": check}
    return AsyncConnectionPool(**{**given, **kept})


async def _autocommit(connection: psycopg.AsyncConnection[Any]) -> None:
    await connection.set_autocommit(True)


def deferring(turn: str, after: str = "0") -> str:
    """What `enqueue` does for a turn, as a part of another statement: the queue's own function, of
    the schema that comes with its version (`migrations/queue`).

    Args:
        turn: an expression for its id.
        after: one for the seconds until then.
    """
    return f"""procrastinate_defer_jobs_v1(ARRAY[CAST(ROW(
        'default', '{WORK_TURN}', 0, NULL, NULL, jsonb_build_object('turn_id', {turn}),
        CASE WHEN {after} > 0 THEN now() + make_interval(secs => {after}) END
    ) AS procrastinate_job_to_defer_v1)])"""


async def enqueue(
    app: procrastinate.App,
    session: AsyncSession,
    name: str,
    *,
    after: float = 0.0,
    **arguments: Any,
) -> None:
    """Enqueue a job in the session's own transaction, to be done at once or after seconds."""
    connection = await driver_connection(session)
    task = app.configure_task(
        name=name, connection=connection, schedule_in={"seconds": after} if after else None
    )
    await task.defer_async(**arguments)


_FORGOTTEN = text(
    """
    SELECT id FROM turns
     WHERE (state IN ('received', 'working')
            OR (state = 'waiting' AND EXISTS (
                SELECT FROM conversations
                 WHERE conversations.id = conversation_id AND answered >= number - 1)))
       AND received_at < now() - interval '30 seconds' AND NOT EXISTS (SELECT FROM conversations
       JOIN channels ON channels.name = conversations.channel
                        WHERE conversations.id = conversation_id AND channels.kind = 'phone')
       AND NOT EXISTS (SELECT FROM procrastinate_jobs
                        WHERE status IN ('todo', 'doing') AND args->>'turn_id' = turns.id)
     LIMIT 100 FOR UPDATE SKIP LOCKED
    """
)


async def enqueue_forgotten(app: procrastinate.App, session: AsyncSession) -> int:
    """Enqueue turns that are not finished and have no job, which should not be; how many there
    were. The turns of calls have none: the phone process carries them."""
    turns = (await session.execute(_FORGOTTEN)).scalars().all()
    for turn_id in turns:
        await enqueue(app, session, WORK_TURN, turn_id=turn_id)
    return len(turns)


async def retry_stalled(app: procrastinate.App) -> int:
    """Give the jobs of workers without a heartbeat to others; how many there were."""
    stalled = await app.job_manager.get_stalled_jobs(seconds_since_heartbeat=STALLED_SECONDS)
    count = 0
    for job in stalled:
        await app.job_manager.retry_job(job)
        count += 1
    return count
