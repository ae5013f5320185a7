"""What is expected, between processes: it goes by its digest, and whole only to who does not know
it. That of a grammar has thousands of words and changes seldom."""

from __future__ import annotations

from functools import lru_cache
from hashlib import blake2b

from pydantic import Field

from fond_echo.contract.base import Schema
from fond_echo.core.caching import Recent
from fond_echo.core.recognition.graph import WordNetwork
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.errors import ExpectedUnknown

MAX_KNOWN = 500_000
"""Words and phrases of all that a process knows: some 60 MB."""


class ExpectedText(Schema):
    """What is expected, as it is sent."""

    phrases: list[str] = Field(default_factory=list)
    names: list[str] = Field(default_factory=list)
    hints: list[str] = Field(default_factory=list)
    sounds: list[tuple[str, str]] = Field(default_factory=list)
    arcs: list[tuple[int, int, str]] = Field(default_factory=list, max_length=60_000)
    finals: list[int] = Field(default_factory=list)
    only: bool = False

    @property
    def expected(self) -> Expected:
        network = WordNetwork(tuple(self.arcs), frozenset(self.finals)) if self.arcs else None
        return Expected(
            tuple(self.phrases), tuple(self.names), network, tuple(self.hints), tuple(self.sounds),
            self.only,
        )  # fmt: skip

    @classmethod
    def of(cls, expected: Expected) -> ExpectedText:
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
        )


@lru_cache(maxsize=64)
def digest_of(expected: Expected) -> str:
    """What is expected goes by this."""
    text = ExpectedText.of(expected).model_dump_json()
    return blake2b(text.encode(), digest_size=16).hexdigest()


class Known:
    """What a process was sent whole, by digest; what was not asked for lately is forgotten."""

    def __init__(self) -> None:
        self._known: Recent[str, Expected] = Recent(MAX_KNOWN, _size)

    def of(self, digest: str, whole: Expected | None) -> Expected:
        """What a digest stands for; where it comes whole, it is known from now on.

        Raises:
            ExpectedUnknown: it does not come whole, and is not known.
        """
        if whole is not None:
            self._known.keep(digest, whole)
            return whole
        try:
            return self._known[digest]
        except KeyError:
            raise ExpectedUnknown(f"what {digest} stands for is not known here") from None


def _size(expected: Expected) -> float:
    network = expected.network
    lists = (expected.phrases, expected.names, expected.hints, expected.sounds)
    return 1 + sum(map(len, lists)) + (len(network.arcs) if network else 0)
