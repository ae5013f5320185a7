"""What the speech process is asked, and how it says that something failed."""

from __future__ import annotations

from pydantic import Field

from fond_echo.contract.base import Schema
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.graph import WordNetwork
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.priority import Priority


class HearAsk(Schema):
    """What goes with sound to be transcribed."""

    phrases: list[str] = Field(default_factory=list)
    names: list[str] = Field(default_factory=list)
    hints: list[str] = Field(default_factory=list)
    sounds: list[tuple[str, str]] = Field(default_factory=list)
    arcs: list[tuple[int, int, str]] = Field(default_factory=list, max_length=60_000)
    finals: list[int] = Field(default_factory=list)
    only: bool = False
    language: str = "en"
    priority: Priority = Priority.VOICE_NOTE

    @property
    def expected(self) -> Expected:
        network = WordNetwork(tuple(self.arcs), frozenset(self.finals)) if self.arcs else None
        return Expected(
            tuple(self.phrases), tuple(self.names), network, tuple(self.hints), tuple(self.sounds),
            self.only,
        )  # fmt: skip

    @classmethod
    def of(cls, expected: Expected, language: str, priority: Priority) -> HearAsk:
        """The same, to be sent."""
        network = expected.network
        return cls(
            phrases=list(expected.phrases),
            names=list(expected.names),
            hints=list(expected.hints),
            sounds=list(expected.sounds),
            arcs=list(network.arcs) if network else [],
            finals=sorted(network.finals) if network else [],
            only=expected.only,
            language=language,
            priority=priority,
        )


class ListenAsk(HearAsk):
    """What goes before sound that goes on."""

    end_seconds: float = Field(default=0.6, ge=0.2, le=5.0)
    priority: Priority = Priority.CALL


class SayAsk(Schema):
    """Text to be spoken; `rate`, `pitch` and `volume` are those of a `Manner`, `recordings` FLAC
    as base64, by the names that markup has for them."""

    text: str
    voice: str
    seed: int | None = None
    sounds: list[tuple[str, str]] = Field(default_factory=list)
    language: str = "en"
    rate: float = 1.0
    pitch: float = 0.0
    volume: float = 0.0
    recordings: dict[str, str] = Field(default_factory=dict)
    priority: Priority = Priority.VOICE_NOTE


def error_of(error: FondEchoError) -> dict[str, str]:
    """A failure as JSON."""
    return {"code": error.code, "what": error.what, "where": error.where, "remedy": error.remedy}
