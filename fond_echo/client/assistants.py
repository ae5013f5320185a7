"""Assistants, their revisions, cases, replays: the calls, and what both clients have for them."""

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
    PublishIn,
    RevisionOut,
    Tried,
    TryIn,
)
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


def _assistants() -> Call[list[AssistantOut]]:
    return Call("GET", "/api/assistants", shape_of(list[AssistantOut]))


def _put_assistant(
    name: str, files: Mapping[str, str], if_revision: str = ""
) -> Call[AssistantOut]:
    body = DraftIn(files=dict(files), if_revision=if_revision).model_dump()
    return Call("PUT", f"/api/assistants/{name}/draft", shape_of(AssistantOut), body)


def _publish_assistant(name: str, given: PublishIn) -> Call[AssistantOut]:
    body = given.model_dump()
    return Call("POST", f"/api/assistants/{name}/publish", shape_of(AssistantOut), body)


def _assistant_history(name: str) -> Call[list[PastOut]]:
    return Call("GET", f"/api/assistants/{name}/history", shape_of(list[PastOut]))


def _draft(name: str) -> Call[DraftOut]:
    return Call("GET", f"/api/assistants/{name}/draft", shape_of(DraftOut))


def _replay_turn(turn_id: str, given: ReplayIn) -> Call[ReplayOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/turns/{turn_id}/replays", shape_of(ReplayOut), body)


def _replay_turns(name: str, given: ReplaysIn) -> Call[ReplaysOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/assistants/{name}/replays", shape_of(ReplaysOut), body)


def _run_cases(name: str, given: ReplayIn) -> Call[CasesOut]:
    body = given.model_dump(mode="json")
    return Call("POST", f"/api/assistants/{name}/cases/runs", shape_of(CasesOut), body)


def _gaps(name: str, last: int) -> Call[list[GapOut]]:
    path = f"/api/assistants/{name}/gaps"
    return Call("GET", path, shape_of(list[GapOut]), query={"last": str(last)})


def _correct_turn(turn_id: str, given: CorrectionIn) -> Call[CorrectionOut]:
    return Call(
        "POST", f"/api/turns/{turn_id}/correction", shape_of(CorrectionOut), given.model_dump()
    )


def _doubtful_words(name: str, last: int) -> Call[list[MispronouncedOut]]:
    path = f"/api/assistants/{name}/mispronounced"
    return Call("GET", path, shape_of(list[MispronouncedOut]), query={"last": str(last)})


def _turn_bundle(turn_id: str) -> Call[bytes]:
    return Call("GET", f"/api/turns/{turn_id}/bundle", lambda response: response.content)


def _turn_as_case(turn_id: str, name: str) -> Call[KeptCase]:
    return Call("GET", f"/api/turns/{turn_id}/case", shape_of(KeptCase), query={"name": name})


def _check_assistant(files: Mapping[str, str]) -> Call[Checked]:
    body = AssistantFiles(files=dict(files)).model_dump()
    return Call("POST", "/api/assistants/check", shape_of(Checked), body)


def _try_assistant(
    name: str,
    text: str,
    state: Mapping[str, Any] | None = None,
    files: Mapping[str, str] | None = None,
) -> Call[Tried]:
    given = TryIn(text=text, state=dict(state or {}), files=dict(files) if files else None)
    return Call("POST", f"/api/assistants/{name}/try", shape_of(Tried), given.model_dump())


def _revision(name: str, revision: str) -> Call[AssistantFiles]:
    return Call("GET", f"/api/assistants/{name}/revisions/{revision}", shape_of(AssistantFiles))


def _revisions(name: str) -> Call[list[RevisionOut]]:
    return Call("GET", f"/api/assistants/{name}/revisions", shape_of(list[RevisionOut]))


class AssistantCalls:
    """What a client has for it."""

    def make(self, call: Call[Answer]) -> Answer:
        """Make a call."""
        raise NotImplementedError

    def assistants(self) -> list[AssistantOut]:
        """All assistants."""
        return self.make(_assistants())

    def put_assistant(
        self, name: str, files: Mapping[str, str], if_revision: str = ""
    ) -> AssistantOut:
        """Check an assistant's files and keep them as its draft; only where
        `if_revision` is the draft, if that is given."""
        return self.make(_put_assistant(name, files, if_revision))

    def publish_assistant(
        self,
        name: str,
        revision: str = "",
        *,
        if_revision: str = "",
        force: bool = False,
        why: str = "",
    ) -> AssistantOut:
        """Make the draft live, or another revision that was kept: `if_revision` the live revision
        that it takes the place of; `force` though a case fails."""
        given = PublishIn(revision=revision, if_revision=if_revision, force=force, why=why)
        return self.make(_publish_assistant(name, given))

    def draft(self, name: str) -> DraftOut:
        """The files of an assistant's draft, and which revision they are."""
        return self.make(_draft(name))

    def assistant_history(self, name: str) -> list[PastOut]:
        """When an assistant was drafted and published, the latest first."""
        return self.make(_assistant_history(name))

    def replay_turn(self, turn_id: str, given: ReplayIn | None = None) -> ReplayOut:
        """A turn taken again, frozen as it was, on the draft or another revision."""
        return self.make(_replay_turn(turn_id, given or ReplayIn()))

    def replay_turns(self, name: str, given: ReplaysIn | None = None) -> ReplaysOut:
        """Some turns of an assistant taken again; `cursor` goes on with those before."""
        return self.make(_replay_turns(name, given or ReplaysIn()))

    def run_cases(self, name: str, given: ReplayIn | None = None) -> CasesOut:
        """The cases of an assistant, run on its draft or another revision."""
        return self.make(_run_cases(name, given or ReplayIn()))

    def gaps(self, name: str, last: int = 1_000) -> list[GapOut]:
        """What people said lately that no route was for, grouped."""
        return self.make(_gaps(name, last))

    def correct_turn(self, turn_id: str, given: CorrectionIn) -> CorrectionOut:
        """Put a turn's words to a route of the draft, hear it again there, keep it as a case."""
        return self.make(_correct_turn(turn_id, given))

    def mispronounced(self, name: str, last: int = 1_000) -> list[MispronouncedOut]:
        """Words of replies that did not come back when they were heard again."""
        return self.make(_doubtful_words(name, last))

    def turn_bundle(self, turn_id: str) -> bytes:
        """A turn as one file that is replayed on another machine."""
        return self.make(_turn_bundle(turn_id))

    def turn_as_case(self, turn_id: str, name: str) -> KeptCase:
        """A turn as a case to be kept under a name."""
        return self.make(_turn_as_case(turn_id, name))

    def check_assistant(self, files: Mapping[str, str]) -> Checked:
        """Check an assistant's files: what is wrong, and what will be trouble."""
        return self.make(_check_assistant(files))

    def try_assistant(
        self,
        name: str,
        text: str,
        state: Mapping[str, Any] | None = None,
        files: Mapping[str, str] | None = None,
    ) -> Tried:
        """What an assistant would answer, and why."""
        return self.make(_try_assistant(name, text, state, files))

    def revision(self, name: str, revision: str) -> AssistantFiles:
        """The files of a revision; `live` and `draft` stand for those."""
        return self.make(_revision(name, revision))

    def revisions(self, name: str) -> list[RevisionOut]:
        """Every revision that was kept."""
        return self.make(_revisions(name))


class AsyncAssistantCalls:
    """What a client has for it."""

    async def make(self, call: Call[Answer]) -> Answer:
        """Make a call."""
        raise NotImplementedError

    async def assistants(self) -> list[AssistantOut]:
        """All assistants."""
        return await self.make(_assistants())

    async def put_assistant(
        self, name: str, files: Mapping[str, str], if_revision: str = ""
    ) -> AssistantOut:
        """Check an assistant's files and keep them as its draft; only where
        `if_revision` is the draft, if that is given."""
        return await self.make(_put_assistant(name, files, if_revision))

    async def publish_assistant(
        self,
        name: str,
        revision: str = "",
        *,
        if_revision: str = "",
        force: bool = False,
        why: str = "",
    ) -> AssistantOut:
        """Make the draft live, or another revision that was kept: `if_revision` the live revision
        that it takes the place of; `force` though a case fails."""
        given = PublishIn(revision=revision, if_revision=if_revision, force=force, why=why)
        return await self.make(_publish_assistant(name, given))

    async def draft(self, name: str) -> DraftOut:
        """The files of an assistant's draft, and which revision they are."""
        return await self.make(_draft(name))

    async def assistant_history(self, name: str) -> list[PastOut]:
        """When an assistant was drafted and published, the latest first."""
        return await self.make(_assistant_history(name))

    async def replay_turn(self, turn_id: str, given: ReplayIn | None = None) -> ReplayOut:
        """A turn taken again, frozen as it was, on the draft or another revision."""
        return await self.make(_replay_turn(turn_id, given or ReplayIn()))

    async def replay_turns(self, name: str, given: ReplaysIn | None = None) -> ReplaysOut:
        """Some turns of an assistant taken again; `cursor` goes on with those before."""
        return await self.make(_replay_turns(name, given or ReplaysIn()))

    async def run_cases(self, name: str, given: ReplayIn | None = None) -> CasesOut:
        """The cases of an assistant, run on its draft or another revision."""
        return await self.make(_run_cases(name, given or ReplayIn()))

    async def gaps(self, name: str, last: int = 1_000) -> list[GapOut]:
        """What people said lately that no route was for, grouped."""
        return await self.make(_gaps(name, last))

    async def correct_turn(self, turn_id: str, given: CorrectionIn) -> CorrectionOut:
        """Put a turn's words to a route of the draft, hear it again there, keep it as a case."""
        return await self.make(_correct_turn(turn_id, given))

    async def mispronounced(self, name: str, last: int = 1_000) -> list[MispronouncedOut]:
        """Words of replies that did not come back when they were heard again."""
        return await self.make(_doubtful_words(name, last))

    async def turn_bundle(self, turn_id: str) -> bytes:
        """A turn as one file that is replayed on another machine."""
        return await self.make(_turn_bundle(turn_id))

    async def turn_as_case(self, turn_id: str, name: str) -> KeptCase:
        """A turn as a case to be kept under a name."""
        return await self.make(_turn_as_case(turn_id, name))

    async def check_assistant(self, files: Mapping[str, str]) -> Checked:
        """Check an assistant's files: what is wrong, and what will be trouble."""
        return await self.make(_check_assistant(files))

    async def try_assistant(
        self,
        name: str,
        text: str,
        state: Mapping[str, Any] | None = None,
        files: Mapping[str, str] | None = None,
    ) -> Tried:
        """What an assistant would answer, and why."""
        return await self.make(_try_assistant(name, text, state, files))

    async def revision(self, name: str, revision: str) -> AssistantFiles:
        """The files of a revision; `live` and `draft` stand for those."""
        return await self.make(_revision(name, revision))

    async def revisions(self, name: str) -> list[RevisionOut]:
        """Every revision that was kept."""
        return await self.make(_revisions(name))
