import unittest

from fond_echo.core.language.en.letters import pronounce_by_letters
from fond_echo.core.language.lexicon import Lexicon
from fond_echo.core.language.phonemes import PHONEMES, base
from fond_echo.speech.material import lexicon


class Letters(unittest.TestCase):
    def test_regular_words(self):
        cases = {
            "ossel": "AA S AH L",
            "brannick": "B R AE N IH K",
            "shore": "SH AO R",
            "knight": "N AY T",
            "nation": "N EY SH AH N",
            "queen": "K W IY N",
            "catch": "K AE CH",
            "landed": "L AE N D AH D",
            "note": "N OW T",
            "phone": "F OW N",
            "bring": "B R IH NG",
            "moored": "M UH R D",
        }
        for word, sounds in cases.items():
            self.assertEqual(
                [base(sound) for sound in pronounce_by_letters(word)], sounds.split(), word
            )

    def test_agrees_with_the_dictionary_often_enough(self):
        """On every 97th listed word, at most 12 % of the phonemes differ from the listed ones."""
        known = lexicon()
        wrong = total = 0
        for word in sorted(known._entries)[::97]:
            listed = [base(sound) for sound in known.listed(word)[0]]
            found = [base(sound) for sound in pronounce_by_letters(word)]
            wrong += edits(listed, found)
            total += len(listed)
        self.assertLess(wrong / total, 0.12)

    def test_whatever_the_letters(self):
        for word in ("zzz", "qxq", "aeiouy", "ghgh", "", "x" * 200, "été"):
            for sound in pronounce_by_letters(word):
                self.assertIn(base(sound), PHONEMES)


def edits(left: list[str], right: list[str]) -> int:
    row = list(range(len(right) + 1))
    for k, a in enumerate(left, 1):
        before, row[0] = row[0], k
        for j, b in enumerate(right, 1):
            before, row[j] = row[j], min(row[j] + 1, row[j - 1] + 1, before + (a != b))
    return row[-1]


class Lookup(unittest.TestCase):
    def setUp(self):
        self.lexicon = Lexicon(
            {
                "boat": [("B", "OW1", "T")],
                "wish": [("W", "IH1", "SH")],
                "sail": [("S", "EY1", "L")],
                "cloth": [("K", "L", "AO1", "TH")],
                "hope": [("HH", "OW1", "P")],
            }
        )

    def said(self, word):
        return " ".join(base(sound) for sound in self.lexicon.pronunciations(word)[0])

    def test_endings_and_compounds(self):
        self.assertEqual(self.said("boats"), "B OW T S")
        self.assertEqual(self.said("sail's"), "S EY L Z")
        self.assertEqual(self.said("hoping"), "HH OW P IH NG")
        self.assertEqual(self.said("boated"), "B OW T IH D")
        self.assertEqual(self.said("sailcloth"), "S EY L K L AO TH")

    def test_own_names_go_first(self):
        extended = self.lexicon.extended({"boat": [("B", "AA1", "T")]})
        self.assertEqual(extended.pronunciations("boat"), (("B", "AA1", "T"), ("B", "OW1", "T")))

    def test_single_letters_are_named(self):
        self.assertEqual(self.said("b"), "B IY")
