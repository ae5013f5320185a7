"""Connector files drafted from examples: nothing is asked, stored or connected."""

from __future__ import annotations

import asyncio

from fond_echo.contract.drafting import ConnectorDraft, ConnectorExamples
from fond_echo.documents.drafting.drafted import drafted
from fond_echo.web.access import MayAdmin
from fond_echo.web.bodies import CheckedRouter

router = CheckedRouter(prefix="/api/connectors", tags=["connectors"])


@router.post("/drafts")
async def draft_connector(given: ConnectorExamples, _: MayAdmin) -> ConnectorDraft:
    """Draft a connector file from examples of a provider's documentation and from messages that
    came. Each guess has its evidence; nothing goes out, and nothing is stored."""
    return await asyncio.to_thread(drafted, given)
