"""Cases: kept of turns, alone or bundled with their files, and run on a revision."""

from __future__ import annotations

import base64
from collections.abc import Mapping
from datetime import UTC, datetime
from typing import Annotated

from fastapi import Query, Response
from sqlalchemy import update

from fond_echo import __version__
from fond_echo.connectors.logic import LogicCaller
from fond_echo.contract.assistants import LastCases
from fond_echo.contract.base import JsonObject
from fond_echo.contract.replay import CasesOut, KeptCase, ReplayIn
from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.audio.sniff import sniff
from fond_echo.core.language.prosody import Prosody
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.bundle import Bundle, packed
from fond_echo.documents.case import FOLDER, read_cases, written
from fond_echo.documents.media import bytes_of
from fond_echo.replays.cases import Aloud, run_case
from fond_echo.replays.replaying import outcome_of
from fond_echo.replays.same_question import received_of, sent
from fond_echo.stages.answer import request
from fond_echo.stages.transcribe import speech_in
from fond_echo.store.records import Revision
from fond_echo.turns.ready import RoutedTurn, ready
from fond_echo.turns.turn import Answered, TurnSoFar
from fond_echo.web.access import MayBuild
from fond_echo.web.asked_for_real import asking
from fond_echo.web.assistants import AssistantName
from fond_echo.web.bodies import CheckedRouter
from fond_echo.web.replays import Onto, frozen, revision_of
from fond_echo.web.service import Service, TheService
from fond_echo.web.turns import TurnId

router = CheckedRouter(prefix="/api", tags=["cases"])


async def run_cases(
    service: Service, files: Mapping[str, str], onto: Onto, *, ask: bool = False
) -> CasesOut:
    """The cases of a bundle, run on it; a revision that is stored keeps what came of them, unless
    engines were asked for it, which may answer otherwise the next time."""

    async def hear(sound: str, expected: Expected) -> Heard:
        decoded = await service.decoder.decode(bytes_of(files[FOLDER + sound]))
        clip, language = at_rate(decoded.clip, RATE), onto.assistant.language
        return speech_in(
            await service.recognizer.transcribe(clip, expected, language=language, long=False)
        )

    async def speak(text: str, assistant: AssistantFile) -> Clip:
        prosody = assistant.prosody
        parts = service.synthesizer.speak(
            text, assistant.voice, seed=1, sounds=assistant.pronounced,
            language=assistant.language,
            prosody=Prosody(rate=prosody.rate, pitch=prosody.pitch, volume=prosody.volume),
        )  # fmt: skip
        return join([part.clip async for part in parts])

    async def heard(clip: Clip, language: str) -> str:
        found = await service.recognizer.transcribe(clip, Expected(), language=language, long=False)
        return found.spoken

    logic = LogicCaller(service.builder.client, await service.vault())
    aloud = Aloud(speak, heard)
    async with asking(service, onto.assistant, ask) as engines:
        found = [
            await run_case(case, onto.assistant, onto.revision, logic, hear, aloud, engines)
            for case in read_cases(files)
        ]
    if found and not ask:
        failed = [each.case for each in found if not each.passed]
        kept = LastCases(at=datetime.now(UTC), passed=len(found) - len(failed), failed=failed)
        async with service.database.writing() as session:
            await session.execute(
                update(Revision)
                .where(Revision.digest == onto.revision)
                .values(cases=kept.model_dump(mode="json"))
            )
    return CasesOut(revision=onto.revision, cases=found)


@router.post("/assistants/{name}/cases/runs")
async def run_cases_of_assistant(
    name: AssistantName, given: ReplayIn, _: MayBuild, service: TheService
) -> CasesOut:
    """Run the cases in an assistant's folder on its draft, on live, or on files as they are. With
    `ask`, engines answer anew in place of what the cases keep of them, which may cost."""
    onto, files = await revision_of(service, name, given.revision, given.files)
    return await run_cases(service, files, onto, ask=given.ask)


@router.get("/turns/{turn_id}/case")
async def make_case(
    turn_id: TurnId,
    _: MayBuild,
    service: TheService,
    name: Annotated[str, Query(max_length=60, pattern=r"^[a-z0-9][a-z0-9-]*$")],
) -> KeptCase:
    """Make a case of a turn: what was said, what was before, and that it must come out as it
    did."""
    async with service.database.reading() as session:
        was = await frozen(session, turn_id)
    case, sound, file = await case_of(service, was, name)
    return KeptCase(
        name=name, assistant=was.assistant.assistant, file=f"{FOLDER}{name}.yaml",
        text=written(case), sound_file=FOLDER + file if sound else "",
        sound=base64.b64encode(sound).decode(),
    )  # fmt: skip


async def case_of(service: Service, was: TurnSoFar, name: str) -> tuple[JsonObject, bytes, str]:
    """A turn as a case, its recording, and the recording's name."""
    form = outcome_of(was)
    about = f"kept from turn {was.id} of {was.clock:%Y-%m-%d}"
    case: JsonObject = {"case": name, "about": about}
    sound, file = b"", ""
    came = was.fetched.clip if was.fetched is not None else None
    if was.inbound.sound is not None and came is not None:
        sound = await service.clips.load(came.id)
        container = sniff(sound)
        file = f"{name}{container.suffix if container else '.ogg'}"
        case["sound"] = file
    else:
        case["said"] = was.inbound.text
    if was.inbound.choice:
        case["choice"] = was.inbound.choice
    if was.inbound.command:
        case["command"] = True
    case["now"] = was.clock.isoformat()
    # What was said before is not needed to understand it, and is nobody's business in a file.
    before = was.state.stored()
    if state := {n: v for n, v in before.items() if n not in ("recent", "last")}:
        case["state"] = state
    if was.memory:
        case["memory"] = was.memory
    spec = was.assistant.spec(form.route) if form.route else None
    answered = was.answered
    if spec is not None and spec.logic and answered is not None and not answered.apology_for:
        case["logic"] = [_kept(was, spec.logic, form.slots)]
    elif spec is not None and spec.free and answered is not None and not answered.apology_for:
        case |= _kept_of_engine(answered)
    expect: JsonObject = {"route": form.route}
    if form.slots:
        expect["slots"] = form.slots
    if form.written:
        expect["contains"] = [form.written.splitlines()[0][:200]]
    case["expect"] = expect
    return case, sound, file


def _kept_of_engine(answered: Answered) -> JsonObject:
    """What an engine gave, for a case, with the functions that were called for it; nothing where
    the arguments of one are not on record: then the case is run by asking."""
    if (led := answered.routed) is not None:
        return {"engine": [{"route": led.route, **({"slots": led.slots} if led.slots else {})}]}
    engine: list[JsonObject] = [{"calls": [{"name": f"brief.{n}"}]} for n in answered.briefs]
    logic: list[JsonObject] = []
    for each in answered.asked:
        if each.kind != "function" or each.outcome != "done":
            continue
        exchange = each.exchanges[-1] if each.exchanges else {}
        question, answers = exchange.get("sent"), exchange.get("received")
        if not isinstance(question, dict) or "slots" not in question:
            return {}
        arguments = question["slots"]
        engine.append({"calls": [{"name": each.engine, "arguments": arguments}]})
        replies = answers if isinstance(answers, list) else [answers]
        logic.append({"asks": each.engine, "slots": arguments, "answers": replies})
    words = [part.text for part in answered.parts if part.text]
    if not words:
        return {}
    engine.append({"text": words[0]})
    return {"engine": engine, **({"logic": logic} if logic else {})}


def _kept(was: TurnSoFar, name: str, slots: JsonObject) -> JsonObject:
    """What business logic answered, for a case: where it is a service in its own shape, with what
    it was sent, and with what came back, so that a change of either is seen."""
    assert was.answered is not None
    name_of_service, _, action = name.partition(".")
    service = was.assistant.logic[name_of_service]
    kept: JsonObject = {"asks": name, "slots": slots}
    if service.request is not None:
        kept["sent"] = sent(service, request(ready(was, RoutedTurn), action), named=True)
        received = received_of(service, name, was.answered.asked, was.answered.parts)
        if received is not None:
            return {**kept, "received": received}
    parts = [part.model_dump(mode="json", exclude_defaults=True) for part in was.answered.parts]
    return {**kept, "answers": parts}


@router.get("/turns/{turn_id}/bundle", responses={200: {"content": {"application/zip": {}}}})
async def bundle_turn(turn_id: TurnId, _: MayBuild, service: TheService) -> Response:
    """Download a turn as one file that can be replayed on another machine: its sound, what was
    before, its revision's files, what business logic answered. Nobody is named in it, and what is
    remembered of the person is left out."""
    async with service.database.reading() as session:
        was = await frozen(session, turn_id)
        files = (await session.get_one(Revision, was.revision)).files
    case, sound, file = await case_of(service, was, "bundled-turn")
    case.pop("memory", None)
    turn = {
        "case": case, "before": outcome_of(was).model_dump(mode="json"), "revision": was.revision,
        "assistant": was.assistant.assistant, "made_by": __version__,
    }  # fmt: skip
    data = packed(Bundle(turn, files, sound, file))
    headers = {"Content-Disposition": f'attachment; filename="turn-{was.id[-12:]}.zip"'}
    return Response(data, media_type="application/zip", headers=headers)
