"""What the mouth does and for how long: the rules that turn phonemes into timed segments."""

import unittest
from dataclasses import replace

import numpy as np

from fond_echo.core.synthesis.segments import plan
from fond_echo.core.synthesis.speaker import Speaker
from fond_echo.core.synthesis.targets import VOICE_ONSET_MS

STEADY = Speaker(unevenness=0.0, flapping=0.0, release=1.0)


def said(*words, speaker=STEADY, seed=1):
    return plan([tuple(word.split()) for word in words], speaker, np.random.default_rng(seed))


def kinds(*words, **given):
    return [each.kind for each in said(*words, **given)]


def lasts(phoneme, *words, **given):
    """How long a phoneme lasts, all its parts."""
    return sum(each.seconds for each in said(*words, **given) if each.phoneme == phoneme)


class Kinds(unittest.TestCase):
    def test_every_phoneme_has_its_own(self):
        self.assertEqual(kinds("HH IY1 M W IH0 SH"),
                         ["breath", "vowel", "nasal", "glide", "vowel", "friction"])  # fmt: skip
        self.assertEqual(kinds("CH ER1"), ["closure", "friction", "vowel"])

    def test_stops_close_burst_and_voiceless_ones_breathe(self):
        self.assertEqual(kinds("P IY1"), ["closure", "burst", "aspiration", "vowel"])
        self.assertEqual(kinds("B IY1"), ["closure", "burst", "vowel"])

    def test_after_s_a_stop_hardly_breathes(self):
        for stop in VOICE_ONSET_MS:
            alone = [e.seconds for e in said(f"{stop} IY1") if e.kind == "aspiration"]
            after_s = [e.seconds for e in said(f"S {stop} IY1") if e.kind == "aspiration"]
            self.assertGreater(alone[0], 2 * after_s[0])

    def test_a_flap_only_between_vowels_of_which_the_second_is_weak(self):
        flapping = replace(STEADY, flapping=1.0)
        self.assertIn("flap", kinds("W AO1 T ER0", speaker=flapping))
        self.assertNotIn("flap", kinds("W AO1 T ER0"))
        self.assertNotIn("flap", kinds("AH0 T AE1 K", speaker=flapping))
        self.assertNotIn("flap", kinds("S IH1 S T ER0", speaker=flapping))

    def test_a_stop_before_another_may_keep_its_burst_to_itself(self):
        held = replace(STEADY, release=0.0)
        self.assertEqual(kinds("K AE1 P T", speaker=held)[-2:], ["closure", "closure"])
        self.assertEqual(kinds("K AE1 P T").count("burst"), 3)


class Lengths(unittest.TestCase):
    def test_a_vowel_is_shorter_before_a_voiceless_sound(self):
        self.assertLess(lasts("IY", "B IY1 T", "AH0"), 0.9 * lasts("IY", "B IY1 D", "AH0"))
        self.assertGreater(lasts("IY", "B IY1 Z", "AH0"), lasts("IY", "B IY1 D", "AH0"))

    def test_the_last_vowel_and_what_follows_are_drawn_out(self):
        self.assertGreater(lasts("OW", "B OW1 T"), 1.3 * lasts("OW", "B OW1 T", "IH1 N"))
        self.assertGreater(lasts("S", "B AH1 S"), lasts("S", "B AH1 S", "IH1 N"))

    def test_stress_and_long_words(self):
        self.assertGreater(lasts("AA", "AA1 K AH0"), lasts("AA", "AA2 K AH0"))
        self.assertGreater(lasts("AA", "AA2 K AH0"), lasts("AA", "AA0 K AH0"))
        long_word = "M AA1 N AH0 T AO2 R IY0"
        self.assertLess(lasts("AA", long_word), lasts("AA", "M AA1 N AH0"))

    def test_the_speaker_s_pace_and_care(self):
        brisk = replace(STEADY, rate=1.5)
        self.assertAlmostEqual(
            lasts("IY", "S IY1") / lasts("IY", "S IY1", speaker=brisk), 1.5, places=5
        )
        careful = replace(STEADY, careful=1.0)
        self.assertGreater(lasts("S", "B AH1 S", speaker=careful), 1.5 * lasts("S", "B AH1 S"))
        ends = {kinds("B IY1 T", speaker=careful, seed=seed)[-1] for seed in range(12)}
        self.assertEqual(ends, {"friction", "aspiration"})

    def test_nothing_is_shorter_than_can_be_said(self):
        hasty = replace(STEADY, rate=1.9, unevenness=0.3)
        for seed in range(40):
            spans = [e.seconds for e in said("S T R IY1 T S", speaker=hasty, seed=seed)]
            self.assertGreater(min(spans), 0.002)

    def test_words_and_stress_are_kept_with_their_segments(self):
        found = said("DH AH0", "B OW1 T")
        self.assertEqual([each.word for each in found if each.kind == "vowel"], [0, 1])
        self.assertEqual([each.stress for each in found if each.kind == "vowel"], ["0", "1"])


if __name__ == "__main__":
    unittest.main()
