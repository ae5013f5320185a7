"""How the recognizer's training is made: it can be made again, keeps its test apart, and is finite."""

import dataclasses
import random
import unittest

import numpy as np

from fond_echo.core.recognition.features import BANDS
from fond_echo.core.recognition.symbols import SYMBOLS
from fond_echo.core.recognition.tree import tree_of
from fond_echo.speech import material
from fond_echo.speech.material import lexicon, words
from training import rooms
from training.generate import Writer, nothing_said, utter
from training.sentences import MADE, Grammar, Sentences, is_test
from training.speakers import REDUCIBLE, Person, draw
from training.testing import CONDITIONS, Speech, name, number, phrases, sentences

TEXTS = [["the", "boat", "is", "late"], ["a", "brief", "stay"], ["it", "zzxqj"]]


def mixture():
    known = lexicon()
    return Sentences(TEXTS, ["boat", "island", "quay"], lambda word: bool(known.listed(word)))


class What(unittest.TestCase):
    def test_the_test_is_kept_apart(self):
        mixed, rng = mixture(), random.Random(1)
        self.assertFalse(any(is_test(mixed.one(rng)) for _ in range(2_000)))
        found = sentences(rng, [], set(words().words))
        self.assertTrue(all(is_test(next(found)) for _ in range(20)))
        self.assertTrue(all(is_test(each) for each in phrases(rng, 30)))

    def test_every_slot_of_the_grammar_is_filled_with_words_that_can_be_said(self):
        grammar, rng, known = Grammar(), random.Random(2), lexicon()
        said = {word for _ in range(3_000) for word in grammar.one(rng)}
        self.assertGreater(len(said), 600)
        self.assertEqual([word for word in said if "{" in word or "|" in word], [])
        unknown = [word for word in said if len(word) > 1 and not known.listed(word)]
        self.assertLessEqual(len(unknown), 3, unknown)

    def test_texts_with_unknown_words_are_left_out(self):
        mixed = mixture()
        self.assertNotIn(["it", "zzxqj"], mixed.texts + mixed.test_texts)

    def test_numbers_and_names(self):
        rng = random.Random(3)
        for made in MADE.values():
            for _ in range(50):
                self.assertTrue(all(word.isascii() and word for word in made(rng)))
        self.assertEqual(len(number(rng)), 10)
        self.assertTrue(all(name(rng).isalpha() for _ in range(50)))


class Tree(unittest.TestCase):
    def test_the_tree_that_ships_is_that_of_the_words_and_the_lexicon(self):
        grown, shipped = tree_of(words(), lexicon()), material.recognizer()._tree
        for field in dataclasses.fields(grown):
            with self.subTest(field.name, remedy="run python -m training.tree"):
                found = getattr(shipped, field.name)
                np.testing.assert_array_equal(found, getattr(grown, field.name))
                self.assertEqual(found.dtype, getattr(grown, field.name).dtype)

    def test_one_language_is_loaded_once_however_it_is_named(self):
        self.assertIs(material.recognizer(), material.recognizer("en"))
        self.assertIs(material.synthesizer(), material.synthesizer("en"))

    def test_a_word_has_all_its_pronunciations(self):
        file = material.DictionaryFile(
            [";;; none", "read R EH1 D", "read(2) R IY1 D # noun", "reed R IY1 D"]
        )
        self.assertEqual(file["read"], (("R", "EH1", "D"), ("R", "IY1", "D")))
        self.assertEqual((len(file), [*file]), (2, ["read", "reed"]))


class Who(unittest.TestCase):
    def test_people_differ_and_can_be_drawn_again(self):
        again = [draw(np.random.default_rng(7)).speaker.pitch for _ in range(2)]
        self.assertEqual(*again)
        rng = np.random.default_rng(8)
        people = [draw(rng).speaker for _ in range(200)]
        self.assertGreater(max(p.formant_scale for p in people), 1.3)
        self.assertLess(min(p.pitch for p in people), 95)

    def test_those_outside_are_unlike_those_within(self):
        rng = np.random.default_rng(9)
        inside = [draw(rng).speaker for _ in range(300)]
        outside = [draw(rng, outside=True).speaker for _ in range(100)]
        low, high = min(p.formant_scale for p in inside), max(p.formant_scale for p in inside)
        self.assertTrue(all(not low <= p.formant_scale <= high for p in outside))

    def test_how_words_are_said(self):
        rng = np.random.default_rng(1)
        speaker = draw(rng).speaker
        plain = Person(speaker, (), *[0.0] * 7)
        self.assertEqual(plain.says(("K", "AA1", "R"), rng), ("K", "AA1", "R"))
        other = Person(speaker, (("AA", "AO", 1.0),), *[1.0] * 4, *[0.0] * 3)
        self.assertEqual(other.says(("K", "AA1", "R"), rng), ("K", "AO1"))
        self.assertEqual(other.says(("HH", "IH0", "M"), rng), ("AH0", "M"))
        self.assertEqual(other.says(("M", "OW1", "S", "T", "L", "IY0"), rng)[3], "L")
        self.assertIn("IH", REDUCIBLE)

    def test_first_and_last_sounds_change_with_their_place(self):
        rng = np.random.default_rng(1)
        speaker = draw(rng).speaker
        hard, soft, dark = (
            Person(speaker, (), *[0.0] * 4, *(float(k == which) for k in range(3)))
            for which in range(3)
        )
        self.assertEqual(hard.says(("DH", "AH0"), rng), ("D", "AH0"))
        self.assertEqual(hard.says(("B", "EY1", "DH"), rng), ("B", "EY1", "DH"))
        self.assertEqual(soft.says(("B", "AE1", "G"), rng), ("B", "AE1", "K"))
        self.assertEqual(soft.says(("Z", "UW1"), rng), ("Z", "UW1"))
        self.assertEqual(dark.says(("B", "EH1", "L"), rng), ("B", "EH1", "UH0"))
        self.assertEqual(dark.says(("L", "EH1", "T"), rng), ("L", "EH1", "T"))
        self.assertEqual(dark.says(("S", "EH1", "L", "IH0"), rng), ("S", "EH1", "L", "IH0"))

    def test_some_begin_at_once(self):
        leads = []
        for seed in range(40):
            rng = np.random.default_rng(seed)
            labels = utter(["boat"], draw(rng), lexicon(), rng).labels
            leads.append(int(np.flatnonzero(labels)[0]) / 400)
        self.assertLess(min(leads), 0.06)
        self.assertGreater(max(leads), 0.2)

    def test_every_person_can_be_heard(self):
        rng = np.random.default_rng(11)
        for place in range(30):
            said = "the quick boat to pell".split()
            one = utter(said, draw(rng, outside=place % 5 == 0), lexicon(), rng)
            self.assertTrue(np.isfinite(one.samples).all())
            self.assertGreater(np.abs(one.samples).max(), 0.01)
            self.assertEqual(set(np.unique(one.labels)) <= {0, *SYMBOLS.values()}, True)


class Where(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(2)
        self.clean = utter("the boat is late".split(), draw(rng), lexicon(), rng).samples

    def test_every_way_leaves_the_length_and_is_finite(self):
        rng = np.random.default_rng(3)
        ways = (
            lambda s: rooms.room(s, rng), lambda s: rooms.microphone(s, rng),
            lambda s: rooms.companded(s, "mu"), lambda s: rooms.companded(s, "a"),
            lambda s: rooms.opus(s, 16, 0.05, rng), lambda s: rooms.holes(s, 0.1, rng),
        )  # fmt: skip
        for way in ways:
            heard = way(self.clean)
            self.assertEqual(len(heard), len(self.clean))
            self.assertTrue(np.isfinite(heard).all())

    def test_noises_have_a_power_of_one_and_the_test_has_its_own(self):
        self.assertFalse(set(rooms.TRAINING_NOISES) & set(rooms.TEST_NOISES))
        rng = np.random.default_rng(4)
        for kind in (*rooms.TRAINING_NOISES, *rooms.TEST_NOISES):
            made = rooms.noise(kind, 8_000, rng, [self.clean])
            self.assertAlmostEqual(float(np.mean(np.square(made))), 1.0, places=2)

    def test_textures_are_of_every_colour_and_some_have_a_beat(self):
        shares, swells = [], []
        for seed in range(60):
            made = rooms.texture(32_000, np.random.default_rng(seed))
            self.assertTrue(np.isfinite(made).all())
            power = np.abs(np.fft.rfft(made)) ** 2
            shares.append(power[:4_000].sum() / power.sum())
            levels = np.square(made).reshape(-1, 800).mean(axis=1)
            swells.append(levels.std() / levels.mean())
        self.assertLess(min(shares), 0.4)
        self.assertGreater(max(shares), 0.9)
        self.assertGreater(max(swells), 5 * min(swells))

    def test_a_murmur_is_of_many_voices(self):
        rng = np.random.default_rng(3)
        others = [utter(["boat"], draw(rng), lexicon(), rng).samples for _ in range(4)]
        one = rooms.noise("murmur", 16_000, np.random.default_rng(1), others)
        self.assertFalse(
            np.allclose(one, rooms.noise("murmur", 16_000, np.random.default_rng(2), others))
        )
        alone = rooms.noise("murmur", 16_000, np.random.default_rng(1), [])
        self.assertTrue(np.isfinite(alone).all())

    def test_the_ratio_is_what_was_asked_for(self):
        rng = np.random.default_rng(5)
        added = rooms.noise("white", len(self.clean), rng)
        mixed = rooms.with_noise(self.clean, added, 10.0)
        loud = np.abs(self.clean) > 0.02 * np.abs(self.clean).max()
        ratio = np.mean(np.square(self.clean[loud])) / np.mean(np.square(mixed - self.clean))
        self.assertAlmostEqual(10 * np.log10(ratio), 10.0, delta=0.2)

    def test_companding_keeps_to_the_telephone_s_band(self):
        rng = np.random.default_rng(6)
        heard = rooms.companded(rooms.noise("white", 32_000, rng) * np.float32(0.1), "mu")
        power = np.abs(np.fft.rfft(heard)) ** 2
        hertz = np.fft.rfftfreq(len(heard), 1 / 16_000)
        self.assertLess(power[hertz > 4_100].sum(), 0.01 * power.sum())


class Shards(unittest.TestCase):
    def test_a_shard_can_be_made_again_and_fits_together(self):
        from training import generate

        generate.A_SHARD, kept = 6, generate.A_SHARD
        self.addCleanup(setattr, generate, "A_SHARD", kept)
        first, second = (Writer(mixture(), lexicon(), 3).shard() for _ in range(2))
        np.testing.assert_array_equal(first["energies"], second["energies"])
        self.assertEqual(first["energies"].shape, (first["frames"].sum(), BANDS))
        self.assertEqual(len(first["labels"]), first["frames"].sum())
        self.assertEqual(len(first["sounds"]), first["counts"].sum())
        self.assertTrue(np.isfinite(first["energies"]).all())
        self.assertLessEqual(int(first["sounds"].max()), max(SYMBOLS.values()))

    def test_noise_without_words(self):
        rng = np.random.default_rng(7)
        for _ in range(10):
            self.assertTrue(np.isfinite(nothing_said(rng, [])).all())

    def test_conditions(self):
        for condition in CONDITIONS:
            heard = Speech(condition, lexicon(), 5).say("the boat is late".split())
            self.assertEqual(heard.clip.rate, 16_000)
            self.assertTrue(np.isfinite(heard.clip.samples).all())
