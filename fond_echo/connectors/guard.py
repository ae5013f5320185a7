"""The address guard: where requests may go, checked on the address that is connected to.

A host name is resolved once, every address it has is judged, and the connection goes to the
very address that was judged, so that a name that resolves differently a moment later gains
nothing. Private ranges are reached only by an exact host:port in the settings.
"""

from __future__ import annotations

import asyncio
import ipaddress
import socket
from collections.abc import Iterable
from typing import Any

import httpx

from fond_echo.connectors.addresses import address_of
from fond_echo.connectors.errors import ForbiddenAddress, Unreachable
from fond_echo.tls import trusted

Address = ipaddress.IPv4Address | ipaddress.IPv6Address

_CARRYING = tuple(map(ipaddress.IPv6Network, ("::/96", "::ffff:0:0:0/96", "64:ff9b::/96")))
"""Networks whose last 32 bits are an IPv4 address: compatible (RFC 4291 §2.5.5.1), translated
(RFC 2765), translated by a prefix that everybody knows (RFC 6052)."""

_NOT_PUBLIC = tuple(
    map(
        ipaddress.IPv6Network,
        ("64:ff9b:1::/48", "fec0::/10", "5f00::/16", "3fff::/20", "100::/64", "2001:db8::/32"),
    )
)
"""Translation within an organisation (RFC 8215), old site-local addresses (RFC 3879), segment
routing (RFC 9602), documentation (RFC 9637, RFC 3849), discard (RFC 6666)."""


def plain_address(address: Address) -> Address:
    """IPv6 forms that carry an IPv4 address, as that address."""
    if isinstance(address, ipaddress.IPv6Address):
        if address.ipv4_mapped is not None:
            return address.ipv4_mapped
        if address.sixtofour is not None:
            return address.sixtofour
        if any(address in network for network in _CARRYING) and int(address) > 1:
            return ipaddress.IPv4Address(int(address) & 0xFFFFFFFF)
    return address


def is_public(address: Address) -> bool:
    """Whether an address is reachable over the public internet and by anyone."""
    address = plain_address(address)
    if any(address in network for network in _NOT_PUBLIC):
        return False
    return address.is_global and not address.is_multicast


class AddressGuard:
    """Says at which addresses a name may be reached.

    Args:
        private: exact "host:port" pairs that may be reached though their addresses are private.
    """

    def __init__(self, private: Iterable[str] = ()) -> None:
        self._private = frozenset(each.lower() for each in private)

    async def judged(self, host: str, port: int) -> list[Address]:
        """The addresses of a name, all of them allowed.

        Raises:
            Unreachable: the name does not resolve.
            ForbiddenAddress: one of them is private, and not allowed.
        """
        where = f"{host}:{port}"
        loop = asyncio.get_running_loop()
        try:
            found = await loop.getaddrinfo(host, port, type=socket.SOCK_STREAM)
        except (OSError, UnicodeError) as error:
            raise Unreachable(f"the name {host} does not resolve", where=where) from error
        texts = dict.fromkeys(str(each[4][0]).partition("%")[0] for each in found)
        addresses = [ipaddress.ip_address(text) for text in texts]
        if where in self._private:
            return addresses
        for address in addresses:
            if not is_public(address):
                raise ForbiddenAddress(
                    f"{host} is at {address}, which is not public",
                    where=where,
                    remedy=f"if it is yours, set FOND_ECHO_PRIVATE_HOSTS={where}",
                )
        return addresses


class GuardedTransport(httpx.AsyncBaseTransport):
    """An httpx transport that goes only where it may."""

    def __init__(self, guard: AddressGuard) -> None:
        self._guard = guard
        self._transports: dict[tuple[str, int], httpx.AsyncHTTPTransport] = {}

    async def handle_async_request(self, request: httpx.Request) -> httpx.Response:
        url = request.url
        host, port = address_of(str(url))
        addresses = await self._guard.judged(host, port)
        request.extensions = {**request.extensions, "sni_hostname": host}
        request.headers["Host"] = request.headers.get("Host", url.netloc.decode("ascii"))
        transport = self._transport(host, port)
        for address in addresses[:-1]:
            request.url = url.copy_with(host=str(address))
            try:
                return await transport.handle_async_request(request)
            except httpx.ConnectError:
                continue
        request.url = url.copy_with(host=str(addresses[-1]))
        return await transport.handle_async_request(request)

    def _transport(self, host: str, port: int) -> httpx.AsyncHTTPTransport:
        """One pool per name, so that a connection whose certificate was checked for one name
        never serves another at the same address."""
        if (host, port) not in self._transports:
            self._transports[host, port] = httpx.AsyncHTTPTransport(verify=trusted())
        return self._transports[host, port]

    async def aclose(self) -> None:
        for transport in self._transports.values():
            await transport.aclose()


class GuardedClient(httpx.AsyncClient):
    """An HTTP client behind the guard, which serves connections of other kinds too."""

    def __init__(self, guard: AddressGuard, **settings: Any) -> None:
        super().__init__(transport=GuardedTransport(guard), **settings)
        self.guard = guard


def guarded_client(private: Iterable[str] = (), *, seconds: float = 10.0) -> GuardedClient:
    """An HTTP client behind the guard: no proxy from the environment, no redirects followed."""
    return GuardedClient(
        AddressGuard(private),
        timeout=httpx.Timeout(seconds),
        trust_env=False,
        follow_redirects=False,
        headers={"User-Agent": "fond-echo"},
    )
