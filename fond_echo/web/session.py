"""Signing in and out."""

from __future__ import annotations

from fastapi import Request, Response

from fond_echo import __version__
from fond_echo.contract.api import Me, SignInRequest
from fond_echo.store import keys
from fond_echo.web.access import COOKIE, MayRead, same_origin
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import NotAllowed, NotSignedIn
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/me", tags=["me"])


@router.get("")
async def get_own_key(bearer: MayRead, request: Request) -> Me:
    """Show the name and the scopes of the key."""
    return Me(
        name=bearer.name,
        scopes=list(bearer.scopes),
        csrf_token=getattr(request.state, "csrf_token", ""),
        version=__version__,
    )


@router.post("")
async def sign_in(
    requested: SignInRequest, request: Request, response: Response, service: TheService
) -> Me:
    """Exchange a key for a cookie."""
    if not same_origin(request):
        raise NotAllowed("sign in from the console itself")
    address = request.client.host if request.client else ""
    service.tries.check(address)
    async with service.database.writing() as session:
        bearer = await keys.bearer_of(session, requested.key.strip())
        if bearer is None:
            service.tries.wrong(address)
            raise NotSignedIn("the key is not valid", remedy="it begins with fe-")
        cookie, csrf_token = await keys.sign_in(session, bearer)
    response.set_cookie(
        COOKIE,
        cookie,
        max_age=keys.SIGN_IN_HOURS * 3_600,
        httponly=True,
        samesite="strict",
        secure=service.settings.address.startswith("https:"),
        path="/",
    )
    return Me(
        name=bearer.name,
        scopes=list(bearer.scopes),
        csrf_token=csrf_token,
        version=__version__,
    )


@router.delete("", status_code=204)
async def sign_out(bearer: MayRead, request: Request, service: TheService) -> Response:
    """End the browser's sign-in."""
    async with service.database.writing() as session:
        await keys.sign_out(session, request.cookies.get(COOKIE, ""))
    response = Response(status_code=204)
    response.delete_cookie(COOKIE, path="/")
    return response
