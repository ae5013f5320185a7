"""The work process: carries queued turns, many at once."""

from __future__ import annotations

import asyncio
import contextlib
import itertools
import signal
from datetime import UTC, datetime
from functools import partial

import procrastinate
import psycopg
import structlog
from sqlalchemy.exc import SQLAlchemyError

from fond_echo.background import keep_running
from fond_echo.composition import Installation
from fond_echo.core.caching import Recent
from fond_echo.driver.queued import QueuedDriver
from fond_echo.records.claim import Failure
from fond_echo.records.journal import Journal
from fond_echo.running.polling import Poller
from fond_echo.running.preparing import Preparation
from fond_echo.running.webhook_dispatcher import WebhookDispatcher
from fond_echo.settings import Settings
from fond_echo.speech.priority import Priority
from fond_echo.speech.remote import RemoteSpeech
from fond_echo.store.blobs import PostgresBlobs
from fond_echo.store.database import AWAY, Database, patiently
from fond_echo.store.liveness import Liveness
from fond_echo.store.migrate import migrate
from fond_echo.store.notices import Notices
from fond_echo.store.queue import (
    HEARTBEAT_SECONDS,
    POLL_SECONDS,
    SEND_DELIVERY,
    STALLED_SECONDS,
    WORK_TURN,
    enqueue_forgotten,
    queue_app,
    retry_stalled,
)
from fond_echo.store.retention import retain
from fond_echo.store.saying import send_due
from fond_echo.watchdog import until_stalled, watch

log = structlog.get_logger()

TIDY_SECONDS = 600.0

MAX_ERRORS = 5
MAX_FAILING = 1_000
"""Turns whose errors are counted at a time."""

DUE_SECONDS = 1.0
RETRIES = procrastinate.RetryStrategy(wait=2)
"""Of a job that ends with an error: how often is counted here, as the queue counts the times at
which a worker stood still, too."""

SEND_RETRIES = procrastinate.RetryStrategy(max_attempts=MAX_ERRORS, wait=2)

LOOK_SECONDS = 1.0
"""How often workers without a heartbeat are looked for."""

FORGOTTEN_EVERY = 20
"""Turns without a job are looked for at one look in so many."""


async def run(settings: Settings) -> None:
    """Work until told to stop; a turn that was begun is finished, or left for another worker."""
    database = Database(settings.database, connections=settings.turns_at_once)
    await migrate(database)
    queue = queue_app(settings.database)
    async with Installation.open(settings, database) as world, queue.open_async():
        world.warm()
        liveness = Liveness(database)
        journal = Journal(database, queue, liveness.number)
        driver = QueuedDriver(journal, world)
        errors = Recent[str, int](MAX_FAILING)

        # What goes wrong in a stage is the turn's own; a job that ends with an error has met a bug
        # of ours. It comes again a few times, and then the turn is failed.
        @queue.task(name=WORK_TURN, retry=RETRIES)
        async def work_turn(turn_id: str) -> None:
            # A job that ended with an error while the database is away could not be marked as such
            # either, and nobody would take it up.
            try:
                await patiently(partial(driver.work, turn_id))
            except Exception as error:
                errors.keep(turn_id, errors.get(turn_id, 0) + 1)
                if errors[turn_id] < MAX_ERRORS:
                    raise
                log.exception("turn given up", turn=turn_id)
                await patiently(partial(driver.give_up, turn_id, Failure.of("receive", error)))
            errors.pop(turn_id, None)

        @queue.task(name=SEND_DELIVERY, retry=SEND_RETRIES)
        async def send_delivery(turn_id: str, delivery_id: str) -> None:
            await patiently(partial(driver.decide, turn_id, delivery_id))

        speech = RemoteSpeech(settings.speech_url, settings.speech_token, Priority.LONG_FILE)
        preparation = Preparation(database, speech, in_call=False)
        poller, dispatcher = Poller(database, world), WebhookDispatcher(settings, database, world)

        def told(type: str, subject: str) -> None:
            poller.told(type, subject)
            dispatcher.told(type, subject)
            preparation.told(type, subject)

        beside = [
            asyncio.create_task(keep_running(name, work))
            for name, work in (
                ("holding the loop to its turns", watch),
                ("showing that this process lives", liveness.hold),
                ("looking for stalled turns", partial(_look_for_stalled, queue, database)),
                ("noticing that it stalled", partial(_let_go_of_taken, driver)),
                ("hearing of what was committed", Notices(database, told).listen),
                ("polling", poller.run),
                ("preparing what is published", preparation.run),
                ("delivering events", dispatcher.run),
                ("sending what waited for its time", partial(_send_due, database)),
                ("retention", partial(_tidy, database, settings.event_days)),
            )
        ]
        await liveness.held()
        stopping = asyncio.Event()
        worker = asyncio.create_task(_work(queue, settings.turns_at_once, stopping))

        def stop() -> None:
            stopping.set()
            worker.cancel()

        for name in (signal.SIGINT, signal.SIGTERM):
            asyncio.get_running_loop().add_signal_handler(name, stop)
        log.info("work begins", turns_at_once=settings.turns_at_once)
        with contextlib.suppress(asyncio.CancelledError):
            await worker
        for task in beside:
            task.cancel()
        await asyncio.gather(*beside, return_exceptions=True)
        await speech.close()
    await database.close()


async def _work(queue: procrastinate.App, at_once: int, stopping: asyncio.Event) -> None:
    """Run the queue's worker, again whenever the database was away, until it is to stop.

    Where the database goes away while the worker is being stopped, that error is what comes of it,
    and not that it was cancelled.
    """
    while not stopping.is_set():
        try:
            await queue.run_worker_async(
                concurrency=at_once,
                fetch_job_polling_interval=POLL_SECONDS,
                update_heartbeat_interval=HEARTBEAT_SECONDS,
                stalled_worker_timeout=STALLED_SECONDS,
                shutdown_graceful_timeout=10.0,
                install_signal_handlers=False,
                delete_jobs="successful",
            )
        except (procrastinate.exceptions.ProcrastinateException, psycopg.Error, OSError) as error:
            log.warning("the queue's database was lost", reason=str(error.__cause__ or error))
            await asyncio.sleep(POLL_SECONDS)
        else:
            return


async def _let_go_of_taken(driver: QueuedDriver) -> None:
    """Where this process stood still, another may have taken its turns: it lets go of them."""
    while True:
        await until_stalled(STALLED_SECONDS / 2)
        try:
            count = await driver.in_flight.let_go_of_taken()
        except (SQLAlchemyError, *AWAY) as error:
            log.warning("what became of turns is not known", reason=str(error).splitlines()[0])
            continue
        log.warning("this process stalled", turns_that_others_took=count)


async def _tidy(database: Database, event_days: int) -> None:
    """Erase what channels keep no longer, and forget what is done with."""
    blobs = PostgresBlobs()
    while True:
        try:
            await retain(database, blobs, datetime.now(UTC), event_days=event_days)
        except SQLAlchemyError as error:
            log.warning("tidying failed", reason=str(error).splitlines()[0])
        await asyncio.sleep(TIDY_SECONDS)


async def _look_for_stalled(queue: procrastinate.App, database: Database) -> None:
    for number in itertools.count(1):
        await asyncio.sleep(LOOK_SECONDS)
        try:
            count = await retry_stalled(queue)
            if number % FORGOTTEN_EVERY == 0:
                async with database.writing() as session:
                    count += await enqueue_forgotten(queue, session)
        except (procrastinate.exceptions.ProcrastinateException, psycopg.Error, *AWAY) as error:
            log.warning("stalled turns could not be looked for", reason=str(error))
            continue
        if count:
            log.warning("turns taken over from a worker that stopped", count=count)


async def _send_due(database: Database) -> None:
    """Send on words to contacts whose time has come."""
    while True:
        await send_due(database)
        await asyncio.sleep(DUE_SECONDS)
