"""Routes beside a free answer: what surely belongs is taken, everything else is left to it."""

from __future__ import annotations

import unittest
from datetime import UTC, datetime

from fond_echo.core.dialogue.deciding import Dialogue, Said
from fond_echo.core.dialogue.evidence import NAMES, WEIGHTS
from fond_echo.core.dialogue.outcomes import DID_YOU_MEAN, FALLBACK
from fond_echo.core.dialogue.routing import Route, Router
from fond_echo.core.dialogue.slots import Slot

MILL = (
    Route("directions", ("How do I find the mill?", "How do I get to the mill?", "Where are you?")),
    Route("picture", ("Show me a picture of the mill", "Send me a photo", "What does it look like?")),
    Route("tickets", ("How much is a ticket?", "What does it cost to get in?", "ticket price")),
    Route("boats", ("I want to book a boat", "Reserve a boat for me", "rent a boat"), key="4"),
)  # fmt: skip


def mill(**settings: object) -> Router:
    return Router(MILL, free=True, **settings)  # type: ignore[arg-type]


def _any_value(slot: str, value: object, others: object) -> str:
    """Every value of a slot is possible."""
    return ""


class FreeRoutes(unittest.TestCase):
    def test_what_belongs_is_taken(self) -> None:
        for text, route in (
            ("how do I find the mill", "directions"),
            ("could you show me a picture of the mill", "picture"),
            ("how much does a ticket cost", "tickets"),
            ("how can I get to the mill from town", "directions"),
        ):
            self.assertEqual(mill().decide(text).route, route, text)

    def test_meaning_that_no_example_has_counts_against_a_route(self) -> None:
        for text in (
            "How do I find a good doctor?",
            "Who founded the shed?",
            "how much does a miller earn",
            "why is the sky blue",
            "can you show me how to bake bread",
            "where are you from, doctor",
        ):
            self.assertEqual(mill().decide(text).route, FALLBACK, text)

    def test_an_unsure_route_is_asked_about_only_where_that_is_set(self) -> None:
        text = "do I have to book the mill"
        likely = mill().scores(mill().said(text))[0]
        self.assertGreater(likely.confidence, 0.02)
        self.assertEqual(mill().decide(text).route, FALLBACK)
        text = "is there a picture of a boat"
        self.assertEqual(mill(min_confidence=0.99).decide(text).route, FALLBACK)
        asks = mill(min_confidence=0.99, if_unsure="ask").decide(
            "could you show me a picture of the mill"
        )
        self.assertEqual((asks.route, asks.requested), (DID_YOU_MEAN, ("picture",)))

    def test_a_route_s_own_setting_goes_first(self) -> None:
        text = "could you show me a picture of the mill"
        routes = [
            Route(each.name, each.examples, min_confidence=0.99 if each.name == "picture" else None)
            for each in MILL
        ]
        router = Router(routes, free=True, min_confidence=0.3)
        self.assertEqual(router.decide(text).route, FALLBACK)
        self.assertEqual((router.needed("picture"), router.needed("boats")), (0.99, 0.3))
        asked = [Route(r.name, r.examples, min_confidence=0.99, if_unsure="ask") for r in MILL]
        self.assertEqual(Router(asked, free=True).decide(text).route, DID_YOU_MEAN)

    def test_without_a_free_answer_it_is_asked_about_as_before(self) -> None:
        found = Router(MILL).decide("the boat there over")
        self.assertEqual(found.route, DID_YOU_MEAN)
        self.assertEqual(found.requested, ("boats",))

    def test_the_likeliest_are_offered_and_others_fill_up(self) -> None:
        self.assertEqual(mill().likeliest("a photo of the boat", 2)[0], "picture")
        self.assertEqual(len(mill().likeliest("hm", 10)), len(MILL))

    def test_likelihoods_leave_room_for_none(self) -> None:
        scores = mill().scores(mill().said("could you show me a picture of the mill"))
        self.assertLessEqual(sum(each.confidence for each in scores), 1.001)
        self.assertEqual(set(WEIGHTS), set(NAMES))

    def test_misheard_words_are_compared_by_sound(self) -> None:
        text = "how much is a tikket"
        typed, heard = (mill().scores(mill().said(text), heard=how)[0] for how in (False, True))
        self.assertEqual((typed.route, heard.route), ("tickets", "tickets"))


class BesideAnOpenSlot(unittest.TestCase):
    def dialogue(self, free: bool) -> Dialogue:
        router = Router(MILL, free=free)
        slots = {"boats": [Slot("day", "builtin:date"), Slot("hour", "builtin:time")]}
        now = datetime(2026, 5, 4, tzinfo=UTC)
        return Dialogue(router, lambda name: slots.get(name, []), now, lambda name: _any_value)

    def test_another_question_is_answered_and_the_slot_stays_open(self) -> None:
        asked = self.dialogue(free=True).understand(Said("I want to book a boat"), None)
        self.assertEqual((asked.outcome, asked.slot), ("ask", "day"))
        aside = self.dialogue(free=True).understand(Said("who founded the old mill"), asked.open)
        self.assertEqual((aside.decision.route, aside.outcome), (FALLBACK, "reply"))
        self.assertEqual(aside.open, asked.open)

    def test_what_is_no_question_is_asked_again(self) -> None:
        for free, text in ((True, "well the green one"), (False, "who is the oldest sailor")):
            asked = self.dialogue(free=free).understand(Said("I want to book a boat"), None)
            again = self.dialogue(free=free).understand(Said(text), asked.open)
            self.assertEqual((again.outcome, again.slot), ("ask", "day"), text)
            self.assertTrue(again.asked_again)
