"""Records of who may do what: keys, signed-in browsers, secrets; and of engines."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import ForeignKey, Index, UniqueConstraint
from sqlalchemy.orm import Mapped, mapped_column

from fond_echo.store.base import Json, Record, id_column, now_column


class SecretRecord(Record):
    """A secret, encrypted, and the hosts it may be sent to."""

    __tablename__ = "secrets"
    name: Mapped[str] = mapped_column(primary_key=True)
    token: Mapped[bytes]
    hosts: Mapped[list[Any]]
    changed_at: Mapped[datetime] = now_column()


class Key(Record):
    """A key to the API; only its hash is kept. What it may have spoken and converted in a day; 0 is
    without limit."""

    __tablename__ = "keys"
    __table_args__ = (UniqueConstraint("hash"),)
    id: Mapped[str] = id_column()
    name: Mapped[str]
    hash: Mapped[str]
    scopes: Mapped[list[Any]]
    characters_a_day: Mapped[int] = mapped_column(default=0, server_default="0")
    seconds_a_day: Mapped[int] = mapped_column(default=0, server_default="0")
    created_at: Mapped[datetime] = now_column()
    used_at: Mapped[datetime | None]
    revoked_at: Mapped[datetime | None]


class KeyUsage(Record):
    """What a key had spoken and converted on a day."""

    __tablename__ = "key_usage"
    __table_args__ = (Index(None, "day"),)
    key_id: Mapped[str] = mapped_column(ForeignKey("keys.id"), primary_key=True)
    day: Mapped[date] = mapped_column(primary_key=True)
    characters: Mapped[int] = mapped_column(default=0)
    seconds: Mapped[float] = mapped_column(default=0.0)


class SignIn(Record):
    """A browser that exchanged a key for a cookie."""

    __tablename__ = "sign_ins"
    __table_args__ = (Index(None, "expires_at"),)
    hash: Mapped[str] = mapped_column(primary_key=True)
    key_id: Mapped[str] = mapped_column(ForeignKey("keys.id"))
    csrf_token: Mapped[str]
    expires_at: Mapped[datetime]


class EngineRecord(Record):
    """An outside engine: its connector file, and the values that it asks for."""

    __tablename__ = "engines"
    name: Mapped[str] = mapped_column(primary_key=True)
    does: Mapped[str]
    connector: Mapped[str]
    values: Mapped[Json]
    last_error: Mapped[str] = mapped_column(default="")
    last_error_at: Mapped[datetime | None]
    paused_until: Mapped[datetime | None]
    changed_at: Mapped[datetime] = now_column()


class EngineDay(Record):
    """What an engine was asked on a day, and what that cost. It is kept where the engine is
    removed."""

    __tablename__ = "engine_days"
    __table_args__ = (Index(None, "day"),)
    engine: Mapped[str] = mapped_column(primary_key=True)
    assistant: Mapped[str] = mapped_column(primary_key=True)
    day: Mapped[date] = mapped_column(primary_key=True)
    asked: Mapped[int] = mapped_column(default=0)
    failed: Mapped[int] = mapped_column(default=0)
    seconds: Mapped[float] = mapped_column(default=0.0)
    cost: Mapped[float] = mapped_column(default=0.0)


class Bench(Record):
    """Engines beside one another on the same recordings or texts."""

    __tablename__ = "benches"
    name: Mapped[str] = mapped_column(primary_key=True)
    does: Mapped[str]
    language: Mapped[str]
    created_at: Mapped[datetime] = now_column()


class BenchAnswer(Record):
    """What an engine made of one recording or text of a bench: what was said and what was heard,
    how long that took and cost; of speech, its length, level, and the wait for its first sound."""

    __tablename__ = "bench_answers"
    bench: Mapped[str] = mapped_column(
        ForeignKey("benches.name", ondelete="CASCADE"), primary_key=True
    )
    engine: Mapped[str] = mapped_column(primary_key=True)
    file: Mapped[str] = mapped_column(primary_key=True)
    said: Mapped[str]
    text: Mapped[str] = mapped_column(default="")
    seconds: Mapped[float] = mapped_column(default=0.0)
    cost: Mapped[float] = mapped_column(default=0.0)
    why: Mapped[str] = mapped_column(default="")
    length: Mapped[float] = mapped_column(default=0.0)
    level: Mapped[float] = mapped_column(default=0.0)
    first_seconds: Mapped[float] = mapped_column(default=0.0)
