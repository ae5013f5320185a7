"""Words with times as subtitles."""

import unittest

from fond_echo.core.language.subtitles import cues, srt, vtt
from fond_echo.core.recognition.transcript import Word


def said(text, start=0.0, each=0.3):
    words = text.split()
    return [
        Word(word, start + k * each, start + (k + 1) * each, 1.0) for k, word in enumerate(words)
    ]


class Subtitles(unittest.TestCase):
    def test_a_cue_for_each_stretch(self):
        words = said("when is the boat to pell") + said("at ten past four", 3.0)
        found = cues(words, ["Pell"])
        self.assertEqual([each.text for each in found], ["When is the boat to Pell?", "At 4:10."])
        self.assertEqual((found[1].start, round(found[1].end, 2)), (3.0, 4.2))

    def test_both_forms(self):
        found = cues(said("the boat is late", 3_661.5))
        self.assertEqual(srt(found), "1\n01:01:01,500 --> 01:01:02,700\nThe boat is late.\n")
        self.assertEqual(vtt(found), "WEBVTT\n\n01:01:01.500 --> 01:01:02.700\nThe boat is late.\n")

    def test_none_is_too_long_to_read(self):
        found = cues(said("passengers " * 60))
        self.assertTrue(all(each.end - each.start <= 6.01 for each in found))
        lines = [line for each in srt(found).split("\n\n") for line in each.splitlines()[2:]]
        self.assertLessEqual(max(map(len, lines)), 42)

    def test_nothing(self):
        self.assertEqual((cues([]), srt([]), vtt([])), ([], "", "WEBVTT\n\n"))
