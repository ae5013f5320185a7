"""The registry of engines, by kind. Built-in engines are entries like others.

A package offers engines of its own by an entry point in the group `fond_echo.engines`, which is an
`Engine`. Which one is used is decided in one place, `Engines.find`, from what it is wanted for.
"""

from __future__ import annotations

from collections.abc import Callable, Iterable, Sequence
from dataclasses import dataclass, field
from importlib.metadata import entry_points
from typing import Any, Generic, Literal, TypeVar

import httpx

from fond_echo.engines.errors import EngineMisnamed, NoEngine

GROUP = "fond_echo.engines"

Kind = Literal["transcribe", "speak", "answer", "summarize", "translate", "draw", "review"]
Purpose = Literal["voice-note", "call", "long-file", "program"]

Context = TypeVar("Context")


@dataclass(frozen=True)
class Wanted:
    """What an engine is wanted for: an assistant on a channel, in a language, for a purpose."""

    language: str = ""
    assistant: str = ""
    channel: str = ""
    purpose: Purpose = "voice-note"


@dataclass(frozen=True)
class Engine(Generic[Context]):
    """An engine.

    Attributes:
        name: unlike those of other engines of its kind.
        make: makes it for a purpose. What it gives satisfies the protocol of its kind: for
            transcribe and speak, `Recognizer` and `Synthesizer` of `fond_echo.turns.ports`.
        languages: those it knows; all, where there are none.
        built_in: used where nothing else was chosen: what is installed is not chosen by that.
        voices: names of its own voices, where it speaks: an assistant may have one of them.
    """

    name: str
    kind: Kind
    make: Callable[[Context, Purpose], Any]
    languages: frozenset[str] = frozenset()
    built_in: bool = False
    voices: frozenset[str] = frozenset()

    def knows(self, language: str) -> bool:
        """Whether it knows a language; an empty one is any."""
        return not (self.languages and language) or language in self.languages


@dataclass(frozen=True)
class EngineSettings:
    """What engines are made with: where the speech process is, and a guarded HTTP client."""

    speech_url: str
    speech_token: str
    client: httpx.AsyncClient


@dataclass
class Engines(Generic[Context]):
    """The engines of an installation.

    Args:
        context: handed to each engine when it is made; it is made once for each purpose.
    """

    context: Context
    entries: Sequence[Engine[Context]]
    _made: dict[tuple[Kind, str, Purpose], Any] = field(default_factory=dict)

    def __post_init__(self) -> None:
        seen = set()
        for each in self.entries:
            if (each.kind, each.name) in seen:
                raise EngineMisnamed(f"two engines that {each.kind} are named {each.name!r}")
            seen.add((each.kind, each.name))

    def find(self, kind: Kind, wanted: Wanted, names: Sequence[str] = ()) -> list[Any]:
        """The engines that do what is wanted, in the order in which they are to be asked.

        Args:
            names: those that were chosen, in order; without any, the built-in ones, or, where these
                do not know the language, all that do.

        Raises:
            NoEngine: no engine has that name.
        """
        able = [each for each in self.entries if each.kind == kind and each.knows(wanted.language)]
        if names:
            known = {each.name: each for each in able}
            able = [known[name] for name in names if name in known]
        elif any(each.built_in for each in able):
            able = [each for each in able if each.built_in]
        if not able:
            there = ", ".join(sorted({e.name for e in self.entries if e.kind == kind})) or "none"
            raise NoEngine(
                f"no engine can {kind} {wanted.language or 'this'}", remedy=f"there is: {there}"
            )
        return [self._one(each, wanted.purpose) for each in able]

    def _one(self, engine: Engine[Context], purpose: Purpose) -> Any:
        key = engine.kind, engine.name, purpose
        if key not in self._made:
            self._made[key] = engine.make(self.context, purpose)
        return self._made[key]

    async def close(self) -> None:
        """Let go of what engines hold open."""
        for made in self._made.values():
            if (close := getattr(made, "close", None)) is not None:
                await close()
        self._made.clear()


def installed(built_in: Iterable[Engine[Any]]) -> list[Engine[Any]]:
    """The built-in engines and those of other packages.

    Raises:
        EngineMisnamed: an entry point is no engine.
    """
    found = list(built_in)
    for point in entry_points(group=GROUP):
        try:
            engine = point.load()
        except Exception as error:
            raise EngineMisnamed(f"the engine {point.name!r} does not load: {error}") from error
        if not isinstance(engine, Engine):
            raise EngineMisnamed(
                f"the entry point {point.name!r} is no engine", remedy="give an Engine"
            )
        found.append(engine)
    return found
