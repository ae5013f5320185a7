"""What of all that is expected a doubtful sound may have been: the phrases that are worth asking
about."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Protocol

OFFERED = 0.15
"""An expected phrase of at least this confidence is offered where nothing surer was heard."""

BESIDE = 0.6
"""A second one is offered beside it where it has at least this share of the first's."""


class Other(Protocol):
    """A reading that was not taken."""

    @property
    def text(self) -> str: ...
    @property
    def confidence(self) -> float: ...
    @property
    def expected(self) -> bool: ...


def offered(others: Sequence[Other]) -> list[str]:
    """The spoken form of what is offered: one phrase, or two, the likelier first; none where
    nothing that is expected is near."""
    likely = [each for each in others if each.expected and each.confidence >= OFFERED][:2]
    return [each.text for each in likely if each.confidence >= BESIDE * likely[0].confidence]
