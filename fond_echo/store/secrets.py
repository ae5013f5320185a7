"""Secrets, encrypted with a list of keys: the first encrypts, all decrypt."""

from __future__ import annotations

from collections.abc import Iterable, Sequence

from cryptography.fernet import Fernet, InvalidToken, MultiFernet
from sqlalchemy import select
from sqlalchemy.dialects.postgresql import insert
from sqlalchemy.ext.asyncio import AsyncSession

from fond_echo.core.caching import Recent
from fond_echo.store.access_records import SecretRecord
from fond_echo.store.errors import SecretLocked

MAX_DECRYPTED = 1_000


class SecretBox:
    """Encrypts and decrypts with the keys in the settings.

    Args:
        keys: as `Fernet.generate_key` makes them; at least one.
    """

    def __init__(self, keys: Sequence[str]) -> None:
        self._fernet = MultiFernet([Fernet(key) for key in keys])
        self._decrypted: Recent[bytes, str] = Recent(MAX_DECRYPTED)

    async def put(self, session: AsyncSession, name: str, value: str, hosts: Iterable[str]) -> None:
        """Store or replace a secret."""
        fields = {"token": self._fernet.encrypt(value.encode()), "hosts": sorted(set(hosts))}
        stored = insert(SecretRecord).values(name=name, **fields)
        await session.execute(
            stored.on_conflict_do_update(index_elements=[SecretRecord.name], set_=fields)
        )

    async def read(
        self, session: AsyncSession, names: Iterable[str] | None = None
    ) -> dict[str, tuple[str, frozenset[str]]]:
        """Values and hosts by name, of the names given or of all; names not stored are left out.

        Raises:
            SecretLocked: stored under a key that is not in the settings.
        """
        wanted = select(SecretRecord)
        if names is not None:
            wanted = wanted.where(SecretRecord.name.in_(list(names)))
        found: dict[str, tuple[str, frozenset[str]]] = {}
        for record in (await session.execute(wanted)).scalars():
            found[record.name] = (self._value(record), frozenset(record.hosts))
        return found

    def _value(self, record: SecretRecord) -> str:
        """A secret's value; what was decrypted lately is not decrypted again."""
        if (known := self._decrypted.get(record.token)) is not None:
            return known
        try:
            value = self._fernet.decrypt(record.token).decode()
        except InvalidToken as error:
            raise SecretLocked(
                f"the secret {record.name!r} was encrypted with another key",
                remedy="add that key to the setting secret_keys",
            ) from error
        self._decrypted.keep(record.token, value)
        return value
