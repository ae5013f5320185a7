"""Answers that come after their time: each is sent once, as a turn of its own."""

from __future__ import annotations

import asyncio

import structlog

from fond_echo.contract.channel import Inbound
from fond_echo.contract.reply import Reply
from fond_echo.core.errors import FondEchoError
from fond_echo.records.claim import Claim
from fond_echo.records.journal import Journal

log = structlog.get_logger()


async def send_late(journal: Journal, claim: Claim, answer: asyncio.Task[list[Reply]]) -> None:
    """Wait for an answer, and send it to whoever asked. If it fails after all, they are told;
    where this process ends before, it is not sent."""
    turn = claim.turn
    try:
        parts = await answer
        if any(part.route for part in parts):
            # The turn that it could go on with is over.
            log.warning("a late answer names a route, which is not taken any more", turn=turn.id)
            parts = [part.model_copy(update={"route": "", "slots": {}}) for part in parts
                     if part.text or part.spoken]  # fmt: skip
            parts = parts or [Reply(text=turn.assistant.says.text("logic-failed"))]
    except FondEchoError as error:
        log.warning("a late answer did not come", turn=turn.id, reason=str(error))
        parts = [Reply(text=turn.assistant.says.text("logic-failed"))]
    except Exception:
        log.exception("a late answer broke", turn=turn.id)
        parts = [Reply(text=turn.assistant.says.text("error"))]
    asked = turn.inbound
    message = Inbound(
        id=f"late-{turn.run_id}", conversation=asked.conversation, contact=asked.contact,
        spoken_reply=turn.answers_aloud, replies=[each.model_dump(mode="json") for each in parts],
    )  # fmt: skip
    await journal.take_in(claim, message, standing="late", cause="operator")
