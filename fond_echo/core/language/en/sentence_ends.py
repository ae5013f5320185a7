"""Where sentences end (English): not after abbreviations, initials, decimals and numbers of things.

>>> split("It leaves at 4 p.m. from berth No. 4. Be early.")
['It leaves at 4 p.m. from berth No. 4.', 'Be early.']
"""

from __future__ import annotations

import re

_END = re.compile(r"[.!?…][\"'”’)\]]*(?=\s)")
"""A mark that may end a sentence, with the quotes and brackets that close with it."""

BEFORE_NAMES = frozenset(
    "dr mr mrs ms mx prof st rev fr sr jr capt cpt lt col gen sgt cdr adm hon messrs mme mlle"
    " mt ft no nos fig figs p pp vol ch sec art ed eds cf vs approx ca tel ext".split()
)
"""Abbreviations that something follows: they end no sentence."""

WITHIN = frozenset("e.g i.e etc viz a.k.a c.f al".split())
"""Abbreviations in the middle of a sentence; before a capital they may end one: etc."""

_INITIALS = re.compile(r"(?:[A-Za-z]\.)+[A-Za-z]$")
"""U.S, p.m, e.g: letters with stops between, their own last stop taken away."""

_LEADING = "\"'“‘(["


def split(text: str) -> list[str]:
    """The sentences of a text, without what stands between them; nothing else is lost."""
    found, begin = [], 0
    for mark in _END.finditer(text):
        after = text[mark.end() :].lstrip()
        if after and not _ends(text[begin : mark.start()], mark.group(), after):
            continue
        found.append(text[begin : mark.end()].strip())
        begin = mark.end()
    rest = text[begin:].strip()
    return [each for each in (*found, rest) if each]


def _ends(before: str, mark: str, after: str) -> bool:
    """Whether a mark ends a sentence, by what stands around it."""
    if not mark.startswith("."):
        return True
    word = before.rsplit(None, 1)[-1].lstrip(_LEADING) if before.strip() else ""
    first = after.lstrip(_LEADING)[:1]
    low = word.lower()
    if low in BEFORE_NAMES:
        # "No." is an answer too, "no. 4" is a number; "p." stands before a page.
        if low in ("no", "nos", "p", "pp", "ch", "vol", "fig", "figs", "sec", "art", "ext"):
            return not first.isdigit()
        return not first.isupper() and not first.isdigit()
    if low in WITHIN:
        return first.isupper() and low in ("etc", "al")
    if _INITIALS.search(word):
        # "at 4 p.m. The boat" ends; "the U.S. mail" and "4 p.m. from" do not.
        return first.isupper() and low in ("p.m", "a.m")
    if len(word) == 1 and word.isalpha() and word.isupper() and word != "I":
        # An initial: "J. Quennell"; a letter of its own ends: "berth B. It".
        return before.rstrip()[-2:-1].isspace() and _is_named(before)
    return not first.islower() or bool(re.search(r"[\"'”’)\]]$", mark))


def _is_named(before: str) -> bool:
    """Whether a capital at the end names one of several things, such as a berth."""
    words = before.split()
    return len(words) > 1 and words[-2][:1].islower()
