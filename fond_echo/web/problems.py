"""Errors as RFC 9457 problem details."""

from __future__ import annotations

import json
from collections.abc import Mapping, Sequence
from typing import Any

import structlog
from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import Response
from pydantic import BaseModel
from sqlalchemy.exc import DataError, StatementError
from starlette.exceptions import HTTPException

from fond_echo.contract.api import Problem
from fond_echo.contract.assistants import FileErrorOut
from fond_echo.contract.base import JsonObject
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.errors import InvalidFile, nearest
from fond_echo.documents.validate import fields_at
from fond_echo.store.database import AWAY

log = structlog.get_logger()

TYPES = "https://fond-echo.invalid/problems/"
"""Names, not addresses to visit: docs/reference/errors.md explains each."""


_STATUSES: dict[str, int] = {
    "not-found": 404,
    "clip-missing": 404,
    "link-forged": 403,
    "link-expired": 410,
    "blob-missing": 404,
    "not-allowed": 403,
    "words-in-revisions": 409,
    "not-signed-in": 401,
    "conflict": 409,
    "webhook-forged": 401,
    "too-large": 413,
    "too-many": 429,
    "too-busy": 503,
    "speech-unreachable": 503,
}
_TITLES = {
    401: "Sign in first",
    403: "Not allowed",
    404: "Not found",
    405: "Not possible here",
    408: "Too slow",
    409: "Conflict",
    413: "Too large",
    422: "Cannot be used as it is",
    429: "Too many",
    500: "Internal error",
    503: "Not possible now",
}


SHAPES = "#/components/schemas/"


def describe(document: JsonObject) -> None:
    """Write into an OpenAPI document how every operation's errors look, in place of what the
    framework says of invalid requests."""
    shapes = document["components"]["schemas"]
    for name in ("HTTPValidationError", "ValidationError"):
        shapes.pop(name, None)
    shape = Problem.model_json_schema(ref_template=f"{SHAPES}{{model}}")
    shapes |= {**shape.pop("$defs", {}), Problem.__name__: shape}
    document["components"]["schemas"] = dict(sorted(shapes.items()))
    schema = {"$ref": SHAPES + Problem.__name__}
    responses = {
        str(status): {
            "description": title,
            "content": {"application/problem+json": {"schema": schema}},
        }
        for status, title in _TITLES.items()
        if status != 500
    }
    for path in document["paths"].values():
        for operation in path.values():
            operation["responses"] |= responses


def problem(
    code: str, status: int, detail: str, remedy: str = "", errors: list[FileErrorOut] | None = None
) -> Response:
    """A problem response."""
    body = Problem(
        type=TYPES + code,
        title=_TITLES.get(status, "Error"),
        status=status,
        detail=detail,
        remedy=remedy,
        errors=errors or [],
    )
    # What is reported may hold text that is not UTF-8: it is then written with question marks.
    content = json.dumps(body.model_dump(), ensure_ascii=False).encode("utf-8", "replace")
    return Response(content, status, media_type="application/problem+json")


def _of_error(_: Request, error: Exception) -> Response:
    assert isinstance(error, FondEchoError)
    errors = []
    if isinstance(error, InvalidFile):
        errors = [FileErrorOut(**vars(fault)) for fault in error.errors]
    detail = f"{error.where}: {error.what}" if error.where else error.what
    answer = problem(error.code, _STATUSES.get(error.code, 422), detail, error.remedy, errors)
    if answer.status_code == 503:
        answer.headers["Retry-After"] = "2"
    return answer


def _of_validation(request: Request, error: Exception) -> Response:
    assert isinstance(error, RequestValidationError)
    first: JsonObject = error.errors()[0]
    field = getattr(request.scope.get("route"), "body_field", None)
    model = getattr(getattr(field, "field_info", None), "annotation", None)
    return problem("request", 422, *told_of(first, first["loc"][1:], model))


def told_of(error: Mapping[str, Any], path: Sequence[str | int], model: Any) -> tuple[str, str]:
    """What is wrong with a body, and what would be right.

    Args:
        error: one of Pydantic's.
        path: to what is wrong, in the body.
        model: of the body; None where it is not known.
    """
    where = ".".join(str(step) for step in error["loc"])
    if error["type"] != "extra_forbidden":
        return f"{where}: {error['msg']}", ""
    is_model = isinstance(model, type) and issubclass(model, BaseModel)
    known = fields_at(model, path[:-1]) if is_model else []
    return f"{where}: there is no field {str(path[-1])!r} here", nearest(str(path[-1]), known)


def _of_text(request: Request, error: Exception) -> Response:
    """Half of a surrogate pair has no UTF-8, and cannot be kept."""
    log.info("a text has no UTF-8", path=request.url.path, reason=str(error))
    return problem("request", 422, "a text holds half of a surrogate pair", "send whole characters")


def _of_depth(request: Request, error: Exception) -> Response:
    log.info("a request is nested too deeply", path=request.url.path, exc_info=error)
    return problem("request", 422, "the body is nested too deeply", "send it flatter")


def _of_statement(request: Request, error: Exception) -> Response:
    cause = getattr(error, "orig", None) or error.__cause__
    return _of_text(request, error) if isinstance(cause, UnicodeError) else _of_bug(request, error)


def _of_http(request: Request, error: Exception) -> Response:
    assert isinstance(error, HTTPException)
    if isinstance(error.__cause__, FondEchoError):
        # What is wrong with a body, in the framework's wrapping.
        return _of_error(request, error.__cause__)
    # 400 is the framework's word for a body that is no JSON; ours is 422, as for all that is wrong.
    status = 422 if error.status_code == 400 else error.status_code
    code = {404: "not-found", 405: "method", 413: "too-large"}.get(status, "request")
    answer = problem(code, status, str(error.detail))
    answer.headers.update(error.headers or {})
    return answer


def _of_database(request: Request, error: Exception) -> Response:
    reason = str(error).splitlines()[0]
    log.warning("the database is away", path=request.url.path, reason=reason)
    answer = problem("database-away", 503, "the database does not answer", "ask again in a moment")
    answer.headers["Retry-After"] = "2"
    return answer


def _of_data(request: Request, error: Exception) -> Response:
    reason = str(error.__cause__ or error).splitlines()[0]
    log.warning("a value cannot be stored", path=request.url.path, reason=reason)
    return problem(
        "not-storable", 422, f"a value cannot be stored: {reason}", "leave out U+0000 characters"
    )


def _of_bug(request: Request, error: Exception) -> Response:
    log.exception("a request broke", path=request.url.path, exc_info=error)
    return problem("internal", 500, "something broke on our side; the log has the details")


def install(app: FastAPI) -> None:
    """Make every error of an app a problem."""
    app.add_exception_handler(FondEchoError, _of_error)
    app.add_exception_handler(RequestValidationError, _of_validation)
    app.add_exception_handler(HTTPException, _of_http)
    app.add_exception_handler(StatementError, _of_statement)
    app.add_exception_handler(DataError, _of_data)
    app.add_exception_handler(UnicodeError, _of_text)
    app.add_exception_handler(RecursionError, _of_depth)
    for away in AWAY:
        app.add_exception_handler(away, _of_database)
    app.add_exception_handler(Exception, _of_bug)
