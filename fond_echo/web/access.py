"""Who asks, and whether they may.

Programs show a bearer key. Browsers exchange one for a cookie (players and event streams cannot
carry a bearer key); changes made with a cookie must come from our own pages: the Origin is
checked and the form token must come in a header.
"""

from __future__ import annotations

import hmac
from collections.abc import Awaitable, Callable
from typing import Annotated

from fastapi import Depends, Request, WebSocket
from starlette.requests import HTTPConnection

from fond_echo.store import keys
from fond_echo.store.keys import Bearer, Scope
from fond_echo.web.errors import NotAllowed, NotSignedIn, TooManyTries
from fond_echo.web.service import Service, TheService

COOKIE = "fond_echo_sign_in"
FORM_TOKEN = "X-CSRF-Token"
SAFE = frozenset(("GET", "HEAD", "OPTIONS"))


def same_origin(request: Request) -> bool:
    """Whether a request comes from a page of ours, as its browser says."""
    origin = request.headers.get("origin")
    if origin is None:
        return request.headers.get("sec-fetch-site", "same-origin") in ("same-origin", "none")
    return _is_ours(origin, request)


def _is_ours(origin: str, requested: HTTPConnection) -> bool:
    """Whether an origin (RFC 6454) is the address that is asked, or our public one."""
    scheme = {"ws": "http", "wss": "https"}.get(requested.url.scheme, requested.url.scheme)
    service: Service = requested.app.state.service
    public = service.settings.public_address.rstrip("/")
    # Without a public address, "" would be as good as one.
    return bool(origin) and origin in (f"{scheme}://{requested.headers.get('host', '')}", public)


async def of_key(key: str, requested: HTTPConnection, service: Service) -> Bearer | None:
    """Whom a bearer key belongs to, or None.

    Raises:
        TooManyTries: the address sent wrong keys lately, and this one was not right before.
    """
    address = requested.client.host if requested.client else ""
    if key not in service.known_keys:
        service.tries.check(address)
    async with service.database.writing() as session:
        bearer = await keys.bearer_of(session, key)
    if bearer is None:
        service.tries.wrong(address)
    else:
        service.known_keys.add(key)
    return bearer


async def _bearer(request: Request, service: Service) -> Bearer:
    scheme, _, key = request.headers.get("authorization", "").partition(" ")
    if scheme.lower() == "bearer":
        if (bearer := await of_key(key.strip(), request, service)) is None:
            raise NotSignedIn("the key is not valid")
        return bearer
    async with service.database.writing() as session:
        cookie = request.cookies.get(COOKIE)
        found = await keys.signed_in(session, cookie) if cookie else None
    if found is None:
        raise NotSignedIn("there is no key", remedy="send Authorization: Bearer KEY, or sign in")
    bearer, csrf_token = found
    if request.method not in SAFE:
        given = request.headers.get(FORM_TOKEN, "")
        if not same_origin(request) or not hmac.compare_digest(given.encode(), csrf_token.encode()):
            raise NotAllowed(
                "a change made with a cookie must come from the console",
                remedy=f"send {FORM_TOKEN}, or a bearer key",
            )
    request.state.csrf_token = csrf_token
    return bearer


async def of_socket(socket: WebSocket, service: Service, scope: Scope) -> bool:
    """Whether whoever opens a WebSocket has a scope: a program by its key, the console by its
    cookie, and then only from a page of ours."""
    scheme, _, key = socket.headers.get("authorization", "").partition(" ")
    if scheme.lower() == "bearer":
        try:
            bearer = await of_key(key.strip(), socket, service)
        except TooManyTries:
            return False
        return bearer is not None and keys.includes(bearer.scopes, scope)
    if not _is_ours(socket.headers.get("origin", ""), socket):
        return False
    async with service.database.writing() as session:
        cookie = socket.cookies.get(COOKIE)
        found = await keys.signed_in(session, cookie) if cookie else None
        bearer = found[0] if found is not None else None
    return bearer is not None and keys.includes(bearer.scopes, scope)


def may(scope: Scope) -> Callable[[Request, Service], Awaitable[Bearer]]:
    """A dependency that lets a request through with a scope, or one that includes it."""

    async def check(request: Request, service: TheService) -> Bearer:
        bearer = await _bearer(request, service)
        if not keys.includes(bearer.scopes, scope):
            raise NotAllowed(f"this needs a key with the scope {scope}")
        return bearer

    return check


MayRead = Annotated[Bearer, Depends(may("read"))]
MayOperate = Annotated[Bearer, Depends(may("operate"))]
MayBuild = Annotated[Bearer, Depends(may("build"))]
MayAdmin = Annotated[Bearer, Depends(may("admin"))]
