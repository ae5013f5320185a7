"""When somebody is there: opening hours of an assistant, and what they make of a time that may be
meant twice a day."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from datetime import date, datetime, timedelta
from datetime import time as clock_time
from zoneinfo import ZoneInfo

DAYS = ("mon", "tue", "wed", "thu", "fri", "sat", "sun")

BY_DAY = (clock_time(7), clock_time(19))
"""Where no hours are given, and another day is meant, times are in the light."""

Span = tuple[clock_time, clock_time]


def days_of(text: str) -> list[int]:
    """The days of the week (0 is Monday) that "mon", "mon-fri" or "sat, sun" names.

    Raises:
        ValueError: it names none.
    """
    found: list[int] = []
    for part in text.lower().replace(" ", "").split(","):
        first, dash, last = part.partition("-")
        if first not in DAYS or (dash and last not in DAYS):
            raise ValueError(f"{part!r} is no day; write {', '.join(DAYS)}, or mon-fri")
        at, end = DAYS.index(first), DAYS.index(last or first)
        found += [(at + step) % 7 for step in range((end - at) % 7 + 1)]
    return found


def span_of(text: str) -> Span:
    """A span of hours, "08:00-18:00".

    Raises:
        ValueError: it is not a time span, or ends before it begins.
    """
    found = re.fullmatch(r"\s*(\d{1,2}):(\d\d)\s*[-–]\s*(\d{1,2}):(\d\d)\s*", text)
    if not found:
        raise ValueError(f"{text!r} is no span of hours; write 08:00-18:00")
    first, minute, last, minutes = map(int, found.groups())
    if (last, minutes) == (24, 0):
        last, minutes = 23, 59
    begin, end = clock_time(first, minute), clock_time(last, minutes)
    if begin >= end:
        raise ValueError(
            f"{text!r} ends before it begins; write two spans, to 24:00 and from 00:00"
        )
    return begin, end


@dataclass(frozen=True)
class Hours:
    """Opening hours.

    Attributes:
        spans: of each day of the week, 0 to 6.
        closed: days on which nobody is there.
        zone: in which they are meant.
    """

    spans: Mapping[int, Sequence[Span]]
    closed: frozenset[date] = frozenset()
    zone: ZoneInfo = field(default_factory=lambda: ZoneInfo("UTC"))

    def on(self, day: date) -> Sequence[Span]:
        """The spans of a day."""
        return () if day in self.closed else self.spans.get(day.weekday(), ())

    def is_open(self, at: datetime) -> bool:
        """Whether somebody is there at a moment."""
        here = at.astimezone(self.zone)
        return any(begin <= here.time() < end for begin, end in self.on(here.date()))

    def next_open(self, at: datetime) -> datetime | None:
        """When somebody is there next, in the zone of the hours; None within the next month."""
        here = at.astimezone(self.zone)
        for ahead in range(32):
            day = here.date() + timedelta(days=ahead)
            for begin, _ in sorted(self.on(day)):
                opens = datetime.combine(day, begin, self.zone)
                if opens > here:
                    return opens
        return None

    def holds(self, at: clock_time, day: date) -> bool:
        """Whether a time of a day is within them, its end included."""
        return any(begin <= at <= end for begin, end in self.on(day))


def likelier(times: Sequence[str], day: date, now: datetime, hours: Hours | None) -> str | None:
    """Of two times (HH:MM) that were meant alike, such as half past three, the one that hours
    allow, or that is by day on another day than today; None where that decides nothing."""
    if hours is not None and (spans := hours.on(day)):
        found = [t for t in times if hours.holds(clock_time.fromisoformat(t), day)]
        return found[0] if len(found) == 1 and spans else None
    if day == now.date():
        return None
    found = [t for t in times if BY_DAY[0] <= clock_time.fromisoformat(t) < BY_DAY[1]]
    return found[0] if len(found) == 1 else None
