"""Secrets: put and listed, never given back."""

from __future__ import annotations

from typing import Annotated

from fastapi import Path, Response
from sqlalchemy import delete, select

from fond_echo.contract.api import SecretIn, SecretOut
from fond_echo.contract.base import Name
from fond_echo.store.access_records import SecretRecord
from fond_echo.web.access import MayAdmin, MayBuild
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import NotFound
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/secrets", tags=["secrets"])

SecretName = Annotated[Name, Path()]


def _out(record: SecretRecord) -> SecretOut:
    return SecretOut(name=record.name, hosts=record.hosts, changed_at=record.changed_at)


@router.get("")
async def list_secrets(_: MayBuild, service: TheService) -> list[SecretOut]:
    """List the names and hosts of all secrets."""
    async with service.database.reading() as session:
        rows = (await session.execute(select(SecretRecord).order_by(SecretRecord.name))).scalars()
        return [_out(row) for row in rows]


@router.put("/{name}")
async def put_secret(
    name: SecretName, given: SecretIn, _: MayAdmin, service: TheService
) -> SecretOut:
    """Store or replace a secret, bound to the hosts it may be sent to."""
    async with service.database.writing() as session:
        await service.secrets.put(session, name, given.value, given.hosts)
        return _out(await session.get_one(SecretRecord, name, populate_existing=True))


@router.delete("/{name}", status_code=204)
async def delete_secret(name: SecretName, _: MayAdmin, service: TheService) -> Response:
    """Delete a secret."""
    async with service.database.writing() as session:
        gone = delete(SecretRecord).where(SecretRecord.name == name).returning(SecretRecord.name)
        if (await session.execute(gone)).scalar_one_or_none() is None:
            raise NotFound(f"there is no secret {name}")
    return Response(status_code=204)
