"""The console's files, with a content security policy whose nonce is new for every page."""

from __future__ import annotations

import json
import mimetypes
import secrets
from pathlib import Path

from fastapi import APIRouter, FastAPI, Response
from fastapi.responses import HTMLResponse
from fastapi.staticfiles import StaticFiles
from starlette.datastructures import Headers
from starlette.types import Scope

from fond_echo.web.errors import NotFound

STATIC = Path(__file__).parent / "static"
NONCE = "@@nonce@@"


class Assets(StaticFiles):
    """Files of the build, whose names change with what is in them; those that were compressed when
    they were built go out so."""

    async def get_response(self, path: str, scope: Scope) -> Response:
        accepted = Headers(scope=scope).get("accept-encoding", "")
        packed, _ = self.lookup_path(path + ".gz")
        if packed and "gzip" in accepted:
            response = await super().get_response(path + ".gz", scope)
            response.headers["Content-Type"] = mimetypes.guess_type(path)[0] or "text/plain"
            response.headers["Content-Encoding"] = "gzip"
        else:
            response = await super().get_response(path, scope)
        response.headers["Vary"] = "Accept-Encoding"
        response.headers["Cache-Control"] = "public, max-age=31536000, immutable"
        return response


router = APIRouter(include_in_schema=False)

NOT_BUILT = """<!doctype html><title>Fond Echo</title>
<p>The console is not built. Run <code>script/demo</code>, or in console/:
<code>npm ci &amp;&amp; npm run build</code>.</p>"""


def policy(nonce: str) -> str:
    """Scripts and styles of our own only; sound from here and from memory."""
    return "; ".join(
        (
            "default-src 'none'",
            f"script-src 'self' 'nonce-{nonce}'",
            f"style-src 'self' 'nonce-{nonce}'",
            "img-src 'self' data:",
            "font-src 'self'",
            "media-src 'self' blob:",
            "connect-src 'self'",
            "base-uri 'none'",
            "form-action 'self'",
            "frame-ancestors 'none'",
        )
    )


def page(name: str = "index.html") -> Response:
    """A page of the build: the console's one page, or the guests'."""
    index = STATIC / name
    if not index.exists():
        return HTMLResponse(NOT_BUILT, status_code=503)
    nonce = secrets.token_urlsafe(16)
    return HTMLResponse(
        index.read_text().replace(NONCE, nonce),
        headers={
            "Content-Security-Policy": policy(nonce),
            "Cache-Control": "no-store",
            "Referrer-Policy": "same-origin",
            "X-Content-Type-Options": "nosniff",
        },
    )


async def console(rest: str = "") -> Response:
    """Every address of the console is the same page."""
    return page()


@router.get("/api/{rest:path}")
async def nothing_here(rest: str) -> Response:
    raise NotFound(f"there is no /api/{rest}")


def install(app: FastAPI) -> None:
    """Serve the console; where it is not built, a page that says so. The build says which addresses
    are pages of the console (`pages.json`)."""
    listed = STATIC / "pages.json"
    pages = json.loads(listed.read_text()) if listed.exists() else []
    for path in ("/", *(f"/{each}{rest}" for each in pages for rest in ("", "/{rest:path}"))):
        router.add_api_route(path, console, methods=["GET"], include_in_schema=False)
    app.include_router(router)
    if (STATIC / "assets").is_dir():
        app.mount("/assets", Assets(directory=STATIC / "assets"), name="assets")
