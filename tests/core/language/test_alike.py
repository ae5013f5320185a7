"""Phrases that sound alike, found among all pairs, as every pair by itself says it."""

import random
import unittest
from itertools import combinations

from bench.large_assistants import alike, apart
from fond_echo.core.language.alike import AlikeFinder
from fond_echo.core.language.registry import language
from fond_echo.core.language.sounding import sound_likeness

LETTERS = language().letters
SWAPS = {"b": "p", "d": "t", "k": "g", "s": "z", "f": "v", "m": "n", "i": "e", "o": "u"}


def said(count, seed):
    """Phrases of their own, and others that are a sound or a word away from them."""
    chance = random.Random(seed)
    texts = [each.lower().strip(".?") for made in (alike(count), apart(count, examples=2))
             for examples in made for each in examples]  # fmt: skip
    for text in chance.sample(texts, count):
        letters = [SWAPS.get(c, c) if chance.random() < 0.15 else c for c in text]
        texts.append("".join(letters))
        texts.append(" ".join(text.split()[: chance.randint(1, 9)]))
    return texts


def brute_force(texts, groups, least):
    return [
        (a, b)
        for a, b in combinations(range(len(texts)), 2)
        if groups[a] != groups[b] and sound_likeness(texts[a], texts[b], LETTERS) >= least
    ]


class Alike(unittest.TestCase):
    def test_none_is_passed_over_and_none_is_found_beside(self):
        for seed, least in ((1, 0.85), (2, 0.8), (3, 0.6)):
            texts = list(dict.fromkeys(said(12, seed)))
            groups = [str(number % 7) for number in range(len(texts))]
            found, total = AlikeFinder(LETTERS, least, 10_000).pairs(texts, groups)
            self.assertEqual(found, brute_force(texts, groups, least))
            self.assertEqual(total, len(found))
            self.assertGreater(total, 3, "there is something to be found")

    def test_after_changes_as_from_nothing(self):
        chance = random.Random(4)
        texts = said(10, 5)
        groups = [str(number % 5) for number in range(len(texts))]
        finder = AlikeFinder(LETTERS, 0.8, 10_000)
        finder.pairs(texts, groups)
        for _ in range(15):
            place = chance.randrange(len(texts))
            match chance.randrange(3):
                case 0:
                    texts[place] = chance.choice(texts) + " again"
                case 1:
                    del texts[place], groups[place]
                case _:
                    texts.insert(place, chance.choice(texts))
                    groups.insert(place, str(chance.randrange(5)))
            whole = AlikeFinder(LETTERS, 0.8, 10_000).pairs(texts, groups)
            self.assertEqual(finder.pairs(texts, groups), whole)

    def test_more_than_are_kept_are_counted(self):
        texts = [f"boat number {word}" for word in ("one", "won", "wun", "wan", "wen")]
        groups = list("abcde")
        finder = AlikeFinder(LETTERS, 0.8, 3)
        found, total = finder.pairs(texts, groups)
        self.assertEqual((len(found), total), (3, 10))
        self.assertEqual(finder.pairs(texts, groups)[1], 10, "counted again, not forgotten")

    def test_nothing_to_compare(self):
        finder = AlikeFinder(LETTERS, 0.8, 10)
        self.assertEqual(finder.pairs([], []), ([], 0))
        self.assertEqual(finder.pairs(["", "", "boat"], ["a", "b", "c"]), ([], 0))
