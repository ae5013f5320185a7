"""Lines."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Response
from sqlalchemy import delete, func, select, update
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.exc import IntegrityError

from fond_echo.channels.build import ReceivingChannel
from fond_echo.channels.chat import ChatChannel
from fond_echo.contract.api import ChannelIn, ChannelOut, UnreadableOut
from fond_echo.contract.base import Name
from fond_echo.contract.channel import ChannelSettings, RenameIn
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.connector import read_connector
from fond_echo.documents.phone import read_phone
from fond_echo.store.events import emit
from fond_echo.store.records import Assistant, Channel, Contact, UnreadableMessage
from fond_echo.web.access import MayBuild, MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/channels", tags=["channels"])

ChannelName = Annotated[Name, Path()]


def address_of(service: Service, record: Channel) -> str:
    """Where a channel is reached: by its network, by programs, by guests, by calls."""
    if record.kind == "phone":
        return read_phone(record.connector, f"{record.name}.yaml").address
    place = {"http": f"ask/{record.name}", "page": f"at/{record.slug}"}
    return f"{service.settings.address}/{place.get(record.kind, f'webhooks/{record.name}')}"


def warnings_of(record: Channel) -> list[str]:
    """Warnings about a channel's connector: what is valid and probably not meant."""
    if record.kind != "phone":
        return []
    return read_phone(record.connector, f"{record.name}.yaml").warnings()


def _out(service: Service, record: Channel, refused: int = 0) -> ChannelOut:
    return ChannelOut(
        name=record.name,
        kind=record.kind,
        assistant=record.assistant,
        state=record.state,
        reason=record.reason,
        facts=record.facts,
        values=record.values,
        connector=record.connector,
        settings=ChannelSettings.model_validate(record.settings),
        address=address_of(service, record),
        refused=refused,
        unreadable=record.unreadable,
        warnings=warnings_of(record),
        created_at=record.created_at,
    )


@router.get("")
async def list_channels(_: MayRead, service: TheService) -> list[ChannelOut]:
    """List all channels, each with how many contacts it refused."""
    refused = (
        select(func.count())
        .select_from(Contact)
        .where(Contact.channel == Channel.name, Contact.standing == "refused")
        .correlate(Channel)
        .scalar_subquery()
    )
    async with service.database.reading() as session:
        rows = (await session.execute(select(Channel, refused).order_by(Channel.name))).all()
        return [_out(service, channel, count) for channel, count in rows]


@router.get("/{name}")
async def get_channel(name: ChannelName, _: MayRead, service: TheService) -> ChannelOut:
    """Get a channel."""
    async with service.database.reading() as session:
        record = await session.get(Channel, name)
    if record is None:
        raise NotFound(f"there is no channel {name!r}")
    return _out(service, record)


@router.put("/{name}")
async def put_channel(
    name: ChannelName, given: ChannelIn, _: MayBuild, service: TheService
) -> ChannelOut:
    """Add or change a channel, and connect it."""
    if given.kind == "chat":
        read_connector(given.connector, f"{name}.yaml", frozenset(given.values))
    others: set[str] = set()
    if given.kind == "phone":
        others.update(read_phone(given.connector, f"{name}.yaml").assistants.values())
    async with service.database.writing() as session:
        for each in (given.assistant, *sorted(others)):
            assistant = await session.get(Assistant, each)
            if assistant is None:
                raise NotFound(
                    f"there is no assistant {each!r}",
                    remedy="put it first: fond-echo assistant put FOLDER --publish",
                )
            if assistant.live is None:
                raise Conflict(
                    f"the assistant {each!r} was never published",
                    remedy=f"fond-echo assistant publish {each}",
                )
        fields = given.model_dump()
        settings = (given.settings or ChannelSettings()).model_dump()
        if given.settings is None:
            del fields["settings"]
        stored = insert(Channel).values(name=name, **{**fields, "settings": settings})
        await session.execute(
            stored.on_conflict_do_update(index_elements=[Channel.name], set_=fields)
        )
        await emit(session, "channel.changed", name)
    return await connect(name, service)


@router.post("/{name}/name")
async def rename_channel(
    name: ChannelName, given: RenameIn, _: MayBuild, service: TheService
) -> ChannelOut:
    """Rename a channel: what came in over it goes along. Its network receives the new
    webhook address."""
    try:
        async with service.database.writing() as session:
            record = await session.get(Channel, name, with_for_update=True)
            if record is None:
                raise NotFound(f"there is no channel {name!r}")
            await session.execute(
                update(Channel).where(Channel.name == name).values(name=given.name)
            )
            await emit(session, "channel.renamed", given.name, before=name)
    except IntegrityError as error:
        raise Conflict(
            f"there is a channel {given.name!r} already", remedy="give it another name"
        ) from error
    service.forget_channel(name)
    return await connect(given.name, service)


@router.delete("/{name}", status_code=204)
async def delete_channel(name: ChannelName, _: MayBuild, service: TheService) -> Response:
    """Delete a channel over which nothing has come in yet."""
    try:
        async with service.database.writing() as session:
            gone = delete(Channel).where(Channel.name == name).returning(Channel.name)
            if not (await session.execute(gone)).first():
                raise NotFound(f"there is no channel {name!r}")
    except IntegrityError as error:
        raise Conflict(
            f"the channel {name!r} has contacts", remedy="erase them first, or keep the channel"
        ) from error
    service.forget_channel(name)
    return Response(status_code=204)


@router.get("/{name}/unreadable")
async def list_unreadable(
    name: ChannelName, _: MayRead, service: TheService
) -> list[UnreadableOut]:
    """List the latest messages of a channel that could not be read."""
    wanted = (
        select(UnreadableMessage)
        .where(UnreadableMessage.channel == name)
        .order_by(UnreadableMessage.received_at.desc(), UnreadableMessage.id.desc())
    )
    async with service.database.reading() as session:
        if await session.get(Channel, name) is None:
            raise NotFound(f"there is no channel {name!r}")
        return [
            UnreadableOut(
                id=each.id, payload=each.payload, reason=each.reason, received_at=each.received_at
            )
            for each in (await session.execute(wanted)).scalars()
        ]


@router.post("/{name}/pause")
async def pause_channel(name: ChannelName, _: MayBuild, service: TheService) -> ChannelOut:
    """Stop asking a polled network for messages. Connecting the channel goes on where it stopped:
    what came in meanwhile is answered then."""
    async with service.database.writing() as session:
        record = await session.get(Channel, name, with_for_update=True)
        if record is None:
            raise NotFound(f"there is no channel {name!r}")
        if record.state not in ("polling", "paused"):
            raise Conflict(
                f"{name} is {record.state}: only a channel that is polled can be paused",
                remedy="block contacts, or delete the channel",
            )
        record.state, record.reason = "paused", ""
        await emit(session, "channel.paused", name)
    return _out(service, record)


@router.post("/{name}/connect")
async def connect_channel(name: ChannelName, _: MayBuild, service: TheService) -> ChannelOut:
    """Register the webhook address with the channel's network again."""
    return await connect(name, service)


async def connect(name: str, service: Service) -> ChannelOut:
    """Connect a channel; what went wrong is its state, not an error."""
    async with service.database.reading() as session:
        record = await session.get(Channel, name)
    if record is None:
        raise NotFound(f"there is no channel {name!r}")
    facts, state, reason = record.facts, "open", ""
    cursor = record.cursor
    if record.kind == "phone":
        # The phone process says how it stands.
        state, reason = "waiting", "the phone process has not taken it up yet"
    if record.kind in ("chat", "adapter"):
        vault = await service.vault()
        try:
            channel: ReceivingChannel = service.builder.receiving(record, vault)
            facts = vault.redacted(await channel.connect(address_of(service, record)))
            polls = isinstance(channel, ChatChannel) and channel.connector.receive.poll
            state = "polling" if polls else "connected"
            if isinstance(channel, ChatChannel) and polls and not cursor:
                cursor = await ChatChannel(
                    channel.connector, record.values, facts, service.builder.client,
                    await service.vault(),
                ).caught_up()  # fmt: skip
        except FondEchoError as error:
            state, reason = "not-connected", vault.redacted(str(error))
    async with service.database.writing() as session:
        record = await session.get_one(Channel, name)
        record.facts, record.state, record.reason = facts, state, reason
        record.cursor = record.cursor or cursor
        reported = "channel.failed" if state == "not-connected" else "channel.connected"
        await emit(session, reported, name)
    service.forget_channel(name)
    return _out(service, record)
