"""A draft as the API and the command line give it, checked as a connector file."""

from __future__ import annotations

from fond_echo.contract.assistants import FileErrorOut
from fond_echo.contract.drafting import ConnectorDraft, ConnectorExamples, GuessOut
from fond_echo.documents.connector import read_connector
from fond_echo.documents.drafting.draft import FILE, Draft, engine_draft, network_draft
from fond_echo.documents.drafting.example import Example, read_curl
from fond_echo.documents.drafting.messages import Caught
from fond_echo.documents.drafting.openapi import read_openapi
from fond_echo.documents.engine import read_engine
from fond_echo.documents.errors import FileError, InvalidFile, NotAnExample

MAX_ERRORS = 100


def drafted(given: ConnectorExamples) -> ConnectorDraft:
    """Raises NotAnExample."""
    try:
        draft = _draft(given)
    except RecursionError as error:
        raise NotAnExample("what was given is nested too deeply") from error
    errors: tuple[FileError, ...] = ()
    try:
        reader = read_connector if given.kind == "network" else read_engine
        reader(draft.file, f"{given.name}.yaml")
    except InvalidFile as error:
        errors = error.errors
    found = [FileErrorOut(**vars(each)) for each in errors[:MAX_ERRORS]]
    return ConnectorDraft(
        connector=draft.file, values=draft.values, secrets=draft.secrets, unchanged=draft.unchanged,
        limitations=draft.limitations,
        guesses=[GuessOut(**vars(each)) for each in draft.guesses], errors=found,
    )  # fmt: skip


def examples_of(given: ConnectorExamples) -> dict[str, Example]:
    """The requests that are given, as commands or as operations of documents. Raises
    NotAnExample."""
    if unused := set(given.operations) - set(given.examples):
        raise NotAnExample(f"there is an operation of {min(unused)}, and no document of it")
    return {
        of: read_openapi(text, given.operations[of]) if of in given.operations else read_curl(text)
        for of, text in given.examples.items()
    }


def _draft(given: ConnectorExamples) -> Draft:
    examples = examples_of(given)
    if given.kind != "network":
        if set(examples) != {"request"}:
            raise NotAnExample("an engine is drafted from one example, that of its request")
        return engine_draft(
            given.name, given.kind, examples["request"], secret=given.secret or "",
            token=given.token, answer=given.answers.get("request", FILE), said=given.transcript,
            corrections=given.mapping,
        )  # fmt: skip
    if "request" in examples:
        raise NotAnExample(
            "a network is drafted from examples of text, voice-note, fetch and poll, not of request"
        )
    caught = [
        Caught(each.document, each.headers, each.body.encode()) for each in given.messages
    ]  # fmt: skip
    return network_draft(
        given.name, examples, caught, [each.text for each in given.messages],
        secret=given.secret or "", token=given.token, signing_key=given.signing_key,
        answers=dict(given.answers), corrections=given.mapping,
    )  # fmt: skip
