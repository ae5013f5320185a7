"""The sentences of the service and of the assistant file that a reply is made of."""

from __future__ import annotations

import re
from collections.abc import Sequence
from datetime import datetime

from fond_echo.answers.values import hours_at, template_values
from fond_echo.contract.reply import Choice, End, HandOver, Reply, Then, Transfer
from fond_echo.core.language.errors import TemplateFailed
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.assistant import AssistantFile
from fond_echo.turns.turn import TurnSoFar


def rendered(text: str, turn: TurnSoFar) -> str:
    if not text:
        return ""
    return re.sub(
        r"[ \t]+\n", "\n", str(compile_template(text).render(template_values(turn)))
    ).strip()


def did_you_mean(turn: TurnSoFar, routes: Sequence[str]) -> Reply:
    titles = [turn.router.title(name) for name in routes]
    if len(routes) == 1:
        choices = yes_no(turn, routes[0])
        return said(turn, "did-you-mean", choices, title=titles[0])
    choices = [Choice(label=t[:80], value=name) for t, name in zip(titles, routes, strict=True)]
    return said(turn, "which-did-you-mean", choices)


def did_you_say(turn: TurnSoFar, phrases: Sequence[str]) -> Reply:
    if len(phrases) == 1:
        return said(turn, "did-you-say", yes_no(turn), phrase=phrases[0].rstrip("?"))
    return said(
        turn, "which-did-you-say", [Choice(label=each[:80], value=each) for each in phrases]
    )


def said(turn: TurnSoFar, name: str, choices: Sequence[Choice] = (), /, **filled: str) -> Reply:
    """A sentence of the service, in the assistant's own words where it has some."""
    found = turn.assistant.says.get(name, **filled)
    return Reply(text=found.text, spoken=found.spoken, choices=list(choices))


def own_or(own: str, name: str, turn: TurnSoFar) -> Reply:
    """The assistant's own words, or the service's where it has none."""
    return Reply(text=rendered(own, turn)) if own else said(turn, name)


def yes_no(turn: TurnSoFar, value: str = "") -> list[Choice]:
    says = turn.assistant.says
    yes, no = says.text("yes"), says.text("no")
    return [Choice(label=yes, value=value) if value else Choice(label=yes), Choice(label=no)]


def remembered(turn: TurnSoFar) -> Reply:
    memory = turn.memory
    if not memory:
        return said(turn, "nothing-remembered")
    listed = "\n".join(f"- {name.replace('-', ' ')}: {value}" for name, value in memory.items())
    return said(turn, "remembered", facts=listed)


def unsure(turn: TurnSoFar, name: str = "not-sure") -> Reply:
    """That the assistant is not sure it understood, and what it can be asked.

    Args:
        name: of the sentence that it begins with.
    """
    return _with_examples(turn, name, turn.router.suggestions())


def once_more(turn: TurnSoFar) -> Reply | None:
    """What is said in a call to somebody who was not understood several times in a row: other
    words, then the menu, then that they are connected, or the end; None at the first time."""
    times = turn.state.not_understood
    if not turn.in_call or not turn.no_match or not times:
        return None
    if times == 1:
        return unsure(turn, "still-not-understood")
    if times == 2:
        return menu(turn, "still-not-understood")
    if turn.assistant.operator:
        then: Then = HandOver()
        if turn.assistant.operator_number:
            then = Transfer(to=turn.assistant.operator_number)
        return Reply(text=rendered(turn.assistant.operator, turn), then=then)
    sorry = turn.assistant.says.text("still-not-understood")
    goodbye = rendered(turn.assistant.goodbye, turn) or turn.assistant.says.text("goodbye")
    return Reply(text=f"{sorry} {goodbye}", then=End())


def menu(turn: TurnSoFar, name: str = "not-on-the-menu") -> Reply:
    """That a key is not on the menu, and the menu: the choices that were offered last, or routes
    with keys; without either, what can be asked.

    Args:
        name: of the sentence that it begins with.
    """
    begin = said(turn, name)
    last = turn.state.last
    if last is not None and last.choices:
        text = f"{begin.text} {last.text or last.written}"
        return Reply(text=text, spoken=last.spoken and f"{begin.text} {last.spoken}",
                     choices=last.choices)  # fmt: skip
    entries = [
        said(turn, "menu-entry", title=turn.router.title(route.route), key=route.key).text
        for route in turn.assistant.routes
        if route.key
    ]
    if not entries:
        return unsure(turn, name)
    return Reply(text=" ".join([begin.text, *entries]))


def _with_examples(turn: TurnSoFar, name: str, requested: Sequence[str]) -> Reply:
    """A sentence, and what can be asked."""
    says = turn.assistant.says
    begin = says.get(name)
    if not requested:
        return Reply(text=begin.text, spoken=begin.spoken)
    ended = [example if example[-1:] in ".?!" else example + "." for example in requested]
    more = says.get("you-can-ask", examples=f" {says.text('or')} ".join(ended))
    spoken = ""
    if begin.spoken or more.spoken:
        spoken = f"{begin.spoken or begin.text} {more.spoken or more.text}"
    return Reply(text=f"{begin.text} {more.text}", spoken=spoken)


def apology(turn: TurnSoFar, code: str) -> Reply:
    """The friendly reply to an error of a kind: never the error itself."""
    return said(turn, code if turn.assistant.says.knows(code) else "error")


def failed(turn: TurnSoFar, code: str) -> Reply:
    """The friendly reply to an error: the assistant's own words for its logic, or ours."""
    if code == "logic-failed" and turn.routed is not None:
        spec = turn.assistant.spec(turn.routed.route)
        service = turn.assistant.logic.get(spec.logic.partition(".")[0])
        if service is not None and service.failed:
            return Reply(text=service.failed)
    return apology(turn, code)


def greeting(turn: TurnSoFar) -> Reply:
    """What a new contact is greeted with: the greeting, or what can be asked."""
    own = turn.assistant.greeting
    if own is not None:
        text, spoken = rendered(own.text, turn), rendered(own.spoken, turn)
        return Reply(text=text, spoken=spoken, sound=own.sound)
    return _with_examples(turn, "hello", turn.router.suggestions()[:1])


def greeting_to(assistant: AssistantFile, now: datetime) -> str:
    """The greeting as it is shown to somebody of whom nothing is known yet; "" where it needs more
    than that."""
    own = assistant.greeting.text if assistant.greeting is not None else ""
    values = {
        "turn": {"text": "", "arrived_as": "joined", "number": 1, "quoted": ""}, "slots": {},
        "contact": {"name": "", "id": "", "channel": ""}, "memory": {}, "variables": {},
        "conversation": {"recent": []}, "now": now, "hours": hours_at(assistant, now), "reply": {},
    }  # fmt: skip
    try:
        return str(compile_template(own).render(values)).strip()
    except TemplateFailed:
        return ""
