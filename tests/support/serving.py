"""An application served on a port of loopback, in this process: for what needs real sockets."""

from __future__ import annotations

import asyncio
import contextlib
from collections.abc import AsyncIterator
from typing import Any

import uvicorn


@contextlib.asynccontextmanager
async def served(app: Any, lifespan: str = "off") -> AsyncIterator[str]:
    """Its address while it is served."""
    config = uvicorn.Config(
        app, host="127.0.0.1", port=0, log_level="error", lifespan=lifespan, ws="websockets-sansio"
    )
    server = uvicorn.Server(config)
    serving = asyncio.create_task(server.serve())
    while not server.started:  # noqa: ASYNC110  # it is told no other way
        await asyncio.sleep(0.01)
    port = server.servers[0].sockets[0].getsockname()[1]
    try:
        yield f"http://127.0.0.1:{port}"
    finally:
        server.should_exit = True
        await serving
