"""Business logic of the harbour desk.

FOND_ECHO_LOGIC_SECRET=… uvicorn fond_echo.demo.timetable.logic:app --port 8090
"""

from __future__ import annotations

import asyncio
import os
from datetime import date

from fond_echo.demo.timetable.sailings import (
    ISLANDS,
    next_sailing,
    sailings_of,
    weather_hold,
)
from fond_echo.logic import End, Logic, LogicRequest, Reply

TIDE_TABLE_SECONDS = 4.0

app = Logic(secrets=os.environ.get("FOND_ECHO_LOGIC_SECRET", "timetable-secret").split(","))


@app.answers("next-sailing")
async def next_boat(requested: LogicRequest) -> Reply:
    """The next boat to the island that was asked for."""
    island = str(requested.slots.get("island", ""))
    if island not in ISLANDS:
        return Reply(
            text="Where to? Boats go to Brannick, Pell, Little Marrow and Ossel.",
            choices=[{"label": f"Next boat to {each}"} for each in ISLANDS],
        )
    sailing, tomorrow = next_sailing(island, requested.now)
    when = "tomorrow " if tomorrow else ""
    return Reply(
        text=f"The next boat to {island} leaves {when}at {sailing.at:%H:%M}, the {sailing.boat}.",
        remember={"island": island},
    )


@app.answers("sailings-today")
async def today(requested: LogicRequest) -> Reply:
    """All that still leaves today: a list to read, the first three to hear."""
    left = sailings_of(requested.now)
    if not left:
        return Reply(text="There are no more boats today. The first tomorrow is to Pell, at 06:50.")
    listed = "\n".join(f"- {each.at:%H:%M} {each.island} ({each.boat})" for each in left)
    first = ", ".join(f"{each.at:%H:%M} to {each.island}" for each in left[:3])
    more = f", and {len(left) - 3} more after that" if len(left) > 3 else ""
    return Reply(text=f"Still to sail today:\n{listed}", spoken=f"Still to sail: {first}{more}.")


@app.answers("book-bicycle")
async def book_bicycle(requested: LogicRequest) -> Reply:
    """Book places at the stern; the booking is remembered for a month."""
    island, day, places = (requested.slots[name] for name in ("island", "day", "places"))
    code = f"{str(island)[:1]}{requested.turn.id[-4:]}".upper()
    when = f"{date.fromisoformat(str(day)):%A}"
    what = f"{places} bicycle {'place' if places == 1 else 'places'} to {island} on {when}"
    return Reply(
        text=f"Booked: {what}. Your word for the deck hand is {code}.",
        spoken=f"Booked: {what}. Your word for the deck hand is {' '.join(code)}.",
        remember={"bicycle-booking": f"{what}, {code}"},
        remember_days=30,
    )


@app.answers("free-bicycle")
async def free_bicycle(requested: LogicRequest) -> Reply:
    """Take back what was just booked."""
    island, places = requested.slots["island"], requested.slots["places"]
    what = "The bicycle place" if places == 1 else f"The {places} bicycle places"
    return Reply(text=f"{what} to {island} {'is' if places == 1 else 'are'} free again.")


@app.answers("keep-booking")
async def keep(_: LogicRequest) -> Reply:
    """The booking stands for the next boat that sails."""
    return Reply(text="Your booking is kept for the next boat that sails.", then=End())


@app.answers("move-booking")
async def move(requested: LogicRequest) -> Reply:
    """The booking goes to another day."""
    when = f"{date.fromisoformat(str(requested.slots['day'])):%A}"
    return Reply(text=f"Your booking is moved to {when}, at the same time.", then=End())


@app.answers("cancel-booking")
async def cancel(_: LogicRequest) -> Reply:
    """The booking is cancelled, and paid back."""
    return Reply(text="Your booking is cancelled. The fare is paid back in three days.", then=End())


@app.answers("weather-hold")
async def weather(requested: LogicRequest) -> str:
    """Whether the boats are running."""
    if weather_hold(requested.now):
        return "The boats are on a weather hold today. Please ask again in the evening."
    return "All boats are running today."


@app.answers("lost-picture")
async def lost_picture(requested: LogicRequest) -> str:
    """A picture of something that was lost goes to the office."""
    sent = requested.turn.attachments
    if not sent:
        return "Please send a picture of what you lost, and I pass it on to the office."
    pictures = f"{len(sent)} pictures are" if len(sent) > 1 else "Your picture is"
    return f"{pictures} with Maren Aldous at the harbour office. She writes when it is found."


@app.answers("high-water")
async def high_water(_: LogicRequest) -> str:
    """High water, from a table that takes its time."""
    await asyncio.sleep(TIDE_TABLE_SECONDS)
    return "High water is at 06:40 and 19:05, a metre and a half above the mark."
