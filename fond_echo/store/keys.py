"""Keys to the API, and browsers signed in with one."""

from __future__ import annotations

import hashlib
import secrets
from collections.abc import Iterable
from dataclasses import dataclass
from datetime import UTC, datetime, timedelta
from typing import Literal, get_args

from sqlalchemy import delete, select
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.store.access_records import Key, SignIn

Scope = Literal["read", "operate", "build", "admin"]
SCOPES: tuple[Scope, ...] = get_args(Scope)
"""Each scope includes those before it."""

PREFIX = "fe-"
SIGN_IN_HOURS = 24 * 14


def hashed(value: str) -> str:
    """Keys are 256 bits of randomness, so a plain hash keeps them."""
    return hashlib.sha256(value.encode()).hexdigest()


def new_key() -> str:
    return PREFIX + secrets.token_urlsafe(32)


def includes(scopes: Iterable[str], wanted: Scope) -> bool:
    """Whether any of the scopes is the wanted one or includes it."""
    rank = SCOPES.index(wanted)
    return any(scope in SCOPES and SCOPES.index(scope) >= rank for scope in scopes)


@dataclass(frozen=True)
class Bearer:
    """Who asks: the key's id, its name and what it may do; in a browser, the hash of the cookie
    too."""

    key_id: str
    name: str
    scopes: tuple[str, ...]
    cookie_hash: str = ""


async def add_key(
    session: AsyncSession,
    name: str,
    scopes: Iterable[Scope],
    key: str,
    quotas: tuple[int, int] = (0, 0),
) -> str:
    """Store a key by its hash; gives its id. `quotas` are characters and seconds a day."""
    characters, seconds = quotas
    record = Key(
        name=name, hash=hashed(key), scopes=list(scopes),
        characters_a_day=characters, seconds_a_day=seconds,
    )  # fmt: skip
    session.add(record)
    await session.flush()
    return record.id


async def bearer_of(session: AsyncSession, key: str) -> Bearer | None:
    """Whom a key belongs to, or None."""
    wanted = select(Key).where(Key.hash == hashed(key), Key.revoked_at.is_(None))
    record = (await session.execute(wanted)).scalar_one_or_none()
    if record is None:
        return None
    now = datetime.now(UTC)
    if record.used_at is None or now - record.used_at > timedelta(minutes=1):
        record.used_at = now
    return Bearer(record.id, record.name, tuple(record.scopes))


async def sign_in(session: AsyncSession, bearer: Bearer) -> tuple[str, str]:
    """A cookie's value and the token that must come with every change made with it."""
    cookie, csrf_token = secrets.token_urlsafe(32), secrets.token_urlsafe(24)
    expires = datetime.now(UTC) + timedelta(hours=SIGN_IN_HOURS)
    session.add(
        SignIn(hash=hashed(cookie), key_id=bearer.key_id, csrf_token=csrf_token, expires_at=expires)
    )
    return cookie, csrf_token


async def signed_in(session: AsyncSession, cookie: str) -> tuple[Bearer, str] | None:
    """Whom a cookie belongs to, with its form token, or None."""
    wanted = (
        select(Key, SignIn.csrf_token)
        .join(SignIn, SignIn.key_id == Key.id)
        .where(
            SignIn.hash == hashed(cookie),
            SignIn.expires_at > datetime.now(UTC),
            Key.revoked_at.is_(None),
        )
    )
    row = (await session.execute(wanted)).one_or_none()
    if row is None:
        return None
    record, csrf_token = row
    return Bearer(record.id, record.name, tuple(record.scopes), hashed(cookie)), csrf_token


async def still_opens(session: AsyncSession, bearer: Bearer) -> bool:
    """Whether a key that opened something before still would: not revoked, and, in a browser, not
    signed out."""
    wanted = select(Key.id).where(Key.id == bearer.key_id, Key.revoked_at.is_(None))
    if bearer.cookie_hash:
        wanted = wanted.join(SignIn, SignIn.key_id == Key.id).where(
            SignIn.hash == bearer.cookie_hash, SignIn.expires_at > datetime.now(UTC)
        )
    return (await session.execute(wanted)).first() is not None


async def sign_out(session: AsyncSession, cookie: str) -> None:
    await session.execute(delete(SignIn).where(SignIn.hash == hashed(cookie)))
