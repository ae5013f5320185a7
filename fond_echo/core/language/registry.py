"""The languages there are: the folders beside this file, and those that an installed package names
in the entry point group `fond_echo.languages`. Each is read when it is first asked for."""

from __future__ import annotations

import pkgutil
from functools import lru_cache
from importlib import import_module
from importlib.metadata import entry_points

from fond_echo.core.language.errors import UnknownLanguage
from fond_echo.core.language.language import Language

GROUP = "fond_echo.languages"
DEFAULT = "en"

_ADDED: dict[str, Language] = {}


@lru_cache(maxsize=1)
def _found() -> dict[str, str]:
    """Code → the module that holds it."""
    package = __name__.rpartition(".")[0]
    folder = import_module(package).__path__
    ours = {
        each.name: f"{package}.{each.name}" for each in pkgutil.iter_modules(folder) if each.ispkg
    }
    others = {each.name: each.value for each in entry_points(group=GROUP)}
    return others | ours


def codes() -> tuple[str, ...]:
    """The codes of all languages, in order."""
    return tuple(sorted({*_found(), *_ADDED}))


def add(language: Language) -> None:
    """Make a language known in this process, in place of one of the same code."""
    _ADDED[language.code] = language


def language(code: str = DEFAULT) -> Language:
    """The language of a code; "en-GB" is "en" where it has no object of its own.

    Raises:
        UnknownLanguage: no such language is installed; it lists those that are.
    """
    for each in (code, code.split("-", maxsplit=1)[0].lower()):
        if each in _ADDED:
            return _ADDED[each]
        if each in _found():
            return _imported(_found()[each])
    raise UnknownLanguage(f"the language {code!r} is not known", remedy=f"use {', '.join(codes())}")


@lru_cache(maxsize=32)
def _imported(module: str) -> Language:
    name, _, attribute = module.partition(":")
    found = getattr(import_module(name), attribute or "LANGUAGE")
    assert isinstance(found, Language), f"{module} is no Language"
    return found
