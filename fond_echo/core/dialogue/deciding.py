"""What a turn means: an intent of every assistant, a step of an open dialogue, or a route.

The order is decision 13's: a command; goodbye or a person; what belongs to the open dialogue (never
mind, once more, the slot's value); another route, above a higher threshold while a slot is asked
for; the default.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from datetime import datetime
from typing import Any, Literal

from fond_echo.core.dialogue.hours import Hours
from fond_echo.core.dialogue.outcomes import DID_YOU_MEAN, FALLBACK
from fond_echo.core.dialogue.routing import EXACT, HIGHER, Decision, Router
from fond_echo.core.dialogue.slots import Judge, Open, Slot, SlotMachine, Step
from fond_echo.core.grammar.match import Value, match
from fond_echo.core.language.language import Intent

Outcome = Literal[
    "reply", "ask", "confirm", "refused", "given-up", "did-you-mean", "did-you-say",
    "say-again", "menu", "goodbye", "operator",
    "recorded", "closed", "which-half",
    "never-mind", "again", "more", "redo", "undo", "start-over", "forget-me", "about-me",
    "stop-writing", "write-again",
]  # fmt: skip


@dataclass(frozen=True)
class Said:
    """What came in.

    Attributes:
        nearest: what of all that is expected it may have been, where it was not heard surely: one
            phrase, or two, the likelier first.
    """

    text: str
    command: bool = False
    choice: str = ""
    key: str = ""
    heard_surely: bool = True
    nearest: tuple[str, ...] = ()


@dataclass(frozen=True)
class Meant:
    """Routes that were asked about, and the words that they were asked about for."""

    routes: tuple[str, ...]
    text: str


@dataclass(frozen=True)
class Understood:
    """What a turn means.

    Attributes:
        decision: the route, and why.
        outcome: what is to be said: the route's reply, or something of the dialogue.
        slots: the values there are.
        open: the dialogue that goes on with the next turn; None where there is none.
        slot: that is asked for; `why` its value was refused.
        meant: what is asked about.
        offered: the phrases that one is asked about: did you say …?
            With the default answer it stays open beside a question that has nothing to do with it.
        asked_again: nothing that was said belongs to the open dialogue.
        declined: the question for which the routes that were asked about are not what was meant.
    """

    decision: Decision
    outcome: Outcome = "reply"
    slots: Mapping[str, Any] = field(default_factory=dict)
    open: Open | None = None
    slot: str = ""
    why: str = ""
    meant: Meant | None = None
    offered: tuple[str, ...] = ()
    asked_again: bool = False
    declined: str = ""


class Dialogue:
    """Understands turns of one assistant.

    Args:
        router: its routes.
        slots: the slots of each route, in the order in which they are asked for.
        now: what relative dates and times are meant from.
        judge: for a route, whether a slot's value is possible.
        hours: when somebody is there, where that is known.
    """

    def __init__(
        self,
        router: Router,
        slots: Callable[[str], Sequence[Slot]],
        now: datetime,
        judge: Callable[[str], Judge],
        hours: Hours | None = None,
    ) -> None:
        self._hours = hours
        self._router = router
        self._language = router.language
        self._spoken = router.said
        self._slots = slots
        self._now = now
        self._judge = judge

    def understand(
        self,
        said: Said,
        open_: Open | None,
        meant: Meant | None = None,
        offered: tuple[str, ...] = (),
        *,
        more: bool = False,
    ) -> Understood:
        """What a turn means, with the dialogue that is open, what was asked about, and the phrases
        that were offered. Phrases are offered once: not again for the answer to an offer.

        Args:
            more: somebody was asked whether to go on with a long answer.
        """
        if more and (answer := self._of_more(said)) is not None:
            return answer
        if offered:
            answer = self._of_offer(said, offered, open_, meant)
            if answer is not None:
                return answer
            said = replace(said, nearest=())
        found = self._understood(said, open_, meant)
        decision = found.decision
        doubted = decision.route == FALLBACK and not decision.sure
        if said.nearest and (doubted or found.asked_again):
            why = f"it may have been {' or '.join(map(repr, said.nearest))}"
            doubt = replace(decision, sure=False, because=f"{decision.because}; {why}")
            return Understood(
                doubt, "did-you-say", found.slots, open_, meant=meant, offered=said.nearest
            )
        return found

    def _of_more(self, said: Said) -> Understood | None:
        """Whether to go on with a long answer; None where something else was said."""
        tokens = self._spoken(said.text)
        parse = match(self._language.types.builtin_grammar(), "boolean", list(tokens))
        wants = self._language.intent_of(tokens) == "more"
        if parse is None and not wants:
            return None
        outcome: Outcome = "never-mind" if parse is not None and parse.literal == "no" else "more"
        return Understood(Decision(FALLBACK, "intent", True, "there was more to say"), outcome)

    def _of_offer(
        self, said: Said, offered: tuple[str, ...], open_: Open | None, meant: Meant | None
    ) -> Understood | None:
        """What an answer to an offer means: the phrase that was offered, as if it had been said, or
        that it was none. None where something else was said."""
        phrase = said.choice if said.choice in offered else ""
        parse = match(self._language.types.builtin_grammar(), "boolean", self._spoken(said.text))
        if not phrase and parse is not None:
            if parse.literal == "no" or len(offered) > 1:
                decision = Decision(FALLBACK, "fallback", True, "it was not what was offered")
                return Understood(decision, "say-again", open=open_, meant=meant)
            phrase = offered[0]
        if not phrase:
            return None
        return self._understood(Said(phrase), open_, meant)

    def _understood(self, said: Said, open_: Open | None, meant: Meant | None) -> Understood:
        tokens = self._spoken(said.text)
        if said.command:
            decision = self._router.decide(said.text, command=True)
            if decision.by == "command":
                return self._begin(decision, [], replace(said, text=decision.rest))
        intent = None if said.choice or said.key else self._language.intent_of(tokens)
        if intent is not None and not self._meant_by_a_route(intent, tokens):
            found = self._intent(intent, open_)
            if found is not None:
                return found
        if meant is not None:
            chosen = self._chosen(said, tokens, meant)
            if chosen is not None:
                return chosen
        if open_ is not None:
            return self._go_on(said, tokens, open_)
        decision = self._router.decide(
            said.text, choice=said.choice, key=said.key, heard_surely=said.heard_surely
        )
        if said.key and decision.route == FALLBACK:
            because = f"the key {said.key} is not on the menu"
            return Understood(replace(decision, because=because), "menu")
        if decision.route == DID_YOU_MEAN:
            requested = Meant(decision.requested, said.text)
            return Understood(decision, "did-you-mean", meant=requested)
        return self._begin(decision, tokens, said)

    def _meant_by_a_route(self, intent: Intent, tokens: Sequence[str]) -> bool:
        """Whether the assistant's own routes claim the words: word for word; for "cancel" and the
        like, a likely route is enough."""
        scores = self._router.scores(tokens)
        if not scores:
            return False
        likely = intent == "never-mind" and scores[0].confidence >= HIGHER
        return likely or scores[0].score >= EXACT

    def _intent(self, intent: Intent, open_: Open | None) -> Understood | None:
        route = open_.route if open_ else FALLBACK
        decision = Decision(route, "intent", True, f"matched the built-in intent {intent}")
        if intent == "again" and open_ is not None:
            step = Step("confirm" if open_.confirming else "ask", open_, open_.asking)
            return self._of_step(decision, step)
        return Understood(decision, intent)

    def _chosen(self, said: Said, tokens: Sequence[str], meant: Meant) -> Understood | None:
        route = said.choice if said.choice in meant.routes else ""
        parse = match(self._language.types.builtin_grammar(), "boolean", list(tokens))
        if not route and parse is not None and parse.literal == "no":
            decision = Decision(FALLBACK, "fallback", True, "it was not what was meant")
            return Understood(decision, "never-mind", declined=meant.text)
        if not route and parse is not None and len(meant.routes) == 1:
            route = meant.routes[0]
        if not route:
            return None
        decision = Decision(route, "choice", True, f"it was asked about for {meant.text!r}")
        return self._begin(decision, self._spoken(meant.text), said)

    def _go_on(self, said: Said, tokens: Sequence[str], open_: Open) -> Understood:
        machine = self._machine(open_.route, said.text)
        step = machine.go_on(open_, tokens, said.key)
        words = f"the question about {open_.asking or 'what was read back'} is open"
        decision = Decision(open_.route, "slot", True, words)
        if step.outcome != "elsewhere":
            return self._of_step(decision, step)
        other = self._router.decide(
            said.text,
            choice=said.choice,
            key=said.key,
            heard_surely=said.heard_surely,
            above=HIGHER,
        )
        if other.route not in (FALLBACK, DID_YOU_MEAN, open_.route):
            return self._begin(other, tokens, said)
        if self._router.free and self._asks_something(tokens, said):
            because = f"{words}, and this is another question"
            aside = Decision(FALLBACK, "fallback", True, because, other.scores)
            return Understood(aside, "reply", open=open_, slot=open_.asking)
        again = machine.again(open_)
        because = f"{words}, and this does not answer it"
        found = self._of_step(replace(decision, because=because, scores=other.scores), again)
        return replace(found, asked_again=True)

    def _asks_something(self, tokens: Sequence[str], said: Said) -> bool:
        """Whether words are surely a question, and no wish."""
        kind = self._language.wording.kind_of_question(tokens)
        return said.heard_surely and len(tokens) > 2 and kind not in ("", "wish", "service")

    def begin(self, route: str, slots: Mapping[str, Any], text: str, because: str) -> Understood:
        """A route that somebody else chose for what was said, with the values of slots that they
        gave: a value is read as if it had been said.

        Args:
            text: what was said.
        """
        decision = Decision(route, "engine", True, because)
        if not self._slots(route):
            return Understood(decision)
        given = {name: str(value) for name, value in slots.items() if value is not None}
        return self._of_step(decision, self._machine(route, text).begin_with(route, given))

    def _begin(self, decision: Decision, tokens: Sequence[str], said: Said) -> Understood:
        if not self._slots(decision.route):
            return Understood(decision)
        if decision.by == "key":
            # It chose the route, and says nothing of what the route needs.
            tokens = []
        machine, values = self._machine(decision.route, said.text), decision.values
        if decision.by == "command" and decision.rest:
            # What stands behind a command is for its slots: all of it where one takes free words.
            free = next((each for each in self._slots(decision.route) if each.free), None)
            tokens = self._spoken(decision.rest)
            if free is not None:
                values = (Value(free.name, tuple(tokens), decision.rest),)
        step = machine.begin(decision.route, tokens, values)
        return self._of_step(decision, step)

    def _machine(self, route: str, text: str) -> SlotMachine:
        return SlotMachine(
            self._slots(route),
            self._router.grammar,
            self._now,
            self._judge(route),
            text,
            self._language,
            self._hours,
        )

    def _of_step(self, decision: Decision, step: Step) -> Understood:
        slots = {name: each.value for name, each in step.open.filled.items()}
        match step.outcome:
            case "ready":
                return Understood(decision, "reply", slots)
            case "given-up":
                return Understood(decision, "given-up", slots, slot=step.slot)
            case "ask" | "confirm" | "refused" | "which-half":
                return Understood(decision, step.outcome, slots, step.open, step.slot, step.why)
        raise AssertionError(step.outcome)
