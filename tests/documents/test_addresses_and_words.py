"""Faults found by trying, each with the test that would have found it: addresses, engines, words."""

import unittest

import fond_echo.engines.order as order_module
from fond_echo.core.dialogue.shaping import speakable, summarized, summary
from fond_echo.core.language.en.goodbyes import says_goodbye
from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.core.language.paragraphs import Stretch, in_sentences
from fond_echo.core.language.registry import language
from fond_echo.core.synthesis.sound import SpokenSound
from fond_echo.documents.connector import read_connector
from fond_echo.documents.editing import with_example
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.source import read_yaml
from fond_echo.engines.order import EngineOrder
from tests.sounds import tone
from tests.support.world import demo_file

ENGLISH = language()


class Addresses(unittest.TestCase):
    def faults(self, address):
        text = demo_file("spindrift.yaml").replace('"{{ base }}/audio/{{ sound }}"', f'"{address}"')
        self.assertIn(address, text)
        try:
            read_connector(text, "feed.yaml")
        except InvalidFile as error:
            return error.errors
        return ()

    def test_a_path_a_part_of_one_and_a_whole_address_are_told_apart(self):
        for right in ("{{ base }}/audio/{{ sound }}", "{{ base }}{{ sound | path }}", "{{ sound }}",
                      "{{ base }}/{{ sound | path }}", "{{ base }}/a?b={{ sound }}"):  # fmt: skip
            self.assertEqual(self.faults(right), (), right)
        (fault,) = self.faults("{{ base }}{{ sound }}")
        self.assertIn("part of the host", fault.what)
        self.assertIn("{{ sound | path }}", fault.remedy)
        self.assertEqual(fault.line, 23)


class Editing(unittest.TestCase):
    def added(self, examples):
        text = f"routes:\n  - route: fares\n    examples:\n{examples}    reply: {{text: x}}\n"
        before = read_yaml(text, "a").value["routes"][0]
        after = read_yaml(with_example(text, "fares", "How much?"), "a").value["routes"][0]
        self.assertEqual(after["examples"], [*before["examples"], "How much?"])
        self.assertEqual(after["reply"], before["reply"])

    def test_behind_what_is_written_over_several_lines(self):
        for examples in (
            "      - one\n",
            "      - one\n        and more of it\n",
            "      - one\n      - 'two\n        lines'\n",
            '      - "two\n        lines"  # a remark\n',
            "      - >-\n        folded\n        text\n\n",
            "      - |\n        kept\n        as it is\n",
            "      - one  # a remark\n\n      # another\n",
        ):
            with self.subTest(examples):
                self.added(examples)


class Words(unittest.TestCase):
    def test_an_address_leaves_the_sign_behind_it(self):
        for text, said in (
            ("See https://tern.example/map. Bring a coat.", "See. Bring a coat."),
            ("Is it https://a.example?", "Is it?"),
            ("(https://a.example/x) Yes.", "() Yes."),
            ("Look <https://a.example/x>, then go.", "Look, then go."),
            ("https://a.example/a.b?c=d rest", "rest"),
        ):
            self.assertEqual(speakable(text), said)

    def test_a_heading_ends_a_sentence(self):
        self.assertEqual(
            speakable("# Opening hours\nWe open at nine."), "Opening hours. We open at nine."
        )

    def test_a_summary_keeps_what_is_to_be_done_and_tells_what_it_leaves_out(self):
        text = (
            "Thank you so much for your patience. First turn the gas off. Your code is 4471. "
            "We hope you had a lovely day. Do not go back into the house. It is a big red house."
        )
        kept, left = summarized(text, 3, ENGLISH)
        self.assertEqual(
            kept,
            ["First turn the gas off.", "Your code is 4471.", "Do not go back into the house."],
        )
        self.assertEqual(len(left), 3)
        self.assertEqual(summary(text, 3, ENGLISH), " ".join(kept))

    def test_goodbyes_in_free_words(self):
        for text in ("I have all I need, thanks.", "I think I've got everything I came for.", "You've been very helpful.",
                     "Until next time.", "There's nothing else I need to know."):  # fmt: skip
            self.assertTrue(says_goodbye(spoken_tokens(text)), text)
        for text in ("What do I need?", "I have all day.", "You have been wrong twice", "Take care of my dog",
                     "That is clear.", "I need everything you have on boats"):  # fmt: skip
            self.assertFalse(says_goodbye(spoken_tokens(text)), text)

    def test_one_segment_of_many_sentences_is_split(self):
        whole = Stretch("The boat is late. We wait. Tell the harbour office at nine.", 10.0, 20.0)
        parts = in_sentences(whole, ENGLISH.writing.sentences_of)
        self.assertEqual([each.text for each in parts],
                         ["The boat is late.", "We wait.", "Tell the harbour office at nine."])  # fmt: skip
        self.assertEqual((parts[0].start, parts[-1].end), (10.0, 20.0))
        self.assertEqual(in_sentences(parts[0], ENGLISH.writing.sentences_of), [parts[0]])


class Engines(unittest.IsolatedAsyncioTestCase):
    async def said(self, text, breaks_after, error):
        said = []

        class Broken:
            async def speak(self, text, voice, **_):
                words = text.split()
                yield SpokenSound(tone(0.1), " ".join(words[:breaks_after]))
                raise error

        class Whole:
            async def speak(self, text, voice, **_):
                said.append(text)
                yield SpokenSound(tone(0.1), text)

        engines = {"pier": Broken(), "built-in": Whole()}
        order = EngineOrder({"speak": ["pier", "built-in"]}, {}, lambda kind, name: engines[name])
        async for _ in order.speak(text, "tern", "en", {"seed": 1}):
            pass
        return said

    async def test_what_was_not_said_is_said_by_the_next_whatever_was_raised(self):
        text = "The boats leave at four, at five and at six. Bring a coat."
        for error in (ValueError("no"), OSError("gone"), KeyError("x"), RuntimeError("odd")):
            self.assertEqual(await self.said(text, 7, error), ["and at six. Bring a coat."])
        self.assertEqual(await self.said("At 16:10 we sail. Come early.", 2, ValueError()),
                         ["we sail. Come early."])  # fmt: skip

    def test_nothing_is_left_where_all_was_said(self):
        self.assertEqual(order_module._after("One. Two.", "one two", "en"), "")
        self.assertEqual(order_module._after("One. Two.", "", "en"), "One. Two.")
