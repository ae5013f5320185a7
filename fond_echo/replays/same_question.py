"""Whether business logic would be sent the same as before, and what today's assistant would take of
what came back then.

A question is compared as it would leave: the address, and the JSON that the templates of `request`
make of it. The ids of a turn, of its contact and of its conversation are other ones in every turn;
in a case their names stand in their place, and nothing is said of who it was.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from fond_echo.connectors.answers import taken
from fond_echo.connectors.errors import LogicFailed
from fond_echo.connectors.given import reply_given
from fond_echo.contract.engine import EngineAsked
from fond_echo.contract.logic import LogicRequest
from fond_echo.contract.reply import Reply
from fond_echo.core.language.templates import render_tree
from fond_echo.documents.services import LogicService

OWN = {"run", "route", "assistant", "now", "call"}
"""What a question in our own shape says of the assistant and of when it was asked."""

AS_IN_A_CASE: dict[str, dict[str, Any]] = {
    "turn": {"id": "turn.id", "heard": None, "sound": None},
    "contact": {"id": "contact.id", "name": "contact.name", "channel": "contact.channel"},
    "conversation": {"id": "conversation.id", "turns": 1, "recent": []},
    "memory": {},
}
"""What stands in a case in the place of what is another in every turn, or nobody's business."""


class _Names(dict[str, str]):
    """Secrets, each by its name."""

    def __missing__(self, name: str) -> str:
        return f"secret {name}"


def sent(service: LogicService, asked: LogicRequest, *, named: bool = False) -> dict[str, Any]:
    """What business logic would be sent.

    Args:
        named: ids are replaced by what they are ids of, as they stand in a case.

    Raises:
        TemplateFailed: a template of the request asks for a value that does not exist.
    """
    facts = asked.model_copy(update={"run": "live", "call": ""}).model_dump(mode="json")
    if named:
        for part, changed in AS_IN_A_CASE.items():
            facts[part] = {**facts[part], **changed} if changed else {}
        facts["call"] = "call"
    if service.request is None:
        question = {name: value for name, value in facts.items() if name not in OWN}
        return {"url": service.url, "json": question}
    facts |= {"text": asked.turn.text, "secrets": _Names()}
    parts: dict[str, Any] = {"url": service.url, "json": service.request}
    if service.headers:
        parts["headers"] = {
            name: each if isinstance(each, str) else each.model_dump()
            for name, each in service.headers.items()
        }
    rendered: dict[str, Any] = render_tree(parts, facts)
    if service.poll is not None:
        # Its templates ask for what only the first answer has.
        rendered["poll"] = service.poll.model_dump(mode="json", by_alias=True)
    return rendered


def answer_of(service: LogicService, received: Any) -> list[Reply]:
    """What a service in its own shape answers, read from what came back, as `answer` says.

    Raises:
        LogicFailed: no words stand there.
    """
    assert service.answer is not None
    if service.gives is not None:
        return [reply_given(service, received)]
    words = str(taken(received, service.answer) or "").strip()
    if not words:
        raise LogicFailed(
            f"its answer is empty: nothing stands at {service.answer} in what it answered then",
            where=service.url,
        )
    return [Reply(text=words)]


def received_of(
    service: LogicService, name: str, asked: Sequence[EngineAsked], parts: Sequence[Reply]
) -> Any:
    """What came back to a question, where all that was answered can be read from it again; else
    None: long texts are recorded in part."""
    if service.answer is None or len(parts) != 1:
        return None
    of_it = [each for each in asked if each.engine == name and each.kind == "function"]
    if not of_it or not of_it[-1].exchanges:
        return None
    received = of_it[-1].exchanges[-1].get("received")
    try:
        again = answer_of(service, received)
    except LogicFailed:
        return None
    return received if again[0] == parts[0] else None


def answered_again(
    then: LogicService, now: LogicService, name: str, asked: Sequence[EngineAsked],
    parts: Sequence[Reply],
) -> Sequence[Reply] | None:  # fmt: skip
    """The parts of an answer as a service that may have been changed would give them; None where
    what came back then is not known well enough.

    Raises:
        LogicFailed: today's `answer` finds no words in what came back then.
    """
    if (then.answer, then.gives, then.stream) == (now.answer, now.gives, now.stream):
        return parts
    if now.answer is None:
        return None
    received = received_of(then, name, asked, parts)
    return None if received is None else answer_of(now, received)


def differences(then: Mapping[str, Any], now: Mapping[str, Any]) -> str:
    """What would be sent otherwise, in words."""
    names = [name for name in {**then, **now} if then.get(name) != now.get(name)]
    return "; ".join(f"{name} {now.get(name)!r}, not {then.get(name)!r}" for name in names)
