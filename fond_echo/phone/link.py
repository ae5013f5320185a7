"""Calls between two of our own processes that were begun together, over a pair of sockets.

A frame is u32 length (little-endian) and a pickled (kind, number, name, arguments). Both ends are
one program, and nobody else can reach the sockets. Frames are taken in the order in which they were
sent: what was told before a result is there before it.
"""

from __future__ import annotations

import asyncio
import inspect
import pickle
import socket
import struct
from collections.abc import Callable, Mapping
from itertools import count
from typing import Any

import structlog

from fond_echo.core.errors import FondEchoError
from fond_echo.phone.errors import Failed, LinkClosed

log = structlog.get_logger()

LENGTH = struct.Struct("<I")

CALL, TELL, RESULT, FAILED = range(4)

Handler = Callable[..., Any]
"""Takes the arguments of a call; may be a coroutine function where it is called, and not told."""


class Link:
    """One end.

    Args:
        handlers: what the other end may call, by name.
    """

    def __init__(self, handlers: Mapping[str, Handler]) -> None:
        self._handlers = handlers
        self._reader: asyncio.StreamReader | None = None
        self._writer: asyncio.StreamWriter | None = None
        self._waiting: dict[int, asyncio.Future[Any]] = {}
        self._numbers = count()
        self._tasks: set[asyncio.Task[None]] = set()

    async def open(self, end: socket.socket) -> None:
        """Begin with one of a pair of sockets; then `run`."""
        self._reader, self._writer = await asyncio.open_connection(sock=end)

    async def run(self) -> None:
        """Take what comes until the other end is gone; calls that wait then raise LinkClosed."""
        reader, writer = self._reader, self._writer
        assert reader is not None and writer is not None
        try:
            while True:
                (size,) = LENGTH.unpack(await reader.readexactly(LENGTH.size))
                self._take(*pickle.loads(await reader.readexactly(size)))  # our own
        except (asyncio.IncompleteReadError, ConnectionError):
            return
        finally:
            writer.close()
            self._writer = None
            for future in self._waiting.values():
                if not future.done():
                    future.set_exception(LinkClosed("the other process of the telephone is gone"))
            self._waiting.clear()

    def tell(self, name: str, *arguments: Any) -> None:
        """Have something done at the other end, and wait for nothing."""
        self._send(TELL, 0, name, arguments)

    async def call(self, name: str, *arguments: Any) -> Any:
        """Have something done at the other end; gives its result.

        Raises:
            FondEchoError, OSError: what was raised there.
            LinkClosed: the other process is gone.
        """
        if self._writer is None:
            raise LinkClosed("the other process of the telephone is gone")
        number = next(self._numbers)
        future = self._waiting[number] = asyncio.get_running_loop().create_future()
        self._send(CALL, number, name, arguments)
        return await future

    def _send(self, *frame: Any) -> None:
        if self._writer is not None:
            data = pickle.dumps(frame, protocol=pickle.HIGHEST_PROTOCOL)
            self._writer.write(LENGTH.pack(len(data)) + data)

    def _take(self, kind: int, number: int, name: str, content: Any) -> None:
        if kind == CALL:
            task = asyncio.create_task(self._answer(number, name, content))
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)
        elif kind == TELL:
            try:
                self._handlers[name](*content)
            except Exception:
                log.exception("a message between processes failed", name=name)
        elif (future := self._waiting.pop(number, None)) is not None and not future.done():
            if kind == RESULT:
                future.set_result(content)
            else:
                future.set_exception(_raised(content))

    async def _answer(self, number: int, name: str, arguments: tuple[Any, ...]) -> None:
        try:
            result = self._handlers[name](*arguments)
            if inspect.isawaitable(result):
                result = await result
            self._send(RESULT, number, name, result)
        except Exception as error:
            if not isinstance(error, FondEchoError | OSError):
                log.exception("a call between processes failed", name=name)
            self._send(FAILED, number, name, _reported(error))


def _reported(error: Exception) -> tuple[str, Any]:
    if isinstance(error, OSError):
        return "os", (error.errno, error.strerror)
    if isinstance(error, FondEchoError):
        return "ours", (error.what, error.where, error.remedy)
    return "ours", (f"{type(error).__name__}: {error}", "", "")


def _raised(reported: tuple[str, Any]) -> Exception:
    kind, facts = reported
    if kind == "os":
        return OSError(*facts)
    what, where, remedy = facts
    return Failed(what, where=where, remedy=remedy)
