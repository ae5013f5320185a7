"""Slots asked for, corrected, confirmed and given up; intents of every assistant; pages."""

import unittest
from datetime import datetime

from fond_echo.core.dialogue.deciding import Dialogue, Meant, Said
from fond_echo.core.dialogue.documents import Documents, passages_of
from fond_echo.core.dialogue.routing import Route, Router
from fond_echo.core.dialogue.slots import Slot
from fond_echo.core.grammar.abnf import read_abnf
from fond_echo.core.language.en import LANGUAGE as ENGLISH
from fond_echo.core.language.en import letters
from fond_echo.core.language.en.intents import intent_of
from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.core.language.en.values import builtin_grammar
from fond_echo.core.language.sounding import sound_likeness

GRAMMAR = """#ABNF 1.0;
$island = Brannick {Brannick} | Pell {Pell} | Ossel {Ossel};
$book = book [a | $<builtin:number>] bicycle (place | places) [to $island] [$<builtin:date>];
"""
ROUTES = (
    Route("book", ("I want to take my bicycle",), "bicycle", "2", "book"),
    Route("fares", ("How much is a ticket?", "What are the fares?"), "fares", "3"),
    Route("cancel", ("Cancel my booking",), title="Cancel a booking"),
)
SLOTS = {
    "book": (
        Slot("island", "island", keys={"1": "Brannick"}),
        Slot("day", "builtin:date"),
        Slot("places", "builtin:number", confirm=True),
    )
}


def judge(route):
    return lambda name, value, others: "Six at most." if name == "places" and value > 6 else ""


class Talk:
    """A conversation with the dialogue; keeps what is open."""

    def __init__(self):
        grammar = read_abnf(GRAMMAR, {"builtin:": builtin_grammar()})
        now = datetime(2026, 11, 25, 14, 0)
        router = Router(ROUTES, grammar)
        self.dialogue = Dialogue(router, lambda route: SLOTS.get(route, ()), now, judge)
        self.open = self.meant = None

    def say(self, text, **said):
        found = self.dialogue.understand(Said(text, **said), self.open, self.meant)
        self.open, self.meant = found.open, found.meant
        return found


class Slots(unittest.TestCase):
    def say(self, *turns):
        """(what is said, outcome, slot asked for) in turn; the last that was understood."""
        talk = Talk()
        for text, outcome, slot in turns:
            found = talk.say(text)
            self.assertEqual((text, found.outcome, found.slot), (text, outcome, slot))
        return found

    def test_asked_for_one_by_one(self):
        found = self.say(
            ("I want to take my bicycle", "ask", "island"), ("to Pell please", "ask", "day"),
            ("tomorrow", "ask", "places"), ("two", "confirm", ""), ("yes, that's right", "reply", ""),
        )  # fmt: skip
        self.assertEqual(found.slots, {"island": "Pell", "day": "2026-11-26", "places": 2})
        self.assertEqual(found.decision.route, "book")

    def test_several_at_once_from_a_rule_or_from_an_answer(self):
        found = self.say(("book two bicycle places to Pell on Friday", "confirm", ""))
        self.assertEqual(found.slots["places"], 2)
        found = self.say(
            ("book a bicycle place", "ask", "island"), ("three to Ossel tomorrow", "confirm", "")
        )
        self.assertEqual(found.slots, {"island": "Ossel", "day": "2026-11-26", "places": 3})

    def test_corrected(self):
        found = self.say(
            ("book two bicycle places to Pell on Friday", "confirm", ""), ("no, Ossel", "confirm", ""),
            ("actually on Saturday", "confirm", ""), ("no", "ask", "places"), ("four", "confirm", ""),
        )  # fmt: skip
        self.assertEqual(found.slots, {"island": "Ossel", "day": "2026-11-28", "places": 4})
        found = self.say(
            ("book a bicycle place to Pell", "ask", "day"), ("no, I meant Ossel", "ask", "day")
        )
        self.assertEqual(found.slots, {"island": "Ossel"})

    def test_refused_with_a_reason_and_asked_again(self):
        talk = Talk()
        for text in ("book nine bicycle places to Pell tomorrow", "eight"):
            found = talk.say(text)
            self.assertEqual((found.outcome, found.why), ("refused", "Six at most."))
        self.assertEqual(found.slots, {"island": "Pell", "day": "2026-11-26"})
        self.assertEqual(talk.say("seven").outcome, "given-up")

    def test_other_words_each_time_then_given_up(self):
        talk = Talk()
        self.assertEqual(talk.say("book a bicycle place").open.tries, 0)
        self.assertEqual(talk.say("the green one").open.tries, 1)
        self.assertEqual(talk.say("hm").open.tries, 2)
        found = talk.say("what")
        self.assertEqual((found.outcome, found.open), ("given-up", None))

    def test_left_for_another_route_or_altogether(self):
        talk = Talk()
        talk.say("book a bicycle place")
        self.assertEqual(talk.say("how much is a ticket").decision.route, "fares")
        talk.say("book a bicycle place")
        self.assertEqual(talk.say("never mind").outcome, "never-mind")
        self.assertIsNone(talk.open)
        talk.say("book a bicycle place")
        self.assertEqual(talk.say("fares", command=True).decision.by, "command")
        talk.say("book a bicycle place")
        self.assertEqual(talk.say("a person please").outcome, "operator")

    def test_keys_and_once_more(self):
        talk = Talk()
        self.assertEqual(talk.say("", key="2").slot, "island")
        self.assertEqual(talk.say("say that again").slot, "island")
        self.assertEqual(talk.say("", key="1").slots, {"island": "Brannick"})

    def test_the_key_that_chose_the_route_fills_none_of_its_slots(self):
        numbers = {"book": (Slot("places", "builtin:number"), Slot("island", "island"))}
        talk = Talk()
        talk.dialogue._slots = lambda route: numbers.get(route, ())
        found = talk.say("2", key="2")
        self.assertEqual((found.outcome, found.slot, dict(found.slots)), ("ask", "places", {}))
        found = talk.say("3", key="3")
        self.assertEqual(found.slots, {"places": 3}, "a key that is pressed for the slot does")

    def test_cancel_belongs_to_the_route_that_means_it(self):
        self.assertEqual(Talk().say("cancel my booking").decision.route, "cancel")
        self.assertEqual(Talk().say("stop").outcome, "never-mind")


class DidYouMean(unittest.TestCase):
    def test_the_question_is_answered_in_any_way(self):
        for said, how in (("yes", {}), ("", {"choice": "book"})):
            talk = Talk()
            talk.meant = Meant(("book",), "bicycle to Pell")
            found = talk.say(said, **how)
            self.assertEqual((found.outcome, found.slots), ("ask", {"island": "Pell"}))
        talk = Talk()
        talk.meant = Meant(("book",), "bicycle to Pell")
        found = talk.say("no")
        self.assertEqual((found.outcome, found.declined), ("never-mind", "bicycle to Pell"))
        talk.meant = Meant(("book", "fares"), "bicycle to Pell")
        self.assertEqual(talk.say("no").declined, "bicycle to Pell")
        talk.meant = Meant(("book",), "bicycle to Pell")
        self.assertEqual(talk.say("what are the fares").decision.route, "fares")


class Intents(unittest.TestCase):
    GOODBYES = (
        "bye", "okay, bye then", "thanks, goodbye", "that's all, thank you", "no, that's everything",
        "great, thanks a lot, bye bye", "see you later", "have a nice day", "that will be all for now",
        "nothing else, thank you very much", "I'm done, thanks", "right, I have to go", "cheers, bye",
        "thank you, good night", "no thanks, I'm fine", "alright, talk to you later", "that's it, thank you",
        "ok perfect, that's all I needed", "you can hang up now", "lovely, take care",
        "thanks a million, bye", "i think that's everything from my side", "i'll say goodbye now",
        "we have no other questions", "see you on Friday", "enjoy the rest of your day",
    )  # fmt: skip
    NOT = (
        "when is the last boat", "good evening", "thanks", "how do I get back later", "is that all you have",
        "what time do you close for the night", "I need to go to Pell", "have a look at my booking",
        "can I see you tomorrow about my bag", "the end of the pier", "no", "I left my bag on the boat",
        "is there nothing else to Brannick tonight", "good morning", "hello there", "one more question",
        "that's all right", "how do i say goodbye in French", "see you on the boat, which one", "hold on",
        "I have to go to Brannick", "have a seat for me", "leave it on the boat", "",
    )  # fmt: skip

    def test_goodbyes_and_what_is_none(self):
        for text in self.GOODBYES:
            self.assertEqual(intent_of(spoken_tokens(text)), "goodbye", text)
        for text in self.NOT:
            self.assertNotEqual(intent_of(spoken_tokens(text)), "goodbye", text)

    def test_the_others(self):
        for text, intent in (
            ("Could you put me through to an operator, please", "operator"),
            ("I want to talk to a real person", "operator"), ("no, never mind", "never-mind"),
            ("pardon?", "again"), ("forget everything about me", "forget-me"),
            ("what do you know about me?", "about-me"), ("undo that", "undo"),
            ("which person is in charge of the boat", None), ("", None),
        ):  # fmt: skip
            self.assertEqual(intent_of(spoken_tokens(text)), intent, text)


class Handbook(unittest.TestCase):
    PAGE = (
        "# Animals\n\n## Dogs\n\nDogs travel free, on a lead.\n\n## Livestock\n\n"
        "Sheep sail in the morning.\nRing two days before.\n\n- one\n- two\n"
    )

    def test_passages_have_their_headings(self):
        found = passages_of("book/animals.md", self.PAGE, ENGLISH)
        self.assertEqual([each.heading for each in found], ["Dogs", "Livestock", "Livestock"])
        self.assertEqual(found[0].source, "animals, Dogs")
        long = passages_of("a.md", "# A\n\n" + "A sentence of some length here. " * 60, ENGLISH)
        self.assertTrue(all(len(each.text) <= 900 for each in long))

    def test_answers_and_none(self):
        pages = Documents({"book/animals.md": self.PAGE, "book/empty.md": ""})
        self.assertIn("on a lead", pages.best("Can I bring my dog?").passage.text)
        self.assertIn("Sheep", pages.best("do you carry sheep").passage.text)
        for text in ("What is the capital of France?", "", "how old are you"):
            self.assertIsNone(pages.best(text), text)
        self.assertIsNone(Documents({}).best("dogs"))


class Sounds(unittest.TestCase):
    def test_what_sounds_alike(self):
        self.assertGreater(sound_likeness("boat", "bote", letters), 0.9)
        self.assertGreater(sound_likeness("pell", "bell", letters), 0.8)
        self.assertLess(sound_likeness("pell", "brannick", letters), 0.5)
