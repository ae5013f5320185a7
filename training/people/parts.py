"""Who is trained on, who is chosen by, and who tests.

All packages were recorded by small casts, and an actor may have several characters: only those of
one package are kept apart from the same package's others by character, so `choose` and `test` may
share an actor with `train`. Recordings of other people (`bench.people`) share nobody.
"""

from __future__ import annotations

JUDGE = frozenset(["naomi", "lou", "klunk", "tam", "frank", "henry"])
"""Characters whose lines are neither trained on nor chosen by."""

CHOOSE = frozenset(["faye", "oracle", "laris", "path", "chef"])
"""Characters whose lines are for choosing: pronunciations, prices, confidences."""

CASTLE = {"i": "test, castle", "l": "test, castle", "e": "choose", "t": "choose"}
"""Characters of the third package that are kept apart; judged by themselves, so that figures from
before it was read still compare."""

SHARED_EVERY, SHARED_AT = 20, 7
"""Of lines whose speaker is not known, every so many-th is for choosing: the same people's voices
are trained on, with other lines."""


def part_of(package: str, speaker: str, number: int) -> str:
    """`train`, `choose`, `choose, shared` (the same voices are trained on), `test` or `test,
    castle`.

    Args:
        number: of the line in its package.
    """
    if package == "sky":
        return "choose, shared" if number % SHARED_EVERY == SHARED_AT else "train"
    if package == "castle":
        return CASTLE.get(speaker, "train")
    if speaker in JUDGE:
        return "test"
    return "choose" if speaker in CHOOSE else "train"
