"""Lines."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Response
from sqlalchemy import delete, func, select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.exc import IntegrityError

from fond_echo.channels.build import ReceivingLine
from fond_echo.channels.chat import ChatLine
from fond_echo.contract.api import LineIn, LineOut
from fond_echo.contract.base import Name
from fond_echo.contract.channel import LineSettings
from fond_echo.core.errors import FondEchoError
from fond_echo.documents.connector import read_description
from fond_echo.documents.phone import read_phone
from fond_echo.store.events import emit
from fond_echo.store.records import Assistant, Contact, Line
from fond_echo.web.access import MayBuild, MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.problems import Conflict, NotThere
from fond_echo.web.service import Service, TheService

router = CheckedRouter(prefix="/api/lines", tags=["lines"])

LineName = Annotated[Name, Path()]


def address_of(service: Service, record: Line) -> str:
    """Where a line is reached: by its network, by programs, by guests, by calls."""
    if record.kind == "phone":
        return read_phone(record.description, f"{record.name}.yaml").address
    place = {"http": f"ask/{record.name}", "page": f"at/{record.slug}"}
    return f"{service.settings.address}/{place.get(record.kind, f'arrivals/{record.name}')}"


def warnings_of(record: Line) -> list[str]:
    """What a line's description may not mean as it stands."""
    if record.kind != "phone":
        return []
    return read_phone(record.description, f"{record.name}.yaml").warnings()


def _out(service: Service, record: Line, refused: int = 0) -> LineOut:
    return LineOut(
        name=record.name,
        kind=record.kind,
        assistant=record.assistant,
        state=record.state,
        reason=record.reason,
        facts=record.facts,
        fixed=record.fixed,
        description=record.description,
        settings=LineSettings.model_validate(record.settings),
        address=address_of(service, record),
        refused=refused,
        warnings=warnings_of(record),
        added_at=record.added_at,
    )


@router.get("")
async def list_lines(_: MayRead, service: TheService) -> list[LineOut]:
    """All lines, with how many contacts each refused."""
    refused = (
        select(func.count())
        .select_from(Contact)
        .where(Contact.line == Line.name, Contact.standing == "refused")
        .correlate(Line)
        .scalar_subquery()
    )
    async with service.database.reading() as session:
        rows = (await session.execute(select(Line, refused).order_by(Line.name))).all()
        return [_out(service, line, count) for line, count in rows]


@router.get("/{name}")
async def get_line(name: LineName, _: MayRead, service: TheService) -> LineOut:
    """A line."""
    async with service.database.reading() as session:
        record = await session.get(Line, name)
    if record is None:
        raise NotThere(f"there is no line {name!r}")
    return _out(service, record)


@router.put("/{name}")
async def put_line(name: LineName, given: LineIn, _: MayBuild, service: TheService) -> LineOut:
    """Add or change a line, and connect it."""
    if given.kind == "chat":
        read_description(given.description, f"{name}.yaml", frozenset(given.fixed))
    if given.kind == "phone":
        read_phone(given.description, f"{name}.yaml")
    async with service.database.writing() as session:
        assistant = await session.get(Assistant, given.assistant)
        if assistant is None:
            raise NotThere(
                f"there is no assistant {given.assistant!r}",
                remedy="put it first: fond-echo assistant put FOLDER --publish",
            )
        if assistant.live is None:
            raise Conflict(
                f"the assistant {given.assistant!r} was never published",
                remedy=f"fond-echo assistant publish {given.assistant}",
            )
        fields = given.model_dump()
        settings = (given.settings or LineSettings()).model_dump()
        if given.settings is None:
            del fields["settings"]
        stored = insert(Line).values(name=name, **{**fields, "settings": settings})
        await session.execute(stored.on_conflict_do_update(index_elements=[Line.name], set_=fields))
        await emit(session, "line.changed", name)
    return await connect(name, service)


@router.delete("/{name}", status_code=204)
async def delete_line(name: LineName, _: MayBuild, service: TheService) -> Response:
    """Take a line away that nothing has come in over yet."""
    try:
        async with service.database.writing() as session:
            gone = delete(Line).where(Line.name == name).returning(Line.name)
            if not (await session.execute(gone)).first():
                raise NotThere(f"there is no line {name!r}")
    except IntegrityError as error:
        raise Conflict(
            f"the line {name!r} has contacts", remedy="erase them first, or keep the line"
        ) from error
    service.forget_line(name)
    return Response(status_code=204)


@router.post("/{name}/connect")
async def connect_line(name: LineName, _: MayBuild, service: TheService) -> LineOut:
    """Tell the line's network again where its messages should go."""
    return await connect(name, service)


async def connect(name: str, service: Service) -> LineOut:
    """Connect a line; what went wrong is its state, not an error."""
    async with service.database.reading() as session:
        record = await session.get(Line, name)
    if record is None:
        raise NotThere(f"there is no line {name!r}")
    facts, state, reason = record.facts, "open", ""
    if record.kind == "phone":
        # The phone process says how it stands.
        state, reason = "waiting", "the phone process has not taken it up yet"
    if record.kind in ("chat", "adapter"):
        try:
            line: ReceivingLine = service.builder.receiving(record, await service.vault())
            facts = await line.connect(address_of(service, record))
            polls = isinstance(line, ChatLine) and line.description.receive.poll
            state = "polling" if polls else "connected"
        except FondEchoError as error:
            state, reason = "not-connected", str(error)
    async with service.database.writing() as session:
        record = await session.get_one(Line, name)
        record.facts, record.state, record.reason = facts, state, reason
        told = "line.failed" if state == "not-connected" else "line.connected"
        await emit(session, told, name)
    service.forget_line(name)
    return _out(service, record)
