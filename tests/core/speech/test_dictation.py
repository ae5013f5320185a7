"""Words found freely: the model of words, the tree of pronunciations, and the search."""

import io
import math
import unittest

import numpy as np

from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.recognition.dictation import Dictation, Vocabulary, dictate
from fond_echo.core.recognition.tree import TrieBuilder, pronunciations_of
from fond_echo.core.recognition.words import END, WordModel
from fond_echo.speech.material import lexicon, recognizer, words
from tests.core.speech.test_recognizer import spell
from training.words import Counts, learnt

SENTENCES = [
    "the boat leaves at noon", "the boat leaves at four", "the boat is late", "a boat to pell",
    "the ferry leaves", "two boats leave", "too late", "the road to pell",
]  # fmt: skip


def small_model(pairs=()):
    spoken = sorted({word for each in SENTENCES for word in each.split()})
    names = [END, *spoken]
    counts = Counts(names)
    for each in SENTENCES:
        counts.add(tuple(each.split()), 1.0)
    counts.add_pairs(pairs, 0.01)
    return learnt(counts, names)


def vocabulary(model=None, phrases=()):
    model = model or small_model()
    builder = TrieBuilder()
    for number, word in enumerate(model.words):
        if number:
            builder.add(number, float(model.single[number]), pronunciations_of(word, lexicon()))
    pairs = Vocabulary.paired(model, [each.split() for each in phrases])
    return Vocabulary(model, builder.grown(), pairs)


class Model(unittest.TestCase):
    def test_in_every_state_all_words_together_are_certain(self):
        model = small_model([("pell", "road", 180.0)])
        for state in range(len(model.backoff)):
            total = sum(math.exp(model.step(state, word)[0]) for word in range(len(model.words)))
            self.assertAlmostEqual(total, 1.0, places=3)

    def test_what_was_seen_is_likelier(self):
        model = small_model()
        self.assertGreater(model.log(["the"], "boat"), model.log(["a"], "noon"))
        self.assertGreater(
            model.log(["the", "boat"], "leaves"), model.log(["the", "road"], "leaves")
        )
        self.assertGreater(model.log([], "the"), model.log([], "noon"))

    def test_it_is_written_and_read(self):
        model, file = small_model(), io.BytesIO()
        model.save(file)
        file.seek(0)
        with np.load(file) as arrays:
            again = WordModel.load({name: arrays[name] for name in arrays.files})
        self.assertEqual(again.words, model.words)
        for name in ("first", "arc_word", "arc_to", "less", "after"):
            np.testing.assert_array_equal(getattr(again, name), getattr(model, name), name)
        for before, word in (([], "the"), (["the"], "boat"), (["the", "boat"], "late")):
            self.assertAlmostEqual(again.log(before, word), model.log(before, word), delta=0.1)

    def test_pairs_that_were_counted_elsewhere(self):
        plain = small_model()
        counted = small_model([("pell", "road", 500.0), ("pell", "tram", 900.0)])
        self.assertGreater(counted.log(["pell"], "road"), plain.log(["pell"], "road") + 1.0)
        self.assertEqual(counted.words, plain.words)
        self.assertEqual(counted.log(["the", "road"], "to"), plain.log(["the", "road"], "to"))

    def test_words_are_added_and_made_likelier(self):
        model = small_model().with_words({"brannick": -4.0, "noon": -1.0})
        self.assertAlmostEqual(float(model.single[model.numbers["noon"]]), -1.0)
        # In a state that has not seen it, it costs the back-off too.
        self.assertLess(model.log(["to"], "brannick"), -4.0)
        self.assertGreater(model.log(["to"], "brannick"), -9.0)

    def test_the_shipped_one(self):
        model = words()
        self.assertGreater(len(model.words), 20_000)
        self.assertGreater(model.log(["i", "would"], "like"), model.log(["i", "would"], "bike"))
        self.assertGreater(model.log(["next", "train"], "to"), model.log(["next", "train"], "too"))


class Search(unittest.TestCase):
    def heard(self, said, known=None):
        found = dictate(spell(said, 2), known or vocabulary())
        return " ".join(word.word for word in found[0].words) if found else ""

    def test_finds_what_was_said(self):
        for said in ("the boat leaves at noon", "a boat to pell", "the boat is late"):
            self.assertEqual(self.heard(said), said)

    def test_what_sounds_alike_is_told_apart_by_what_stands_before(self):
        self.assertEqual(self.heard("two late"), "too late")
        self.assertEqual(self.heard("to boats leave"), "two boats leave")

    def test_readings_differ_and_come_best_first(self):
        found = dictate(spell("two boats leave", 2), vocabulary())
        self.assertEqual(len({tuple(w.word for w in each.words) for each in found}), len(found))
        self.assertEqual(
            [each.score for each in found], sorted((e.score for e in found), reverse=True)
        )

    def test_times_follow_the_sound(self):
        (best, *_) = dictate(spell("the boat is late", 3), vocabulary())
        edges = [edge for word in best.words for edge in (word.start, word.end)]
        self.assertEqual(edges, sorted(edges))
        self.assertLessEqual(edges[-1], len(spell("the boat is late", 3)))

    def test_a_hint_decides_between_what_sounds_alike(self):
        model = small_model().with_words({"pel": float(small_model().single[5])})
        builder = TrieBuilder(vocabulary(model).tree)
        number = model.numbers["pel"]
        builder.add(number, float(model.single[number]), pronunciations_of("pell", lexicon()))
        plain = Vocabulary(model, builder.grown(), np.zeros(0, np.int64))
        self.assertEqual(self.heard("the road to pell", plain), "the road to pell")
        pairs = Vocabulary.paired(model, [["to", "pel"]])
        hinted = Vocabulary(model, builder.grown(), pairs)
        found = dictate(spell("the road to pell", 2), hinted)
        gained = {tuple(w.word for w in each.words): each.score for each in found}
        bare = {
            tuple(w.word for w in each.words): each.score
            for each in dictate(spell("the road to pell", 2), plain)
        }
        said = ("the", "road", "to", "pel")
        self.assertGreater(gained[said], bare[said])

    def test_fed_in_pieces_it_finds_the_same_and_tells_what_it_has(self):
        known = vocabulary()
        logs = spell("the boat leaves at noon", 2)
        search, reported = Dictation(known), []
        for start in range(0, len(logs), 4):
            search.feed(logs[start : start + 4])
            reported.append(len(search.so_far()))
        self.assertEqual(search.finish(1)[0], dictate(logs, known)[0])
        self.assertLessEqual(reported[0], 1)
        self.assertGreaterEqual(reported[-1], 4)

    def test_nothing_gives_nothing(self):
        self.assertEqual(dictate(np.zeros((0, 40), np.float32), vocabulary()), [])
        blanks = np.full((30, 40), -9.0, np.float32)
        blanks[:, 0] = 0.0
        self.assertEqual(dictate(blanks, vocabulary()), [])

    def test_a_name_that_only_the_assistant_knows(self):
        from fond_echo.core.recognition.transcript import Expected

        expected = Expected((), ("Brannick",))
        found = dictate(
            spell("when is the next boat to brannick", 2), recognizer().vocabulary(expected)
        )
        self.assertEqual(found[0].words[-1].word, "brannick")


class Tree(unittest.TestCase):
    def test_words_share_their_beginnings(self):
        known = Lexicon({"boat": [("B", "OW1", "T")], "bow": [("B", "OW1")]})
        builder = TrieBuilder()
        builder.add(1, -2.0, pronunciations_of("boat", known))
        builder.add(2, -1.0, pronunciations_of("bow", known))
        tree = builder.grown()
        self.assertEqual(len(tree.symbols), 4)
        self.assertEqual(tree.best.tolist(), [0.0, -1.0, -1.0, -2.0])

    def test_growing_leaves_the_old_one_as_it_was(self):
        builder = TrieBuilder()
        builder.add(1, -2.0, [[3, 4]])
        old = builder.grown()
        more = TrieBuilder(old)
        more.add(2, -1.0, [[3, 5]])
        self.assertEqual((len(old.symbols), len(more.grown().symbols)), (3, 4))
        self.assertEqual(old.best[1], -2.0)
