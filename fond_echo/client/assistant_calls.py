"""Assistants, their revisions, cases and replays: the calls of the API, for both clients."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

from fond_echo.client.call import Call, shape_of
from fond_echo.contract.assistants import (
    AssistantFiles,
    AssistantOut,
    Checked,
    DraftIn,
    DraftOut,
    PastOut,
    ProposalsOut,
    PublishIn,
    RevisionOut,
    StarterIn,
    Tried,
    TryIn,
    WidenIn,
)
from fond_echo.contract.package import Package, PackageCheck
from fond_echo.contract.replay import (
    CasesOut,
    CorrectionIn,
    CorrectionOut,
    GapOut,
    KeptCase,
    MispronouncedOut,
    ReplayIn,
    ReplayOut,
    ReplaysIn,
    ReplaysOut,
)

Answer = TypeVar("Answer")


def assistants() -> Call[list[AssistantOut]]:
    return Call("GET", "/api/assistants", shape_of(list[AssistantOut]))


def package(name: str) -> Call[Package]:
    return Call("GET", f"/api/assistants/{name}/package", shape_of(Package))


def check_package(given: Package) -> Call[PackageCheck]:
    path = "/api/assistants/packages/checks"
    return Call("POST", path, shape_of(PackageCheck), given.model_dump(mode="json"))


def make_starter(name: str, given: StarterIn) -> Call[AssistantFiles]:
    path = f"/api/assistants/{name}/starter"
    return Call("POST", path, shape_of(AssistantFiles), given.model_dump())


def put_assistant(name: str, files: Mapping[str, str], if_revision: str = "") -> Call[AssistantOut]:
    body = DraftIn(files=dict(files), if_revision=if_revision).model_dump()
    return Call("PUT", f"/api/assistants/{name}/draft", shape_of(AssistantOut), body)


def publish_assistant(name: str, given: PublishIn) -> Call[AssistantOut]:
    body = given.model_dump()
    return Call("POST", f"/api/assistants/{name}/publish", shape_of(AssistantOut), body)


def assistant_history(name: str) -> Call[list[PastOut]]:
    return Call("GET", f"/api/assistants/{name}/history", shape_of(list[PastOut]))


def draft(name: str) -> Call[DraftOut]:
    return Call("GET", f"/api/assistants/{name}/draft", shape_of(DraftOut))


def replay_turn(turn_id: str, given: ReplayIn) -> Call[ReplayOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/turns/{turn_id}/replays", shape_of(ReplayOut), body)


def replay_turns(name: str, given: ReplaysIn) -> Call[ReplaysOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/assistants/{name}/replays", shape_of(ReplaysOut), body)


def run_cases(name: str, given: ReplayIn) -> Call[CasesOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/assistants/{name}/cases/runs", shape_of(CasesOut), body)


def gaps(name: str, last: int) -> Call[list[GapOut]]:
    path = f"/api/assistants/{name}/gaps"
    return Call("GET", path, shape_of(list[GapOut]), query={"last": str(last)})


def correct_turn(turn_id: str, given: CorrectionIn) -> Call[CorrectionOut]:
    return Call(
        "POST", f"/api/turns/{turn_id}/correction", shape_of(CorrectionOut), given.model_dump()
    )


def doubtful_words(name: str, last: int) -> Call[list[MispronouncedOut]]:
    path = f"/api/assistants/{name}/mispronounced"
    return Call("GET", path, shape_of(list[MispronouncedOut]), query={"last": str(last)})


def turn_bundle(turn_id: str) -> Call[bytes]:
    return Call("GET", f"/api/turns/{turn_id}/bundle", lambda response: response.content)


def turn_as_case(turn_id: str, name: str) -> Call[KeptCase]:
    return Call("GET", f"/api/turns/{turn_id}/case", shape_of(KeptCase), query={"name": name})


def check_assistant(files: Mapping[str, str]) -> Call[Checked]:
    body = AssistantFiles(files=dict(files)).model_dump()
    return Call("POST", "/api/assistants/check", shape_of(Checked), body)


def try_assistant(
    name: str,
    text: str,
    state: Mapping[str, Any] | None = None,
    files: Mapping[str, str] | None = None,
    ask: bool = False,
) -> Call[Tried]:
    given = TryIn(text=text, state=dict(state or {}), files=dict(files) if files else None, ask=ask)
    return Call("POST", f"/api/assistants/{name}/try", shape_of(Tried), given.model_dump())


def widen_assistant(name: str, given: WidenIn) -> Call[ProposalsOut]:
    path = f"/api/assistants/{name}/widen"
    return Call("POST", path, shape_of(ProposalsOut), given.model_dump())


def revision(name: str, revision: str) -> Call[AssistantFiles]:
    return Call("GET", f"/api/assistants/{name}/revisions/{revision}", shape_of(AssistantFiles))


def revisions(name: str) -> Call[list[RevisionOut]]:
    return Call("GET", f"/api/assistants/{name}/revisions", shape_of(list[RevisionOut]))
