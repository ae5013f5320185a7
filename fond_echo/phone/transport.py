"""The sockets that signalling goes through: UDP, and TCP on the same port. Connections are kept and
used in both directions (RFC 3261 §18)."""

from __future__ import annotations

import asyncio
import contextlib
import socket
from collections.abc import Callable
from ipaddress import ip_address
from typing import Any

import structlog

from fond_echo.core.telephony.errors import MalformedMessage
from fond_echo.core.telephony.sip.message import Framer, Request, Response
from fond_echo.core.telephony.sip.transaction_layer import Output, refused
from fond_echo.core.telephony.sip.values import Hop
from fond_echo.phone.media import Receiver

log = structlog.get_logger()

MAX_CONNECTIONS = 200
IDLE_SECONDS = 600.0
CONNECT_SECONDS = 5.0
ANY_PORT_TRIES = 20
"""A port that is free for datagrams may be taken for streams."""

PONG = b"\r\n"


def is_address(host: str) -> bool:
    """Whether a host is an address, and no name that is to be looked up."""
    try:
        ip_address(host)
    except ValueError:
        return False
    return True


class Transport:
    """Sends and receives.

    Args:
        datagram: hears what comes over UDP.
        message: hears what comes over TCP, parted into messages.
    """

    def __init__(
        self,
        datagram: Callable[[bytes, Hop], None],
        message: Callable[[Request | Response, Hop], None],
    ) -> None:
        self._datagram, self._message = datagram, message
        self._udp: asyncio.DatagramTransport | None = None
        self._server: asyncio.Server | None = None
        self._writers: dict[tuple[str, int], asyncio.StreamWriter] = {}
        self._tasks: set[asyncio.Task[Any]] = set()

    async def open(self, host: str, port: int, *, tcp: bool = True) -> int:
        """Listen, and give the port; for 0 one that is free for both. Raises OSError where it is
        taken."""
        for _ in range(ANY_PORT_TRIES if tcp and port == 0 else 1):
            try:
                return await self._open(host, port, tcp=tcp)
            except OSError as error:
                taken = error
        raise taken

    async def _open(self, host: str, port: int, *, tcp: bool) -> int:
        loop = asyncio.get_running_loop()
        self._udp, _ = await loop.create_datagram_endpoint(
            lambda: Receiver(lambda data, place: self._datagram(data, Hop(*place))),
            local_addr=(host, port),
        )
        port = self._udp.get_extra_info("sockname")[1]
        if tcp:
            try:
                self._server = await asyncio.start_server(self._connected, host, port)
            except OSError:
                self._udp.close()
                raise
        return port

    @property
    def is_open(self) -> bool:
        return self._udp is not None and not self._udp.is_closing()

    def send(self, data: bytes, hop: Hop) -> None:
        """Send a message; over TCP by the connection that is there, or a new one."""
        if not self.is_open:
            return
        if not hop.reliable:
            if is_address(hop.host):
                self._datagram_out(data, hop)
            else:
                self._run(self._to_a_name(data, hop))
            return
        writer = self._writers.get((hop.host, hop.port))
        if writer is not None and not writer.is_closing():
            writer.write(data)
        else:
            self._run(self._connect(data, hop))

    def _datagram_out(self, data: bytes, hop: Hop) -> None:
        assert self._udp is not None
        try:
            self._udp.sendto(data, (hop.host, hop.port))
        except OSError as error:
            log.info("nothing was sent", host=hop.host, port=hop.port, reason=str(error))

    async def _to_a_name(self, data: bytes, hop: Hop) -> None:
        """Find the address of a host beside everything else. One that has none is like one that
        does not answer: the transaction's own timer tells."""
        loop = asyncio.get_running_loop()
        try:
            found = await loop.getaddrinfo(hop.host, hop.port, type=socket.SOCK_DGRAM)
        except OSError as error:
            log.info("a host has no address", host=hop.host, reason=str(error))
            return
        if self.is_open:
            self._datagram_out(data, hop._replace(host=str(found[0][4][0])))

    async def _connect(self, data: bytes, hop: Hop) -> None:
        try:
            reader, writer = await asyncio.wait_for(
                asyncio.open_connection(hop.host, hop.port), CONNECT_SECONDS
            )
        except (OSError, TimeoutError) as error:
            # The transaction's own timer tells whoever waits for the answer.
            log.info("no connection", host=hop.host, port=hop.port, reason=str(error))
            return
        writer.write(data)
        await self._connected(reader, writer, hop)

    async def _connected(
        self,
        reader: asyncio.StreamReader,
        writer: asyncio.StreamWriter,
        hop: Hop | None = None,
    ) -> None:
        """A connection, until it ends."""
        if len(self._writers) >= MAX_CONNECTIONS:
            writer.close()
            return
        task = asyncio.current_task()
        if task is not None:
            self._tasks.add(task)
            task.add_done_callback(self._tasks.discard)
        host, port = writer.get_extra_info("peername")[:2]
        source = hop or Hop(str(host), int(port), "TCP")
        self._writers[source.host, source.port] = writer
        framer = Framer()
        try:
            while data := await asyncio.wait_for(reader.read(65_536), IDLE_SECONDS):
                for message in framer.feed(data):
                    if message is None:
                        writer.write(PONG)
                    else:
                        self._message(message, source)
        except MalformedMessage as error:
            for reported, _ in refused(error, source).send:
                writer.write(reported)
            log.info("a connection could not be followed", source=source.host, reason=error.what)
        except (OSError, TimeoutError):
            pass
        finally:
            self._writers.pop((source.host, source.port), None)
            with contextlib.suppress(OSError):
                writer.close()

    def _run(self, work: Any) -> None:
        task = asyncio.create_task(work)
        self._tasks.add(task)
        task.add_done_callback(self._tasks.discard)

    def done(self, output: Output) -> None:
        """Send all that is to be sent."""
        for data, hop in output.send:
            self.send(data, hop)

    async def close(self) -> None:
        """Stop listening and end all connections."""
        if self._udp is not None:
            self._udp.close()
        if self._server is not None:
            self._server.close()
        for writer in list(self._writers.values()):
            writer.close()
        for task in list(self._tasks):
            task.cancel()
        await asyncio.gather(*self._tasks, return_exceptions=True)
