"""What can be understood here and now, for the recognizer: the routes' examples and rules, the slot
that is asked for, and what is understood in every assistant."""

from __future__ import annotations

from fond_echo.core.caching import Recent
from fond_echo.core.grammar.errors import GrammarError
from fond_echo.core.grammar.model import Reference
from fond_echo.core.grammar.network import network_of
from fond_echo.core.recognition.graph import WordNetwork
from fond_echo.core.recognition.transcript import Expected
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.route import RouteSpec
from fond_echo.turns.turn import TurnSoFar, router_of

MAX_PARTICLE = 3
"""Letters: words of a name that are no longer may be written small, such as of and the."""


def expected_of(turn: TurnSoFar) -> Expected:
    """What the sound of a turn is held against."""
    open_ = turn.state.open
    requested = open_ is not None or turn.state.meant is not None or bool(turn.state.offered)
    requested = requested or bool(turn.state.more)
    choices = tuple(turn.state.choices)
    language = turn.router.language
    answers = language.answers if requested else ()
    phrases = (*turn.router.examples, *language.everywhere, *answers, *choices)
    if turn.in_call and choices:
        # "Press or say one."
        phrases += tuple(
            " ".join(language.numbers.cardinal(number + 1)) for number in range(len(choices))
        )
    hints = turn.router.fixed_words
    route = turn.assistant.route(open_.route) if open_ is not None else None
    if route is not None and open_ is not None and _is_free(route, open_.asking):
        # Anything may be said: it is taken down, and held only against what ends the question.
        return Expected(language.everywhere, hints=hints, sounds=turn.assistant.pronounced)
    references = [Reference(rule) for rule in turn.router.rules]
    if route is not None:
        # While a slot is asked for, any of the route's slots may be said or corrected.
        slots = [spec.slot(name) for name, spec in route.slots.items()]
        references += [slot.reference for slot in slots if not slot.free]
    names = (*filter(_is_name, choices), *turn.assistant.named)
    if not references:
        return Expected(phrases, names, hints=hints, sounds=turn.assistant.pronounced)
    network = _network(turn.revision, turn.assistant, tuple(references), phrases)
    return Expected(phrases, names, network, hints=hints, sounds=turn.assistant.pronounced)


def _is_free(route: RouteSpec, asking: str) -> bool:
    spec = route.slots.get(asking)
    return spec is not None and spec.kind == "text"


def _is_name(choice: str) -> bool:
    """Whether a choice is a name, such as Little Marrow, and no phrase, such as Reserve a cabin."""
    words = choice.split()
    return bool(words) and all(word[:1].isupper() for word in words if len(word) > MAX_PARTICLE)


def understood_by(revision: str, assistant: AssistantFile, *, requested: bool = False) -> Expected:
    """What an assistant understands before anything was said, or where it has asked something."""
    router = router_of(revision, assistant)
    answers = router.language.answers if requested else ()
    phrases = (*router.examples, *router.language.everywhere, *answers)
    references = tuple(Reference(rule) for rule in router.rules)
    if not references:
        return Expected(
            phrases, assistant.named, hints=router.fixed_words, sounds=assistant.pronounced
        )
    network = _network(revision, assistant, references, phrases)
    return Expected(
        phrases, assistant.named, network, hints=router.fixed_words, sounds=assistant.pronounced
    )


_networks: Recent[tuple[object, ...], WordNetwork | None] = Recent(64)


def _network(
    revision: str,
    assistant: AssistantFile,
    references: tuple[Reference, ...],
    phrases: tuple[str, ...],
) -> WordNetwork | None:
    """Made once for a revision and what is asked in it."""
    key = revision, references, phrases
    if key in _networks:
        return _networks[key]
    spoken = router_of(revision, assistant).language.writing.spoken_tokens
    tokens = [tuple(spoken(phrase)) for phrase in phrases]
    try:
        found = network_of(assistant.rules, list(references), tokens)
    except GrammarError:
        # Too large to be heard whole: examples are heard, and what is typed is matched.
        found = None
    _networks.keep(key, found)
    return found
