"""Whether a message in a room of many is meant for the assistant."""

from __future__ import annotations

import re
from collections.abc import Sequence


def addressed_to(text: str, names: Sequence[str]) -> str | None:
    """What is said to somebody who is called by one of some names at the beginning or the end;
    None where nobody of that name is.

    >>> addressed_to("Harbour desk, when is the next boat?", ["harbour desk"])
    'when is the next boat?'
    >>> addressed_to("When is the next boat, @desk?", ["desk"])
    'When is the next boat?'
    >>> addressed_to("I left it at the desk yesterday.", ["desk"]) is None
    True
    """
    for name in sorted(names, key=len, reverse=True):
        words = r"[\s_-]+".join(map(re.escape, re.split(r"[\s_-]+", name.strip().lstrip("@"))))
        if not words:
            continue
        first = rf"^\s*(?:(?:hey|hi|hello|dear|ok|okay)[\s,]+)?@?{words}(?:\s*[,:;!.–-]+\s*|\s+|$)"
        if found := re.match(first, text, re.IGNORECASE):
            return text[found.end() :].strip()
        last = rf"(?:\s*,\s*@?|\s+@){words}\s*([.?!]*)\s*$"
        if found := re.search(last, text, re.IGNORECASE):
            return (text[: found.start()] + found[1]).strip()
    return None
