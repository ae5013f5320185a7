"""What kind of question something is: its price, its place, who, why, whether one may (English)."""

from __future__ import annotations

import re
from collections.abc import Sequence

_KINDS = tuple(
    (kind, re.compile(pattern))
    for kind, pattern in (
        (
            "price",
            r"how much|what (does|do|would|will|did|are|is) .*(cost|charge|pay|price|fee)"
            r"|\b(cost|price|expensive|dear|charge)\b",
        ),
        ("until", r"how long|until when|how (late|early)|until what"),
        ("number", r"how many"),
        ("time", r"\bwhen\b|what (time|day|hours?)|which days?"),
        ("place", r"\bwhere\b|whereabouts"),
        ("person", r"\bwho(se|'s)?\b"),
        ("reason", r"\bwhy\b|how come"),
        ("way", r"how (do|can|could|should|would|does) "),
        ("manner", r"\bhow\b"),
        ("choice", r"\bwhich\b|what (kind|sort)"),
        ("thing", r"\bwhat\b"),
        ("offer", r"\b(do|have|has) you|\bis there|\bare there|\bany\b|got any"),
        ("permission", r"\b(can|could|may|must|should|shall|do) (i|we)\b|am i|are we"),
        ("service", r"\b(can|could|will|would) (you|some)"),
        ("whether", r"^(do|does|did|is|are|was|were|has|have|can|could|may|will|would) "),
        ("wish", r"\b(i'd|i would|we'd|i want|i need|we need|i have to|please)\b"),
    )
)

FACTS = frozenset(("person", "reason", "number", "way"))
"""Kinds that ask about the world, not for a service."""


def kind_of_question(tokens: Sequence[str]) -> str:
    """The kind of question that spoken words are; "" where they only state something."""
    text = " ".join(tokens)
    return next((kind for kind, pattern in _KINDS if pattern.search(text)), "")
