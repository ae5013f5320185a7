"""The timetable of Tern Sound Ferries, and questions to it."""

from __future__ import annotations

from dataclasses import dataclass
from datetime import datetime, time, timedelta

ISLANDS = ("Brannick", "Pell", "Little Marrow", "Ossel")


@dataclass(frozen=True)
class Sailing:
    """A boat that leaves for an island at a time of day."""

    island: str
    at: time
    boat: str


def _sailings(island: str, boat: str, *times: str) -> tuple[Sailing, ...]:
    return tuple(Sailing(island, time.fromisoformat(each), boat) for each in times)


TIMETABLE = (
    *_sailings("Brannick", "Petrel", "07:10", "09:40", "12:10", "14:40", "16:10", "18:45", "21:10"),
    *_sailings("Pell", "Guillemot", "06:50", "10:15", "13:30", "17:05", "20:20"),
    *_sailings("Little Marrow", "Old Dunlin", "08:00", "12:00", "15:45", "19:30"),
    *_sailings("Ossel", "Petrel", "08:25", "10:55", "13:25", "15:55", "17:30", "20:05", "22:15"),
)


def next_sailing(island: str, now: datetime) -> tuple[Sailing, bool]:
    """The next boat to an island, and whether it leaves only tomorrow."""
    boats = [sailing for sailing in TIMETABLE if sailing.island == island]
    later = [sailing for sailing in boats if sailing.at > now.time()]
    return (later[0], False) if later else (boats[0], True)


def sailings_of(now: datetime) -> list[Sailing]:
    """What still leaves on the day, in order."""
    return sorted((each for each in TIMETABLE if each.at > now.time()), key=lambda each: each.at)


def weather_hold(day: datetime) -> bool:
    """Whether the boats stay in: on one day in nine, so that both answers are met."""
    return (day.date() - datetime(2026, 1, 1).date()) % timedelta(days=9) == timedelta(0)
