"""Processes of our own, forked from one that has loaded what they have in common.

What is loaded before the fork is read from disk once, and its memory is shared for as long as
nobody writes to it. A process that is begun so gets a session, an environment and a log of its own,
as one that is begun by a command does, and its own children are forked from the same server. When
that dies, all of them end, and are begun anew with another one; and each ends with the process that
began it, however that ended. Without a fork server, modules are run by a Python of their own.
"""

from __future__ import annotations

import contextlib
import ctypes
import multiprocessing
import os
import runpy
import select
import signal
import socket
import subprocess
import sys
import threading
from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from multiprocessing import forkserver
from pathlib import Path
from typing import Any

import setproctitle

SHARED = "fond_echo.running.shared"
"""Imported once, before any fork."""

_Server: Any = forkserver._forkserver
"""Python's own: it lets a child fork from its parent's server only by its private parts."""

PR_SET_PDEATHSIG = 1
"""prctl(2): the signal that a process gets when its parent dies."""

_SHARES = sys.version_info < (3, 14)
"""Later ones want a key of whoever asks: there, children load what they need themselves."""


@dataclass(frozen=True)
class _ForkServer:
    """A fork server, as processes that came from it know it."""

    address: str
    pid: int


class _State:
    """Of this process."""

    opened = False


def open_fork_server(shared: str = SHARED) -> None:
    """Begin to load what is shared, a module, while other things are done; from now on modules are
    forked."""
    multiprocessing.get_context("forkserver").set_forkserver_preload([shared])
    forkserver.ensure_running()
    _State.opened = True


def begin(
    module: str, arguments: Sequence[str] = (), environment: Mapping[str, str] | None = None,
    log: Path | None = None, end: socket.socket | None = None,
) -> Forked | subprocess.Popen[bytes]:  # fmt: skip
    """Run a module as `python -m` would.

    Args:
        environment: set beside that of this process.
        log: a file that it writes to, in place of where this process does.
        end: a socket that it gets, whose descriptor is its first argument.
    """
    if _State.opened:
        return Forked(module, arguments, environment or {}, log, end)
    passed = [] if end is None else [end.fileno()]
    with open(log, "ab") if log is not None else contextlib.nullcontext() as out:
        return subprocess.Popen(
            [sys.executable, "-m", module, *map(str, passed), *arguments],
            env={**os.environ, **(environment or {})},
            pass_fds=passed, start_new_session=True, stdout=out, stderr=out,
        )  # fmt: skip


class Forked:
    """A process that was forked, with those methods of `subprocess.Popen` that are needed."""

    def __init__(
        self, module: str, arguments: Sequence[str], environment: Mapping[str, str],
        log: Path | None, end: socket.socket | None,
    ) -> None:  # fmt: skip
        _Server.ensure_running()
        fork_server = _ForkServer(_Server._forkserver_address, _Server._forkserver_pid)
        self._process = multiprocessing.get_context("forkserver").Process(
            target=_begin,
            args=(os.getpid(), fork_server, module, [*arguments], {**environment}, log, end),
        )
        self._process.start()

    @property
    def pid(self) -> int:
        assert self._process.pid is not None
        return self._process.pid

    def poll(self) -> int | None:
        """How it ended, if it has."""
        return self._process.exitcode

    def send_signal(self, number: int) -> None:
        if self.poll() is None:
            os.kill(self.pid, number)

    def terminate(self) -> None:
        self._process.terminate()

    def kill(self) -> None:
        self._process.kill()

    def wait(self, timeout: float | None = None) -> int:
        """Raises subprocess.TimeoutExpired where it runs on."""
        self._process.join(timeout)
        ended = self.poll()
        if ended is None:
            raise subprocess.TimeoutExpired(self._process.name, timeout or 0.0)
        return ended


def _begin(
    beginner: int, fork_server: _ForkServer, module: str, arguments: list[str],
    environment: Mapping[str, str], log: Path | None, end: socket.socket | None,
) -> None:  # fmt: skip
    """What a forked process does."""
    os.setsid()
    _end_with(fork_server)
    _end_after(beginner)
    # Its title is written where its environment lies: before that is changed.
    setproctitle.setproctitle(" ".join(["python -m", module, *arguments]))
    os.environ.update(environment)
    # What it keeps for a while lies in a folder of its own, and does not go with its parent's.
    multiprocessing.current_process()._config.pop("tempdir", None)  # type: ignore[attr-defined]
    if log is not None:
        with open(log, "ab") as out:
            os.dup2(out.fileno(), 1)
            os.dup2(out.fileno(), 2)
    _share(fork_server)
    passed = [] if end is None else [str(end.detach())]
    sys.argv = [module, *passed, *arguments]
    if not hasattr(sys.modules.get(module), "__path__"):
        # It is run as a program, though the fork server had it as a module.
        sys.modules.pop(module, None)
    runpy.run_module(module, run_name="__main__", alter_sys=True)


def _share(fork_server: _ForkServer) -> None:
    """Fork children of this process from the fork server that it came from, too."""
    if not _SHARES:
        return
    _Server._forkserver_address, _Server._forkserver_pid = fork_server.address, fork_server.pid
    _Server.ensure_running = forkserver.ensure_running = lambda: None
    _State.opened = True


def _end_with(fork_server: _ForkServer) -> None:
    """End when the fork server does: whoever tends this process hears of its end through it alone,
    and begins it anew with another one."""
    ctypes.CDLL(None, use_errno=True).prctl(PR_SET_PDEATHSIG, signal.SIGTERM)
    if os.getppid() != fork_server.pid:
        raise SystemExit(1)


def _end_after(beginner: int) -> None:
    """End when the process that began this one does. The fork server does not: it lives as long as
    any process that came from it."""
    try:
        descriptor = os.pidfd_open(beginner)
    except ProcessLookupError:
        raise SystemExit(1) from None
    except OSError:
        return  # a kernel, or a container, without such descriptors

    def wait() -> None:
        select.select([descriptor], [], [])
        os.kill(os.getpid(), signal.SIGTERM)

    threading.Thread(target=wait, daemon=True).start()
