"""All records together: what a database has tables for."""

from __future__ import annotations

from fond_echo.store import access_records, calls, event_records, records
from fond_echo.store.base import Record

MODULES = (access_records, calls, event_records, records)
"""Each adds its tables where it is imported."""

METADATA = Record.metadata
