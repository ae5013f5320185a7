"""Pydantic's findings, told as errors at their places."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Any, TypeVar, get_args

from pydantic import BaseModel, ValidationError
from pydantic_core import ErrorDetails

from fond_echo.documents.errors import MAX_ERRORS, FileError, InvalidFile, nearest
from fond_echo.documents.source import Path, Source

Model = TypeVar("Model", bound=BaseModel)


def validated(source: Source, model: type[Model], at: Path = ()) -> Model:
    """A source as a model.

    Raises:
        InvalidFile: with every fault and its place.
    """
    value = source.value
    if not isinstance(value, dict):
        what = "the file is empty" if value is None else "the file must be a mapping of fields"
        raise InvalidFile([source.error((), what, f"begin with: {_first_field(model)}: …")])
    try:
        return model.model_validate(value)
    except ValidationError as error:
        found = error.errors(include_url=False)
        listed = [_fault(source, model, each) for each in found[:MAX_ERRORS]]
        raise InvalidFile(listed, more=len(found) - len(listed)) from error


def _first_field(model: type[BaseModel]) -> str:
    return next(iter(model.model_fields))


def _fault(source: Source, model: type[BaseModel], error: ErrorDetails) -> FileError:
    path = _real_path(source.value, error["loc"])
    kind = error["type"]
    name = str(path[-1]) if path else ""
    if kind == "extra_forbidden":
        known = fields_at(model, path[:-1])
        return source.error(
            path, f"there is no field {name!r} here", nearest(name, known), key=True
        )
    if kind == "missing":
        what = f"the field {error['loc'][-1]!r} is missing"
        return source.error(path[:-1] if path in source.places else path, what)
    message = error["msg"].removeprefix("Value error, ")
    what = f"{name}: {message}" if name and not isinstance(path[-1], int) else message
    return source.error(path, what)


def _real_path(value: Any, loc: tuple[str | int, ...]) -> Path:
    """The location without the names of union members and validators that Pydantic puts in."""
    path: list[str | int] = []
    for place, step in enumerate(loc):
        last = place + 1 == len(loc)
        if isinstance(value, dict) and (step in value or last):
            path.append(step)
            value = value.get(step)
        elif isinstance(value, list) and isinstance(step, int):
            path.append(step)
            value = value[step] if step < len(value) else None
    return tuple(path)


def fields_at(model: type[BaseModel], path: Sequence[str | int]) -> list[str]:
    """The names of the fields that a model has at a path."""
    models: list[type[BaseModel]] = [model]
    for step in path:
        if isinstance(step, int):
            continue
        following: list[type[BaseModel]] = []
        for each in models:
            info = each.model_fields.get(step) or next(
                (known for known in each.model_fields.values() if known.alias == step), None
            )
            if info is not None:
                following += _models_in(info.annotation)
        models = following or models
    return [info.alias or name for each in models for name, info in each.model_fields.items()]


def _models_in(annotation: Any) -> list[type[BaseModel]]:
    if isinstance(annotation, type) and issubclass(annotation, BaseModel):
        return [annotation]
    return [model for part in get_args(annotation) for model in _models_in(part)]
