"""What all records are made of."""

from __future__ import annotations

from datetime import date, datetime
from typing import Any

from sqlalchemy import Date, DateTime, Double, LargeBinary, MetaData, Text, func
from sqlalchemy.dialects.postgresql import JSONB
from sqlalchemy.orm import DeclarativeBase, Mapped, mapped_column

from fond_echo.contract.base import new_id

Json = dict[str, Any]


class Record(DeclarativeBase):
    """The base of all records."""

    metadata = MetaData(
        naming_convention={
            "ix": "ix_%(table_name)s_%(column_0_N_name)s",
            "uq": "uq_%(table_name)s_%(column_0_N_name)s",
            "fk": "fk_%(table_name)s_%(column_0_N_name)s",
            "pk": "pk_%(table_name)s",
        }
    )
    type_annotation_map = {  # noqa: RUF012  # SQLAlchemy's own way
        str: Text,
        float: Double,
        datetime: DateTime(timezone=True),
        date: Date,
        Json: JSONB,
        list[Any]: JSONB,
        bytes: LargeBinary,
    }


def id_column() -> Mapped[str]:
    """A primary key that orders by time."""
    return mapped_column(primary_key=True, default=new_id)


def now_column() -> Mapped[datetime]:
    """When the row was written."""
    return mapped_column(server_default=func.now())
