"""What the client does with assistants."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any, TypeVar

from fond_echo.client import assistant_calls
from fond_echo.client.call import Call
from fond_echo.contract.assistants import (
    AssistantFiles,
    AssistantOut,
    Checked,
    DraftOut,
    PastOut,
    ProposalsOut,
    PublishIn,
    RevisionOut,
    StarterIn,
    Tried,
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


class AssistantCalls:
    """What a client has for it."""

    def make(self, call: Call[Answer]) -> Answer:
        """Make a call."""
        raise NotImplementedError

    def assistants(self) -> list[AssistantOut]:
        """All assistants."""
        return self.make(assistant_calls.assistants())

    def package(self, name: str) -> Package:
        """An assistant with its engines, channels and the names of its secrets, in one."""
        return self.make(assistant_calls.package(name))

    def check_package(self, given: Package) -> PackageCheck:
        """What unpacking a package here would meet; nothing is stored."""
        return self.make(assistant_calls.check_package(given))

    def make_starter(self, name: str, given: StarterIn) -> AssistantFiles:
        """The checked files of a first assistant, made of what is said of it; nothing is
        stored."""
        return self.make(assistant_calls.make_starter(name, given))

    def put_assistant(
        self, name: str, files: Mapping[str, str], if_revision: str = ""
    ) -> AssistantOut:
        """Check an assistant's files and keep them as its draft; only where
        `if_revision` is the draft, if that is given."""
        return self.make(assistant_calls.put_assistant(name, files, if_revision))

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
        return self.make(assistant_calls.publish_assistant(name, given))

    def draft(self, name: str) -> DraftOut:
        """The files of an assistant's draft, and which revision they are."""
        return self.make(assistant_calls.draft(name))

    def assistant_history(self, name: str) -> list[PastOut]:
        """When an assistant was drafted and published, the latest first."""
        return self.make(assistant_calls.assistant_history(name))

    def replay_turn(self, turn_id: str, given: ReplayIn | None = None) -> ReplayOut:
        """A turn taken again, frozen as it was, on the draft or another revision."""
        return self.make(assistant_calls.replay_turn(turn_id, given or ReplayIn()))

    def replay_turns(self, name: str, given: ReplaysIn | None = None) -> ReplaysOut:
        """Some turns of an assistant taken again; `cursor` goes on with those before."""
        return self.make(assistant_calls.replay_turns(name, given or ReplaysIn()))

    def run_cases(self, name: str, given: ReplayIn | None = None) -> CasesOut:
        """The cases of an assistant, run on its draft or another revision."""
        return self.make(assistant_calls.run_cases(name, given or ReplayIn()))

    def gaps(self, name: str, last: int = 1_000) -> list[GapOut]:
        """What people said lately that no route was for, grouped."""
        return self.make(assistant_calls.gaps(name, last))

    def correct_turn(self, turn_id: str, given: CorrectionIn) -> CorrectionOut:
        """Put a turn's words to a route of the draft, hear it again there, keep it as a case."""
        return self.make(assistant_calls.correct_turn(turn_id, given))

    def mispronounced(self, name: str, last: int = 1_000) -> list[MispronouncedOut]:
        """Words of replies that did not come back when they were heard again."""
        return self.make(assistant_calls.doubtful_words(name, last))

    def turn_bundle(self, turn_id: str) -> bytes:
        """A turn as one file that is replayed on another machine."""
        return self.make(assistant_calls.turn_bundle(turn_id))

    def turn_as_case(self, turn_id: str, name: str) -> KeptCase:
        """A turn as a case to be kept under a name."""
        return self.make(assistant_calls.turn_as_case(turn_id, name))

    def check_assistant(self, files: Mapping[str, str]) -> Checked:
        """Check an assistant's files: what is wrong, and what will be trouble."""
        return self.make(assistant_calls.check_assistant(files))

    def try_assistant(
        self,
        name: str,
        text: str,
        state: Mapping[str, Any] | None = None,
        files: Mapping[str, str] | None = None,
        *,
        ask: bool = False,
    ) -> Tried:
        """What an assistant would answer, and why; with `ask`, its engines are asked for real."""
        return self.make(assistant_calls.try_assistant(name, text, state, files, ask))

    def widen_assistant(self, name: str, given: WidenIn | None = None) -> ProposalsOut:
        """Other wordings of an assistant's examples, proposed and held against its routes."""
        return self.make(assistant_calls.widen_assistant(name, given or WidenIn()))

    def revision(self, name: str, revision: str) -> AssistantFiles:
        """The files of a revision; `live` and `draft` stand for those."""
        return self.make(assistant_calls.revision(name, revision))

    def revisions(self, name: str) -> list[RevisionOut]:
        """Every revision that was kept."""
        return self.make(assistant_calls.revisions(name))
