"""Serve business logic: a decorated function for each action, as an ASGI application.

from fond_echo.logic import Logic, LogicRequest

app = Logic(secrets=["the secret shared with Fond Echo"])

@app.answers("next-sailing")
async def next_sailing(asked: LogicRequest) -> str:
    return f"You said: {asked.turn.text}"
"""

from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.reply import (
    Announce,
    Ask,
    Attachment,
    Choice,
    End,
    HandOver,
    RecordMessage,
    Reply,
    Transfer,
)
from fond_echo.logic.errors import NotAReply, UnknownAction
from fond_echo.logic.service import Logic

__all__ = [
    "Announce",
    "Ask",
    "Attachment",
    "Choice",
    "End",
    "HandOver",
    "Logic",
    "LogicRequest",
    "NotAReply",
    "RecordMessage",
    "Reply",
    "Transfer",
    "UnknownAction",
]
