"""What an engine that answers freely is told beside the question: its brief, how the words came and
how the answer goes out, and the routes that it may choose."""

from __future__ import annotations

from collections.abc import Collection
from typing import Any

from fond_echo.core.dialogue.free import marked
from fond_echo.core.dialogue.functions import BRIEF, ROUTE, Argument, Function
from fond_echo.core.dialogue.outcomes import FALLBACK
from fond_echo.core.grammar.lists import names_in
from fond_echo.core.language.templates import compile_template
from fond_echo.documents.reply import ReplySpec
from fond_echo.documents.route import RouteSpec, SlotSpec
from fond_echo.turns.ready import RoutedTurn
from fond_echo.turns.turn import TurnSoFar

OFFERED = 10
"""So many routes are offered to an engine, the likeliest."""

EXAMPLES = 3
"""So many examples tell what a route is for."""

MAX_NAMED = 100
"""A slot with at most so many names lists them."""

ALTERNATIVES = 3
"""So many other readings of what was heard are told."""


def brief_of(spec: ReplySpec, turn: TurnSoFar, handed_to: str) -> str:
    """The brief of the reply, or the assistant's, and behind it the one that the talk was handed
    to, where it was; with how the talk goes filled in."""
    named = turn.assistant.briefs.get(handed_to)
    briefs = [spec.brief or turn.assistant.brief, named.brief if named is not None else ""]
    told = _told(turn)
    return "\n\n".join(str(compile_template(each).render(told)) for each in briefs if each)


def briefs_offered(turn: TurnSoFar, been: Collection[str]) -> list[Function]:
    """The briefs that the engine may hand the talk to.

    Args:
        been: those that it has, or had for the same question.
    """
    return [
        Function(f"{BRIEF}.{name}", f"hands the talk on: {each.about}", {})
        for name, each in turn.assistant.briefs.items()
        if name not in been
    ]


def _told(turn: TurnSoFar) -> dict[str, Any]:
    """What a brief may ask for: nothing in it is the person's (decision 14)."""
    hours = turn.assistant.hours
    now = turn.clock.astimezone(hours.hours().zone) if hours is not None else turn.clock
    heard = turn.heard
    return {
        "now": now,
        "channel": turn.channel,
        "language": turn.assistant.language,
        "arrived_as": turn.inbound.arrived_as,
        "confidence": round(heard.confidence, 2) if heard is not None else 1.0,
        "aloud": turn.answers_aloud,
        "in_call": turn.in_call,
    }


def facts_of(turn: TurnSoFar) -> dict[str, Any]:
    """What goes to an engine beside the question, as data: the name that the person goes by and
    other readings of what was heard stand between the marks of their words."""
    told = _told(turn)
    heard = turn.heard
    others = [each for each in (heard.alternatives if heard is not None else []) if each.text]
    words = list(dict.fromkeys(each.text for each in others if each.text != turn.text))
    return {
        **{name: told[name] for name in ("channel", "arrived_as", "confidence", "aloud")},
        "attachments": [each.model_dump() for each in turn.sent_files],
        "now": told["now"].isoformat(timespec="minutes"),
        "name": marked(turn.contact_name) if turn.contact_name else "",
        "alternatives": [marked(each) for each in words[:ALTERNATIVES]],
    }


def routes_offered(turn: RoutedTurn) -> list[Function]:
    """The routes that an engine may choose for what no route surely took, the likeliest first."""
    if turn.routed.route != FALLBACK or turn.routed.open is not None:
        return []
    likeliest = turn.router.likeliest(turn.text, OFFERED)
    return [_offered(turn.assistant.route_named(name), turn) for name in likeliest]


def _offered(route: RouteSpec, turn: TurnSoFar) -> Function:
    """A route as a function: what it is for, and its slots."""
    title = route.title or route.route.replace("-", " ")
    like = "; ".join(route.examples[:EXAMPLES])
    about = f"{title}. Chosen for requests such as: {like}" if like else title
    slots = {name: _slot(spec, turn) for name, spec in route.slots.items()}
    return Function(f"{ROUTE}.{route.route}", about[:500], slots)


def _slot(spec: SlotSpec, turn: TurnSoFar) -> Argument:
    rule = turn.assistant.rules.rules.get(spec.rule) if spec.rule else None
    named = [choice.value for choice in spec.choices]
    if not named and rule is not None:
        named = list(dict.fromkeys(worth for _, worth in names_in(rule.body)))
    one_of = tuple(named) if len(named) <= MAX_NAMED else ()
    about = spec.kind or spec.rule.replace("_", " ")
    return Argument("text", f"{about}, as it was said; left out where it was not", False, one_of)
