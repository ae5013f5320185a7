"""From misheard to corrected: a turn's words become an example of the draft, it is heard again
there, and kept as a case, in one go."""

from __future__ import annotations

import base64

from fond_echo.connectors.logic import LogicCaller
from fond_echo.contract.assistants import DraftIn
from fond_echo.contract.replay import CorrectionIn, CorrectionOut
from fond_echo.documents.assistant import MAIN_FILE
from fond_echo.documents.case import FOLDER, written
from fond_echo.documents.digest import digest
from fond_echo.documents.editing import with_example
from fond_echo.store.records import Assistant, Revision
from fond_echo.web.access import MayBuild
from fond_echo.web.assistants import put_draft
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.cases import case_of
from fond_echo.web.errors import Conflict, NotFound
from fond_echo.web.replays import frozen, replayed, revision_of
from fond_echo.web.service import TheService
from fond_echo.web.turns import TurnId

router = CheckedRouter(prefix="/api/turns", tags=["replays"])


@router.post("/{turn_id}/correction")
async def correct_turn(
    turn_id: TurnId, given: CorrectionIn, bearer: MayBuild, service: TheService
) -> CorrectionOut:
    """Add what was said to a route of the draft, hear the turn again there, and keep it as a case;
    nothing is put where the draft has errors, or takes the turn elsewhere."""
    async with service.database.reading() as session:
        was = await frozen(session, turn_id)
        name = was.assistant.assistant
        record = await session.get(Assistant, name)
        if record is None or record.draft is None:
            raise NotFound(f"there is no draft of {name}")
        draft, files = record.draft, (await session.get_one(Revision, record.draft)).files
    example = given.example or was.text
    if not example.strip():
        raise Conflict("nothing was heard in the turn", remedy="give example: what was meant")
    changed = {**files, MAIN_FILE: with_example(files[MAIN_FILE], given.route, example)}
    case, sound, file = await case_of(service, was, given.case or f"turn-{was.id[-6:]}")
    case["expect"] = {"route": given.route}
    if given.case:
        changed[f"{FOLDER}{given.case}.yaml"] = written(case)
        if sound:
            changed[FOLDER + file] = base64.b64encode(sound).decode()
    onto, _files = await revision_of(service, name, digest(changed), changed)
    logic = LogicCaller(service.builder.client, await service.vault())
    found = await replayed(service, was, onto, logic, "transcribe")
    if found.after.route != given.route:
        return CorrectionOut(example=example, replay=found, draft="", case="")
    kept = await put_draft(name, DraftIn(files=changed, if_revision=draft), bearer, service)
    return CorrectionOut(example=example, replay=found, draft=kept.draft or "", case=given.case)
