"""Other wordings of an assistant's examples: proposed by its engine or by everyday frames."""

from __future__ import annotations

import asyncio

from fond_echo.contract.assistants import ProposalOut, ProposalsOut, WidenIn
from fond_echo.core.dialogue.free import FreeQuestion
from fond_echo.core.dialogue.widening import by_frames, listed, proposals
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.route import RouteSpec
from fond_echo.turns.turn import router_of
from fond_echo.web.access import MayBuild
from fond_echo.web.asked_for_real import AskedEngines, asking
from fond_echo.web.assistants import AssistantName
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.errors import NotFound
from fond_echo.web.replays import revision_of
from fond_echo.web.service import TheService

router = CheckedRouter(prefix="/api/assistants", tags=["assistants"])

BRIEF = """\
You help to describe what people ask an assistant for. You are given examples of one request. Write
{count} other wordings of the same request, as different people would say them aloud: short and
long, direct and indirect, with other words. One on each line, nothing else, in the language
{language}."""


@router.post("/{name}/widen")
async def widen_assistant(
    name: AssistantName, _: MayBuild, service: TheService, given: WidenIn | None = None
) -> ProposalsOut:
    """Propose other wordings of a route's examples, held against the other routes. Nothing is
    stored: add those that are good to the route's `widened`."""
    given = given or WidenIn()
    onto, _files = await revision_of(service, name, "draft", given.files)
    assistant = onto.assistant
    routes = [each for each in assistant.routes if each.plain]
    if given.route:
        routes = [each for each in routes if each.route == given.route]
        if not routes:
            raise NotFound(f"{name} has no route {given.route!r} with examples")
    known = router_of(onto.revision, assistant)
    async with asking(service, assistant, given.ask) as engines:
        if engines is None:
            examples = {each.route: each.plain for each in routes}
            found = await asyncio.to_thread(by_frames, examples, known, given.count)
            return ProposalsOut(
                proposals=[ProposalOut(**vars(each), by="frames") for each in found]
            )
        proposed: list[ProposalOut] = []
        for route in routes:
            wordings = await _by_engine(engines, route, assistant, given.count)
            good = await asyncio.to_thread(proposals, route.route, wordings, known, given.count)
            proposed += [ProposalOut(**vars(each), by="engine") for each in good]
    return ProposalsOut(proposals=proposed, asked=engines.asked)


async def _by_engine(
    engines: AskedEngines, route: RouteSpec, assistant: AssistantFile, count: int
) -> list[str]:
    """What the assistant's engine proposes. Raises AllEnginesFailed."""
    brief = BRIEF.format(count=count, language=assistant.language)
    question = FreeQuestion("\n".join(route.plain[:20]), brief, assistant.language)
    answer = await engines.answerer.answer(question)
    return list(listed(answer.text))
