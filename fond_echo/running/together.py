"""`serve`: PostgreSQL where none is given, and all processes of the service."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager

from fond_echo.running.fork_server import open_fork_server
from fond_echo.running.processes import parts
from fond_echo.running.supervisor import Supervisor
from fond_echo.settings import Settings
from fond_echo.store.local import LocalPostgres


@contextmanager
def with_database(settings: Settings) -> Iterator[tuple[Settings, list[LocalPostgres]]]:
    """The settings with a database: the one they name, or a server of our own while this lasts,
    which is given too, so that it is started again where it ends."""
    if settings.database:
        yield settings, []
        return
    postgres = LocalPostgres(settings.data / "postgres")
    try:
        postgres.start()
        yield settings.model_copy(update={"database": postgres.url}), [postgres]
    finally:
        postgres.stop()


def serve(settings: Settings) -> int:
    """Run until Ctrl-C or SIGTERM."""
    open_fork_server()
    with with_database(settings) as (ready, servers):
        ready.encryption_keys()
        supervisor = Supervisor(parts(ready), lambda news: print(news, flush=True), servers)
        supervisor.start()
        print(f"Fond Echo is at {ready.address}", flush=True)
        try:
            supervisor.watch()
        finally:
            supervisor.stop()
    return 0
