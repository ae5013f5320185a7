"""Whole assistants: packed into one file, and what unpacking it here would meet."""

from __future__ import annotations

import asyncio
from collections.abc import Callable
from datetime import UTC, datetime
from typing import Any

from sqlalchemy import select
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.contract.api import ChannelIn
from fond_echo.contract.assistants import FileErrorOut
from fond_echo.contract.channel import ChannelSettings
from fond_echo.contract.engine import EngineIn
from fond_echo.contract.package import VERSION, Package, PackageCheck, SecretNeeded
from fond_echo.documents.assistant import MAIN_FILE, AssistantFile
from fond_echo.documents.connector import read_connector
from fond_echo.documents.digest import digest
from fond_echo.documents.engine import read_engine
from fond_echo.documents.errors import FileError, InvalidFile
from fond_echo.documents.packing import functions_of, hosts_in, secrets_in
from fond_echo.documents.phone import read_phone
from fond_echo.documents.services import names_of
from fond_echo.store.access_records import EngineRecord, SecretRecord
from fond_echo.store.records import Assistant, Channel, Revision
from fond_echo.turns.turn import assistant_of
from fond_echo.web.access import MayAdmin
from fond_echo.web.assistants import AssistantName
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import NotFound, NotUsable
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/assistants", tags=["assistants"])

BUILT_IN = "built-in"


@router.get("/{name}/package")
async def get_package(name: AssistantName, _: MayAdmin, service: TheService) -> Package:
    """Get an assistant with its engines, its channels and the names of its secrets, as one file."""
    async with service.database.reading() as session:
        record = await session.get(Assistant, name)
        if record is None:
            raise NotFound(f"there is no assistant {name!r}")
        files = (await session.get_one(Revision, record.live or record.draft)).files
        assistant = await asyncio.to_thread(assistant_of, digest(files), files)
        engines = await _engines(session, assistant)
        wanted = select(Channel).where(Channel.assistant == name).order_by(Channel.name)
        channels = {
            each.name: ChannelIn(
                kind=each.kind,
                assistant=name,
                connector=each.connector,
                values=each.values,
                settings=ChannelSettings.model_validate(each.settings),
            )
            for each in (await session.execute(wanted)).scalars()
        }
        known = {each.name: each.hosts for each in (await session.scalars(select(SecretRecord)))}
    described: list[tuple[str, dict[str, str]]] = [(files[MAIN_FILE], {})]
    described += [(each.connector, each.values) for each in engines.values()]
    described += [(each.connector, each.values) for each in channels.values()
                  if each.kind in ("chat", "phone")]  # fmt: skip
    secrets = sorted(set().union(*(secrets_in(text) for text, _ in described)))
    return Package(
        assistant=name, packed_at=datetime.now(UTC), files=files, engines=engines,
        channels=channels,
        secrets=[SecretNeeded(name=each, hosts=known.get(each, [])) for each in secrets],
        hosts_reached=sorted(set().union(*(hosts_in(text, values) for text, values in described))),
        functions=sorted(functions_of(assistant)),
    )  # fmt: skip


async def _engines(session: AsyncSession, assistant: AssistantFile) -> dict[str, EngineIn]:
    """The connected engines that an assistant names."""
    used = assistant.engines
    names = {name for listed in (used.of(), used.of(in_call=True)) for each in listed.values()
             for name in each} | set(names_of(used.long_files))  # fmt: skip
    wanted = select(EngineRecord).where(EngineRecord.name.in_(names - {BUILT_IN}))
    records = (await session.scalars(wanted.order_by(EngineRecord.name))).all()
    return {each.name: EngineIn(connector=each.connector, values=each.values) for each in records}


@router.post("/packages/checks")
async def check_package(given: Package, _: MayAdmin, service: TheService) -> PackageCheck:
    """Check a package: which secrets are missing here, which names stand for something else, and
    what is wrong with its files. Nothing is stored."""
    if given.package > VERSION:
        raise NotUsable(
            f"the package is of kind {given.package}, and this version reads up to {VERSION}",
            remedy="unpack it with the version that packed it, or a newer one",
        )
    errors = [*(await service.check(given.files)).errors, *await asyncio.to_thread(_wrong, given)]
    taken = []
    async with service.database.reading() as session:
        known = set((await session.scalars(select(SecretRecord.name))).all())
        record = await session.get(Assistant, given.assistant)
        if record is not None and digest(given.files) not in (record.draft, record.live):
            taken.append(f"the assistant {given.assistant} is here, with other files")
        for name, engine in given.engines.items():
            kept = await session.get(EngineRecord, name)
            if kept is not None and kept.connector != engine.connector:
                taken.append(f"the engine {name} is here, with another connector file")
        for name, channel in given.channels.items():
            there = await session.get(Channel, name)
            if there is not None and there.assistant != channel.assistant:
                taken.append(f"the channel {name} is here, and {there.assistant} answers there")
    return PackageCheck(
        missing=[each for each in given.secrets if each.name not in known],
        conflicts=taken, errors=[FileErrorOut(**vars(each)) for each in errors],
    )  # fmt: skip


def _wrong(given: Package) -> list[FileError]:
    """What is wrong with the connector files of a package."""
    found: list[FileError] = []
    for name, engine in given.engines.items():
        found += _read(read_engine, engine.connector, f"{name}.yaml", engine.values)
    for name, channel in given.channels.items():
        if channel.kind == "chat":
            found += _read(read_connector, channel.connector, f"{name}.yaml", channel.values)
        elif channel.kind == "phone":
            found += _read(lambda text, file, _: read_phone(text, file), channel.connector,
                           f"{name}.yaml", channel.values)  # fmt: skip
    if found == [] and (other := _other_assistant(given)):
        found.append(other)
    return found


def _read(
    reader: Callable[..., Any], text: str, file: str, values: dict[str, str]
) -> list[FileError]:
    try:
        reader(text, file, frozenset((*values, "base")))
    except InvalidFile as error:
        return list(error.errors)
    return []


def _other_assistant(given: Package) -> FileError | None:
    owners = {name: each.assistant for name, each in given.channels.items()}
    wrong = sorted(name for name, owner in owners.items() if owner != given.assistant)
    if not wrong:
        return None
    what = f"the channel {wrong[0]} is answered by {owners[wrong[0]]}"
    return FileError("package", 1, 1, what, f"each is answered by {given.assistant}")
