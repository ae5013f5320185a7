"""Work for a client that may go away before it is done."""

from __future__ import annotations

import asyncio
from collections.abc import Coroutine
from typing import Any, TypeVar

from fastapi import HTTPException, Request

Made = TypeVar("Made")

LOOK_SECONDS = 0.5
CLIENT_GONE = 499
"""Nobody reads it; it stands in the log."""


async def while_there(request: Request, work: Coroutine[Any, Any, Made]) -> Made:
    """Do something as long as the client waits for it. Raises HTTPException once it has gone, and
    the work is cancelled."""
    task = asyncio.create_task(work)
    try:
        while not (await asyncio.wait({task}, timeout=LOOK_SECONDS))[0]:
            if await request.is_disconnected():
                raise HTTPException(CLIENT_GONE)
        return task.result()
    finally:
        task.cancel()
