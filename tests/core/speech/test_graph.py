"""Networks of words and their graphs of phonemes; and where one utterance ends and the next begins
in a sound that goes on."""

import itertools
import unittest

import numpy as np

from fond_echo.core.audio.clip import join
from fond_echo.core.recognition.features import BANDS, Normalizer
from fond_echo.core.recognition.graph import FILLER, WordNetwork, phoneme_graph
from fond_echo.core.recognition.hearing import (
    CARRIED,
    TOGETHER,
    TOGETHER_OF_FILES,
    Hearing,
    Utterance,
)
from fond_echo.core.recognition.network import SCALE, STRIDE, NetworkStream, unpacked
from fond_echo.core.recognition.symbols import SYMBOLS
from fond_echo.core.recognition.tree import pronunciations_of
from fond_echo.speech.material import lexicon, recognizer
from tests.core.speech.test_features import random_network
from tests.sounds import noise, speech


def paths(network, node=0):
    """Every utterance of a network without loops."""
    found = [()] if node in network.finals else []
    for start, end, word in network.arcs:
        if start == node:
            found += [(word, *rest) for rest in paths(network, end)]
    return found


class Words(unittest.TestCase):
    PHRASES = (("book", "a", "table"), ("book", "a", "room"), ("book",), ("no",))

    def test_phrases_share_their_beginnings(self):
        network = WordNetwork.of_phrases(self.PHRASES, around=False)
        self.assertEqual(sorted(paths(network)), sorted(self.PHRASES))
        self.assertEqual(sum(word == "book" for *_, word in network.arcs), 1)

    def test_with_anything_around(self):
        network = WordNetwork.of_phrases(self.PHRASES)
        said = set(paths(network))
        for phrase in self.PHRASES:
            for before in ((), (FILLER,)):
                for after in ((), (FILLER,)):
                    self.assertIn((*before, *phrase, *after), said)
        self.assertNotIn((FILLER,), said)
        self.assertEqual(len(said), 4 * len(self.PHRASES))

    def test_the_same_twice_is_there_once_and_nothing_is_nothing(self):
        network = WordNetwork.of_phrases([("yes",), ("yes",), ()], around=False)
        self.assertEqual(paths(network), [("yes",)])
        self.assertEqual(WordNetwork.of_phrases([], around=False).arcs, ())


class Phonemes(unittest.TestCase):
    def spelled(self, graph):
        """Every utterance of the graph as phonemes and words."""
        names = {number: name for name, number in SYMBOLS.items()}
        found = []

        def walk(place, sounds, words):
            sounds = (*sounds, names.get(int(graph.symbols[place]), FILLER))
            if graph.words[place] >= 0:
                words = (*words, graph.vocabulary[graph.words[place]])
            if graph.final[place]:
                found.append((sounds, words))
            for k in range(graph.first[place], graph.first[place + 1]):
                walk(int(graph.after[k]), sounds, words)

        for place in np.flatnonzero(graph.initial):
            walk(int(place), (), ())
        return found

    def test_every_way_to_say_a_word_leads_on(self):
        network = WordNetwork.of_phrases([("either", "boat")], around=False)
        said = self.spelled(phoneme_graph(network, lexicon()))
        self.assertEqual({words for _, words in said}, {("either", "boat")})
        self.assertEqual(
            len(said),
            len(pronunciations_of("either", lexicon())) * len(pronunciations_of("boat", lexicon())),
        )
        self.assertIn(("IY", "DH", "ER", "B", "OW", "T"), [sounds for sounds, _ in said])

    def test_a_word_begins_once_and_ends_once(self):
        graph = phoneme_graph(WordNetwork.of_phrases([("two", "boats")]), lexicon())
        self.assertEqual(int(graph.starts.sum()), int((graph.words >= 0).sum()))
        self.assertEqual(graph.first[-1], len(graph.after))

    def test_what_cannot_be_said_is_anything(self):
        graph = phoneme_graph(WordNetwork.of_phrases([("…",)], around=False), lexicon())
        self.assertEqual(graph.symbols.tolist(), [-1])

    def test_an_arc_may_lead_back(self):
        network = WordNetwork(((0, 1, "two"), (1, 1, "two")), frozenset([1]))
        graph = phoneme_graph(network, lexicon())
        self.assertTrue(graph.final.any())
        self.assertEqual(int(graph.initial.sum()), len(pronunciations_of("two", lexicon())))
        last = np.flatnonzero(graph.words >= 0)[-1]
        self.assertIn(last - 1, graph.after[graph.first[last] : graph.first[last + 1]])


class Packed(unittest.TestCase):
    def test_whole_numbers_are_multiplied_by_the_scale_of_their_output(self):
        made = unpacked(
            {"a": np.array([[1, -2], [3, 4]], np.int8), "a" + SCALE: np.array([0.5, 2.0]),
             "b": np.array([7.0])}
        )  # fmt: skip
        self.assertEqual(sorted(made), ["a", "b"])
        np.testing.assert_allclose(made["a"], [[0.5, -1.0], [6.0, 8.0]])
        self.assertEqual(made["a"].dtype, np.float32)

    def test_what_was_fed_and_has_not_come_out(self):
        stream = NetworkStream(random_network()[0])
        rng = np.random.default_rng(3)
        fed = given = 0
        for count in (1, 7, 40, 3, 90):
            given += len(stream.feed(rng.normal(0, 1, (count, BANDS)).astype(np.float32)))
            fed += count
            self.assertEqual(stream.held, fed - STRIDE * given)
            self.assertLess(stream.held, CARRIED)
        stream.feed(np.zeros((0, BANDS), np.float32), last=True)
        self.assertLessEqual(stream.held, 0)


class GoingOn(unittest.TestCase):
    """Nothing of what is said after a pause may be lost, however short it was."""

    FIRST, SECOND = "Where can I park near the harbour?", "Could you speak more slowly please?"

    def heard(self, seconds, together, hiss=0.002):
        pause = noise(seconds, level=hiss)
        lead = noise(0.8, level=hiss)
        sound = join([lead, speech(self.FIRST, "tern"), pause, speech(self.SECOND, "tern"), lead])
        hearing = Hearing(recognizer(), together=together)
        found = []
        for start in range(0, len(sound), 1_600):
            found += hearing.feed(sound.samples[start : start + 1_600])
        return [
            each.transcript for each in (*found, *hearing.finish()) if isinstance(each, Utterance)
        ]

    def test_the_first_word_after_a_pause_is_there(self):
        wanted = "where can i park near the harbour could you speak more slowly please"
        for together in (TOGETHER, TOGETHER_OF_FILES):
            for seconds in (0.7, 0.95, 1.3, 2.2):
                with self.subTest(seconds=seconds, together=together):
                    heard = self.heard(seconds, together)
                    self.assertEqual(" ".join(each.spoken for each in heard), wanted)

    def test_words_stand_one_after_the_other(self):
        words = [word for each in self.heard(1.1, TOGETHER) for word in each.words]
        for one, two in itertools.pairwise(words):
            self.assertLessEqual(one.end, two.start + 0.03)

    def test_levels_go_on_over_an_end(self):
        rng = np.random.default_rng(1)
        logs = rng.normal(-5, 2, (300, BANDS)).astype(np.float32)
        whole, parts = Normalizer(), Normalizer()
        expected = whole.feed(logs, last=True)
        first = parts.feed(logs[:150])
        np.testing.assert_array_equal(first, expected[: len(first)])
        rest = parts.feed(logs[150:], last=True)
        np.testing.assert_array_equal(rest, expected[len(first) :])


if __name__ == "__main__":
    unittest.main()
