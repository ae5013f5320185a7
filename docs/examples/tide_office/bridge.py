"""What Fond Echo asks: every question goes on to the office as text.

    TIDE_SECRET=… OFFICE=http://127.0.0.1:8095 \\
    uvicorn docs.examples.tide_office.bridge:app --port 8096
"""

from __future__ import annotations

import os

import httpx

from fond_echo.logic import Logic, LogicRequest

OFFICE = os.environ.get("OFFICE", "http://127.0.0.1:8095")
app = Logic(secrets=[os.environ.get("TIDE_SECRET", "only-for-trying")])


@app.answers("question")
async def question(asked: LogicRequest) -> str:
    """Ask the office; voice notes and texts come here the same way."""
    async with httpx.AsyncClient() as client:
        answer = await client.post(f"{OFFICE}/question", json={"words": asked.turn.text})
        answer.raise_for_status()
    return str(answer.json()["says"])
