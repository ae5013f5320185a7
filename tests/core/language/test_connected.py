"""How words may be heard in running speech."""

import unittest

from fond_echo.core.language.en.connected import connected
from fond_echo.core.recognition.tree import pronunciations_of
from fond_echo.speech.material import lexicon


class Connected(unittest.TestCase):
    def test_weak_forms_taps_and_clusters(self):
        for word, way, further in (
            ("to", "T UW1", "T AH0"),
            ("water", "W AO1 T ER0", "W AO1 D ER0"),
            ("party", "P AA1 R T IY0", "P AA1 R D IY0"),
            ("kept", "K EH1 P T", "K EH1 P"),
            ("sailing", "S EY1 L IH0 NG", "S EY1 L IH0 N"),
        ):
            found = connected(word, [tuple(way.split())])
            self.assertIn(tuple(further.split()), found, word)

    def test_what_is_said_as_it_stands(self):
        for word, way in (
            ("boat", "B OW1 T"),
            ("attack", "AH0 T AE1 K"),
            ("king", "K IH1 NG"),
            ("act", "AE1 K T"),
        ):
            self.assertEqual(connected(word, [tuple(way.split())])[1:], (), word)
        self.assertEqual(connected("attack", [("AH0", "T", "AE1", "K")]), ())

    def test_a_way_that_is_known_comes_once(self):
        self.assertEqual(connected("to", [("T", "AH0"), ("T", "IH1")]), ())

    def test_the_recognizer_takes_them_only_where_it_is_asked_to(self):
        alone, running = (
            pronunciations_of("of", lexicon(), running=each) for each in (False, True)
        )
        self.assertEqual(running[: len(alone)], alone)
        self.assertGreater(len(running), len(alone))


if __name__ == "__main__":
    unittest.main()
