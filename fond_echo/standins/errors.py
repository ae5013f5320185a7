"""What can go wrong in `standins`."""

from __future__ import annotations


class Refusal(Exception):
    """The network refuses a request, with a status."""

    def __init__(self, status: int, reason: str) -> None:
        super().__init__(reason)
        self.status = status
