"""Addresses that requests go to, read in one place: whatever is wrong with one is a typed error."""

from __future__ import annotations

import httpx

from fond_echo.connectors.errors import ForbiddenAddress

PORTS = {"http": 80, "https": 443}
MAX_HOST, MAX_LABEL = 253, 63
SHOWN = 120


def address_of(url: str) -> tuple[str, int]:
    """The host, in lower case, and the port of an http or https address.

    Raises:
        ForbiddenAddress: it is not an allowed address, and why.
    """
    try:
        parsed = httpx.URL(url)
        host, port = parsed.host.lower(), parsed.port
        wire = parsed.raw_host
    except (httpx.InvalidURL, ValueError, TypeError) as error:
        raise _wrong(url, str(error)) from error
    if parsed.scheme not in PORTS:
        raise _wrong(url, "it does not begin with http:// or https://")
    if not host:
        raise _wrong(url, "it has no host")
    if parsed.userinfo:
        raise _wrong(url, "it carries a user name")
    if len(wire) > MAX_HOST or any(len(each) > MAX_LABEL for each in wire.split(b".")):
        raise _wrong(url, f"a part of its host name is over {MAX_LABEL} characters")
    if port is not None and not 0 < port < 65_536:
        raise _wrong(url, f"{port} is not a port")
    return host, port or PORTS[parsed.scheme]


def _wrong(url: str, why: str) -> ForbiddenAddress:
    shown = url if len(url) <= SHOWN else url[:SHOWN] + "…"
    return ForbiddenAddress(
        f"{shown!r} is not an address to send to: {why}",
        remedy="write it as http://host:port/path or https://host/path",
    )
