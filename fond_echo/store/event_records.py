"""Records of what happened, and of subscriptions."""

from __future__ import annotations

from datetime import datetime
from typing import Any

from sqlalchemy import BigInteger, ForeignKey, Identity, Index, text
from sqlalchemy.orm import Mapped, mapped_column
from sqlalchemy.types import UserDefinedType

from fond_echo.store.base import Json, Record, id_column, now_column


class TransactionId(UserDefinedType[int]):
    """PostgreSQL's 64-bit transaction identifier."""

    cache_ok = True

    def get_col_spec(self, **_: Any) -> str:
        return "xid8"


class Event(Record):
    """What happened. Read in the order of commits: by transaction, then by id, and only below
    the oldest transaction that still runs."""

    __tablename__ = "events"
    __table_args__ = (Index(None, "transaction", "id"), Index(None, "subject"), Index(None, "at"))
    id: Mapped[int] = mapped_column(BigInteger, primary_key=True, autoincrement=True)
    transaction: Mapped[int] = mapped_column(
        TransactionId(), server_default=text("pg_current_xact_id()")
    )
    type: Mapped[str]
    subject: Mapped[str]
    data: Mapped[Json]
    at: Mapped[datetime] = now_column()


class Subscription(Record):
    """An address that receives events; `types` are prefixes, none meaning all."""

    __tablename__ = "subscriptions"
    id: Mapped[str] = id_column()
    address: Mapped[str]
    secret: Mapped[str]
    types: Mapped[list[Any]]
    cursor: Mapped[str]
    created_at: Mapped[datetime] = now_column()


class WebhookDelivery(Record):
    """An event on its way to a subscription: due, sent or undelivered.

    Those with one `order_key` (a call, a conversation) go out by `number`, one after the other.
    `leased_until`: a process is sending it.
    """

    __tablename__ = "webhook_deliveries"
    __table_args__ = (
        Index(None, "subscription_id", "state", "number"),
        Index("ix_webhook_deliveries_event_subject", text("(event->>'subject')")),
        Index(
            "ix_webhook_deliveries_waiting",
            "subscription_id",
            "order_key",
            "number",
            postgresql_where=text("state = 'due'"),
        ),
    )
    id: Mapped[str] = id_column()
    number: Mapped[int] = mapped_column(BigInteger, Identity())
    subscription_id: Mapped[str] = mapped_column(ForeignKey("subscriptions.id", ondelete="CASCADE"))
    event: Mapped[Json]
    order_key: Mapped[str]
    state: Mapped[str] = mapped_column(default="due")
    attempts: Mapped[int] = mapped_column(default=0)
    due_at: Mapped[datetime] = now_column()
    leased_until: Mapped[datetime | None]
    error: Mapped[str] = mapped_column(default="")
    created_at: Mapped[datetime] = now_column()
