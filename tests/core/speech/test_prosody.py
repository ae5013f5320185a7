"""How words are said: measured in the sound itself."""

import unittest

import numpy as np

from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.language.prosody import Prosody
from fond_echo.speech.material import synthesizer
from tests.sounds import tone


def spoken(text, voice="tern", **given):
    return list(synthesizer().speak(text, voice, seed=3, **given))


def clip_of(text, voice="tern", **given):
    return join([part.clip for part in spoken(text, voice, **given)])


def pitch(clip):
    """The median fundamental frequency, by autocorrelation of 40 ms windows."""
    found = []
    for start in range(0, len(clip.samples) - 640, 320):
        window = clip.samples[start : start + 640] * np.hanning(640)
        if np.square(window).mean() < 1e-4:
            continue
        against = np.correlate(window, window, "full")[639:]
        low, high = 16_000 // 420, 16_000 // 60
        at = low + int(against[low:high].argmax())
        if against[at] > 0.45 * against[0]:
            found.append(16_000 / at)
    return float(np.median(found))


TEXT = "We are all away on Monday morning."


class Measured(unittest.TestCase):
    def test_pitch_is_as_asked_for(self):
        usual = pitch(clip_of(TEXT))
        self.assertAlmostEqual(usual / 142, 1.0, delta=0.12)
        for prosody, factor in (
            (Prosody(pitch=6.0), 2**0.5), (Prosody(pitch=-5.0), 2 ** (-5 / 12)),
            (Prosody(hertz=40.0), 182 / 142), (Prosody(at_hertz=200.0), 200 / 142),
        ):  # fmt: skip
            self.assertAlmostEqual(
                pitch(clip_of(TEXT, prosody=prosody)) / usual, factor, delta=0.09
            )
        marked = clip_of(f"<speak><prosody pitch='+6st'>{TEXT}</prosody></speak>")
        self.assertAlmostEqual(pitch(marked) / usual, 2**0.5, delta=0.09)

    def test_pace_changes_length_and_not_pitch(self):
        usual = clip_of(TEXT)
        for rate in (0.5, 0.8, 1.5, 2.0):
            found = clip_of(TEXT, prosody=Prosody(rate=rate))
            words = usual.seconds - 0.26, found.seconds - 0.26
            self.assertAlmostEqual(words[0] / words[1], rate, delta=0.12 * rate)
            self.assertAlmostEqual(pitch(found) / pitch(usual), 1.0, delta=0.12)

    def test_range_and_emphasis(self):
        def spread(clip):
            halves = np.array_split(clip.samples, 5)
            return np.ptp([np.log2(pitch(Clip(half, 16_000))) for half in halves])

        flat, usual = (clip_of(TEXT, prosody=Prosody(range=r)) for r in (0.0, 1.0))
        self.assertLess(spread(flat), 0.4 * spread(usual))
        plain = spoken("We are away on Monday.")[0].marks[2]
        strong = spoken("<speak>We are <emphasis level='strong'>away</emphasis> on Monday.</speak>")
        longer = strong[0].marks[2]
        self.assertGreater((longer.end - longer.start) / (plain.end - plain.start), 1.15)

    def test_loudness_and_silence(self):
        usual, soft = (clip_of(TEXT, prosody=Prosody(volume=v)) for v in (0.0, -12.0))
        self.assertAlmostEqual(
            float(np.std(soft.samples) / np.std(usual.samples)), 10 ** (-12 / 20), delta=0.02
        )
        loud = clip_of(TEXT, prosody=Prosody(volume=20.0))
        self.assertLessEqual(loud.peak, 0.981)
        silent = clip_of("<speak><prosody volume='silent'>Nobody hears.</prosody></speak>")
        self.assertEqual(silent.peak, 0.0)

    def test_lengths_pauses_and_marks(self):
        for seconds in (1.5, 4.0):
            text = f"<speak><prosody duration='{seconds}s'>We are away on Monday.</prosody></speak>"
            self.assertAlmostEqual(clip_of(text).seconds, seconds, delta=0.06)
        for rate in (1.0, 2.0):
            parts = spoken(
                "<speak>One <break time='1s'/><mark name='m'/> two</speak>",
                prosody=Prosody(rate=rate),
            )
            gap = parts[0].clip.seconds - parts[0].marks[-1].end
            self.assertAlmostEqual(gap, 1.0, delta=0.03)
            self.assertEqual(parts[1].places, (("m", parts[1].marks[0].start),))

    def test_melodies_end_in_their_ways(self):
        def ending(text):
            samples = clip_of(text).samples
            last = np.flatnonzero(np.abs(samples) > 0.02)[-1]
            whole = pitch(Clip(samples[:last], 16_000))
            return pitch(Clip(samples[last - 2_900 : last - 300], 16_000)) / whole

        asked, told, ordered = map(ending, ("Are we away?", "We are away.", "We are away!"))
        self.assertGreater(asked, told + 0.1)
        self.assertGreater(told, ordered)

    def test_a_window_is_a_part_of_the_whole(self):
        whole = spoken("One. Two. Three. Four.")
        part = spoken("One. Two. Three. Four.", window=(1, 3))
        self.assertEqual(len(part), 2)
        for one, other in zip(whole[1:3], part, strict=True):
            np.testing.assert_array_equal(one.clip.samples, other.clip.samples)

    def test_recordings_are_played_or_spoken_about(self):
        text = "<speak>Hark: <audio src='horn'>a horn</audio></speak>"
        horn = tone(0.5, 8_000)
        self.assertAlmostEqual(
            spoken(text, recordings={"horn": horn})[1].clip.seconds, 0.5, delta=0.01
        )
        self.assertEqual([m.word for m in spoken(text)[-1].marks], ["a", "horn"])


if __name__ == "__main__":
    unittest.main()
