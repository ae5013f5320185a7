"""`fond-echo demo`: the service, its stand-ins and a made-up world, in the foreground."""

from __future__ import annotations

import os
import secrets
import shutil
import socket
import sys
import tempfile
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from pathlib import Path

from fond_echo.client import FondEcho
from fond_echo.demo.world import LOUDSPEAKER, NUMBERS, Places, fill, host
from fond_echo.running.fork_server import open_fork_server
from fond_echo.running.processes import parts
from fond_echo.running.supervisor import Part, Supervisor
from fond_echo.running.together import with_database
from fond_echo.settings import Settings
from fond_echo.store.local import free_port, reachable_folder

PORTS = {
    "web": 8770, "speech": 8771, "network": 8780, "second": 8781, "engines": 8782,
    "logic": 8090, "phone": 5070, "gale": 5072, "carrier": 5090,
}  # fmt: skip


STARTING = "Fond Echo: starting PostgreSQL, speech, web, work, and the demo's stand-ins …"
CALL = ".venv/bin/fond-echo dial"


def _port(name: str) -> int:
    """The usual port of a part, or a free one where something else has that, by TCP or UDP."""
    for kind in (socket.SOCK_STREAM, socket.SOCK_DGRAM):
        with socket.socket(type=kind) as probe:
            if kind == socket.SOCK_STREAM:
                # Of connections that ended lately something may linger; of datagrams nothing does.
                probe.setsockopt(socket.SOL_SOCKET, socket.SO_REUSEADDR, 1)
            try:
                probe.bind(("127.0.0.1", PORTS[name]))
            except OSError:
                return free_port()
    return PORTS[name]


def _kept(folder: Path, name: str, make: str) -> str:
    """A value that stays the same from one start to the next."""
    path = folder / name
    if not path.exists():
        folder.mkdir(parents=True, exist_ok=True)
        path.write_text(make)
        path.chmod(0o600)
    return path.read_text()


def say(text: str = "") -> None:
    print(text, flush=True)


@dataclass(frozen=True)
class World:
    """The running demo: its settings, its stand-ins, the admin key, its processes, and the
    address of the public page."""

    settings: Settings
    places: Places
    key: str
    supervisor: Supervisor
    page: str


@contextmanager
def world(folder: Path, *, verbose: bool = False) -> Iterator[World]:
    """The demo, running, while this lasts; what its processes write goes to a file of its folder,
    or where this process writes."""
    places = Places(
        network=f"http://127.0.0.1:{_port('network')}",
        second=f"http://127.0.0.1:{_port('second')}",
        engines=f"http://127.0.0.1:{_port('engines')}",
        engines_pass=_kept(folder, "engines-pass", secrets.token_urlsafe(18)),
        logic=f"http://127.0.0.1:{_port('logic')}/logic",
        network_token=_kept(folder, "network-token", secrets.token_urlsafe(18)),
        network_mark=_kept(folder, "network-mark", secrets.token_urlsafe(18)),
        second_pass=_kept(folder, "second-pass", secrets.token_urlsafe(18)),
        phone=_port("phone"),
        gale=_port("gale"),
        carrier=_port("carrier"),
        carrier_pass=_kept(folder, "carrier-pass", secrets.token_urlsafe(18)),
        logic_secret=_kept(folder, "logic-secret", secrets.token_urlsafe(24)),
    )
    key = _kept(folder, "key", "fe-" + secrets.token_urlsafe(32))
    settings = Settings(
        data=folder.resolve(),
        port=_port("web"),
        speech_port=_port("speech"),
        private_hosts=[
            *Settings().private_hosts,
            *(host(each) for each in (places.network, places.second, places.engines, places.logic)),
        ],
        first_key=key,
    )
    open_fork_server()
    with with_database(settings) as (ready, servers):
        ready.encryption_keys()
        log = None if verbose else folder / "service.log"
        supervisor = Supervisor([*parts(ready), *_standins(places)], say, servers, log)
        supervisor.start()
        try:
            with FondEcho(ready.address, key) as echo:
                channels = fill(echo, places)
            yield World(ready, places, key, supervisor, channels["front-door"].address)
        finally:
            supervisor.stop()


def _standins(places: Places) -> list[Part]:
    network_port, second_port, engines_port, logic_port = (
        host(address).rpartition(":")[2]
        for address in (places.network, places.second, places.engines, places.logic)
    )
    return [
        Part(
            "skerry, the chat network",
            "fond_echo.standins.chat",
            ["serve", "--port", network_port],
            {"SKERRY_TOKEN": places.network_token, "SKERRY_MARK": places.network_mark},
            ready=f"{places.network}/people",
        ),
        Part(
            "spindrift, another chat network",
            "fond_echo.standins.feed",
            ["--port", second_port],
            {"SPINDRIFT_PASS": places.second_pass},
            ready=places.second,
        ),
        Part(
            "gannet, a provider of engines",
            "fond_echo.standins.providers",
            ["--port", engines_port],
            {"GANNET_PASS": places.engines_pass},
            ready=places.engines,
        ),
        Part(
            "the carrier",
            "fond_echo.standins.carrier",
            ["--port", str(places.carrier), *NUMBERS,
             "--room", LOUDSPEAKER, "--busy", "+441632960150", "--never", "+441632960151",
             "--rejects", "+441632960152"],
            {"CARRIER_PASS": places.carrier_pass},
        ),
        Part(
            "timetable, the business logic",
            "uvicorn",
            ["fond_echo.demo.timetable.logic:app", "--port", logic_port, "--log-level", "warning"],
            {"FOND_ECHO_LOGIC_SECRET": places.logic_secret},
            ready=places.logic,
        ),
    ]  # fmt: skip


def demo(folder: Path, *, fresh: bool, tour: bool, verbose: bool = False) -> int:
    """Run the demo until Ctrl-C, or for the length of a tour, which has a world of its own."""
    if tour:
        return _tour(verbose=verbose)
    if fresh:
        _clear(folder)
    say(STARTING)
    with world(folder, verbose=verbose) as running:
        address, key = running.settings.address, running.key
        say()
        say(f"  Console             {address}")
        say(f"  Key to sign in      {key}")
        say(f"  Chat as a passenger {running.places.network}")
        say(f"  Call it             {CALL} sip:2001@127.0.0.1:{running.places.phone}")
        say(f"  The public page     {running.page}")
        say()
        if not verbose:
            say(f"  What the service writes: {folder / 'service.log'} (--verbose shows it here)")
            say()
        say("  In another terminal:")
        say(f"    export FOND_ECHO_ADDRESS={address} FOND_ECHO_KEY={key}")
        say(f"    {_program()} turn list")
        say()
        say("  Ctrl-C stops everything; what happened is kept for the next start.")
        running.supervisor.watch()
        say("Stopping …")
    return 0


def _tour(*, verbose: bool) -> int:
    """Play the tour in a new world, which is removed where all of it was right."""
    from fond_echo.demo.tour import Tour

    folder = Path(tempfile.mkdtemp(prefix="fond-echo-tour-"))
    say(STARTING)
    with (
        world(folder, verbose=verbose) as running,
        FondEcho(running.settings.address, running.key) as echo,
    ):
        failed = Tour(echo, running, say).run()
    if failed:
        say(f"Its world is kept: fond-echo demo --folder {folder}")
    else:
        _clear(folder)
    return failed


def _clear(folder: Path) -> None:
    shutil.rmtree(folder, ignore_errors=True)
    shutil.rmtree(reachable_folder(folder.resolve() / "postgres"), ignore_errors=True)


def _program() -> str:
    beside = Path(sys.executable).parent / "fond-echo"
    return os.path.relpath(beside) if beside.exists() else "fond-echo"
