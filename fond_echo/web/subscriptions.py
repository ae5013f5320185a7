"""Subscriptions: addresses that events are posted to, and undelivered events."""

from __future__ import annotations

import ipaddress
from typing import Annotated

from fastapi import Path, Response
from sqlalchemy import delete, func, select, update

from fond_echo.connectors.addresses import address_of
from fond_echo.connectors.errors import ForbiddenAddress
from fond_echo.connectors.guard import is_public
from fond_echo.contract.api import SubscriptionIn, SubscriptionOut, UndeliveredEvent
from fond_echo.contract.signatures import signed_headers
from fond_echo.store.event_records import Subscription, WebhookDelivery
from fond_echo.store.events import present
from fond_echo.web.access import MayBuild, MayRead
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import NotFound
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/subscriptions", tags=["events"])

SubscriptionId = Annotated[str, Path(max_length=60)]


def _out(record: Subscription, waiting: int, undelivered: int) -> SubscriptionOut:
    return SubscriptionOut(
        id=record.id,
        address=record.address,
        types=record.types,
        secret=record.secret,
        waiting=waiting,
        undelivered=undelivered,
        created_at=record.created_at,
    )


@router.get("")
async def list_subscriptions(_: MayRead, service: TheService) -> list[SubscriptionOut]:
    """List all subscriptions with their waiting and undelivered events."""
    counted = (
        select(
            Subscription,
            func.count(WebhookDelivery.id).filter(WebhookDelivery.state == "due"),
            func.count(WebhookDelivery.id).filter(WebhookDelivery.state == "undelivered"),
        )
        .outerjoin(WebhookDelivery, WebhookDelivery.subscription_id == Subscription.id)
        .group_by(Subscription.id)
        .order_by(Subscription.created_at)
    )
    async with service.database.reading() as session:
        return [_out(*row) for row in (await session.execute(counted)).all()]


@router.post("", status_code=201)
async def create_subscription(
    given: SubscriptionIn, _: MayBuild, service: TheService
) -> SubscriptionOut:
    """Subscribe an address to events, signed by the Standard Webhooks scheme."""
    host, port = address_of(given.address)
    _check_literal(host, port, service.settings.private_hosts)
    vault = await service.vault()
    # It exists, can sign, and may be sent there.
    signed_headers(vault[given.secret], "check", 0, b"")
    vault.check_hosts(host, port)
    async with service.database.writing() as session:
        cursor = str(await present(session))
        record = Subscription(
            address=given.address, secret=given.secret, types=given.types, cursor=cursor
        )
        session.add(record)
        await session.flush()
        await session.refresh(record)
        return _out(record, 0, 0)


def _check_literal(host: str, port: int, private: list[str]) -> None:
    """Refuse at once what the guard would refuse at every delivery: an address that is written as
    numbers and is not public."""
    try:
        address = ipaddress.ip_address(host)
    except ValueError:
        return
    if not is_public(address) and f"{host}:{port}" not in private:
        raise ForbiddenAddress(
            f"{host}:{port} is not a public address",
            remedy=f"if it is yours, allow {host}:{port} in the setting private_hosts",
        )


@router.delete("/{subscription_id}", status_code=204)
async def delete_subscription(
    subscription_id: SubscriptionId, _: MayBuild, service: TheService
) -> Response:
    """Delete a subscription; what waits for it goes too."""
    async with service.database.writing() as session:
        gone = delete(Subscription).where(Subscription.id == subscription_id)
        if not (await session.execute(gone.returning(Subscription.id))).first():
            raise NotFound(f"there is no subscription {subscription_id}")
    return Response(status_code=204)


@router.get("/{subscription_id}/undelivered")
async def list_undelivered(
    subscription_id: SubscriptionId, _: MayRead, service: TheService
) -> list[UndeliveredEvent]:
    """List undelivered events, the latest first."""
    wanted = (
        select(WebhookDelivery)
        .where(
            WebhookDelivery.subscription_id == subscription_id,
            WebhookDelivery.state == "undelivered",
        )
        .order_by(WebhookDelivery.created_at.desc())
        .limit(200)
    )
    async with service.database.reading() as session:
        rows = (await session.execute(wanted)).scalars()
        return [
            UndeliveredEvent(
                id=row.id,
                event=row.event,
                state=row.state,
                attempts=row.attempts,
                error=row.error,
                due_at=row.due_at,
            )
            for row in rows
        ]


@router.post("/{subscription_id}/undelivered/retry")
async def retry_undelivered(
    subscription_id: SubscriptionId, _: MayBuild, service: TheService
) -> SubscriptionOut:
    """Deliver all undelivered events again."""
    async with service.database.writing() as session:
        record = await session.get(Subscription, subscription_id)
        if record is None:
            raise NotFound(f"there is no subscription {subscription_id}")
        changed = (
            update(WebhookDelivery)
            .where(
                WebhookDelivery.subscription_id == subscription_id,
                WebhookDelivery.state == "undelivered",
            )
            .values(state="due", attempts=0, due_at=func.now())
            .returning(WebhookDelivery.id)
        )
        count = len((await session.execute(changed)).all())
        return _out(record, count, 0)
