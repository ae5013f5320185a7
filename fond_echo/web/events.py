"""Events as they happen, as server-sent events."""

from __future__ import annotations

from collections.abc import AsyncIterator
from typing import Annotated

from fastapi import Depends, Header, Query
from fastapi.sse import EventSourceResponse, ServerSentEvent

from fond_echo.contract.api import EventOut
from fond_echo.store.events import Cursor, StoredEvent
from fond_echo.store.records import Channel
from fond_echo.web.access import MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import BadCursor, NotFound
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/events", tags=["events"])


def envelope(event: StoredEvent, service: Service) -> EventOut:
    """An event of this service in its envelope."""
    return envelope_of(event, service.settings.address)


def envelope_of(event: StoredEvent, source: str) -> EventOut:
    """An event in its CloudEvents envelope."""
    return EventOut(
        id=str(event.cursor),
        source=source,
        type=f"fond-echo.{event.type}",
        subject=event.subject,
        time=event.at,
        data=event.data,
    )


async def start(
    after: Annotated[str, Query(max_length=60, description="the id of an event")] = "",
    last_event_id: Annotated[str | None, Header()] = None,
) -> Cursor | None:
    """Where to begin; checked before the stream does."""
    given = last_event_id or after
    if not given:
        return None
    try:
        return Cursor.parse(given)
    except ValueError as error:
        raise BadCursor(f"{given!r} is not the id of an event") from error


async def only(
    service: TheService,
    channel: Annotated[str, Query(max_length=60, description="only what is about it")] = "",
) -> str:
    """The channel whose events are wanted; it is checked before the stream begins."""
    if channel:
        async with service.database.reading() as session:
            if await session.get(Channel, channel) is None:
                raise NotFound(f"there is no channel {channel!r}")
    return channel


def is_about(event: StoredEvent, channel: str) -> bool:
    """Whether an event is a channel's, or of what happened on it."""
    of_itself = event.type.startswith("channel.") and event.subject == channel
    return of_itself or event.data.get("channel") == channel


@router.get("", response_class=EventSourceResponse)
async def follow_events(
    bearer: MayRead, service: TheService, cursor: Annotated[Cursor | None, Depends(start)],
    channel: Annotated[str, Depends(only)],
) -> AsyncIterator[ServerSentEvent]:  # fmt: skip
    """Follow events from now on, or from after a known one; of one channel, or of all."""
    async for event in service.feed.follow(cursor, bearer):
        if channel and not is_about(event, channel):
            continue
        reported = envelope(event, service)
        yield ServerSentEvent(
            data=reported.model_dump(mode="json"), id=reported.id, event="happened"
        )
