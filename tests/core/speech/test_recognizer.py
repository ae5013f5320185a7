import unittest
from dataclasses import replace

import numpy as np

from fond_echo.core.audio.clip import Clip, join, silence
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.core.recognition import grammar_decoding
from fond_echo.core.recognition.confidence import Sureness
from fond_echo.core.recognition.errors import NothingExpected
from fond_echo.core.recognition.features import at_length
from fond_echo.core.recognition.grammar_decoding import read
from fond_echo.core.recognition.graph import WordNetwork, phoneme_graph
from fond_echo.core.recognition.recognizer import ACCEPT, LONGER, Recognizer, Stretch
from fond_echo.core.recognition.symbols import BLANK, SYMBOLS
from fond_echo.core.recognition.transcript import Expected, Transcript, Word
from fond_echo.speech.heard import as_heard
from fond_echo.speech.material import lexicon, recognizer, words
from tests.sounds import noise, speech, tone, with_noise

PHRASES = (
    "When is the next boat to Brannick?",
    "When is the next boat to Pell?",
    "How much is a ticket?",
    "Are the boats running today?",
    "Speak to a person.",
)
EXPECTED = Expected(PHRASES, names=("Brannick", "Little Marrow"))


def spell(words: str, frames_each: int = 4) -> np.ndarray:
    """Log probabilities in which the phonemes of words stand out, with blanks between."""
    rows = []
    for sounds in lexicon().phonemes(words.split()):
        for sound in sounds:
            rows += [SYMBOLS[sound.rstrip("012")]] * frames_each + [0]
    logs = np.full((len(rows), 40), np.log(0.001), np.float32)
    logs[np.arange(len(rows)), rows] = np.log(0.96)
    return logs


class Search(unittest.TestCase):
    def read(self, said, *phrases, around=True):
        network = WordNetwork.of_phrases([phrase.split() for phrase in phrases], around=around)
        return read(spell(said), phoneme_graph(network, lexicon()))

    def test_finds_the_phrase_and_its_times(self):
        best, *others = self.read("boat to pell", "boat to brannick", "boat to pell", "boat")
        self.assertEqual([word.word for word in best.words], ["boat", "to", "pell"])
        self.assertEqual(
            [(word.start, word.end) for word in best.words], [(0, 15), (15, 25), (25, 40)]
        )
        self.assertTrue(all(other.score < best.score for other in others))

    def test_anything_may_be_said_around_at_a_price(self):
        (inside, *_) = self.read("hello there boat to pell please", "boat to pell")
        self.assertEqual([word.word for word in inside.words], ["boat", "to", "pell"])
        (bare, *_) = self.read("boat to pell", "boat to pell")
        self.assertGreater(bare.score / len(spell("boat to pell")), inside.score / 100)
        closed = self.read("hello there boat to pell please", "boat to pell", around=False)
        self.assertLess(closed[0].score, inside.score)

    def test_an_unsure_network_is_not_read_as_the_shortest_phrase(self):
        sure = spell("a mountain goat")
        doubtful = np.log(0.2 * np.exp(sure) + 0.8 * np.eye(40)[0] + 1e-4).astype(np.float32)
        for phrases in (("a mountain goat", "a"), ("a mountain goat", "goat"), ("a", "mountain")):
            network = WordNetwork.of_phrases([phrase.split() for phrase in phrases])
            best, *_ = read(doubtful, phoneme_graph(network, lexicon()))
            said = " ".join(word.word for word in best.words)
            self.assertEqual(said, max(phrases, key=len))

    def test_a_stretch_of_anything_costs_more_than_a_sound_that_fits_badly(self):
        logs = spell("a mountain goat")
        wrong = [sounds[0] for sounds in lexicon().phonemes(["goat"])]
        at = np.flatnonzero(logs.argmax(axis=1) == SYMBOLS[wrong[0]])
        logs[at, SYMBOLS["D"]], logs[at, SYMBOLS["G"]] = np.log(0.9), np.log(0.05)
        network = WordNetwork.of_phrases([["a", "mountain", "goat"], ["a", "mountain"]])
        best, *_ = read(logs, phoneme_graph(network, lexicon()))
        self.assertEqual([word.word for word in best.words], ["a", "mountain", "goat"])

    def test_fed_in_pieces_it_finds_the_same_and_it_can_begin_again(self):
        rng = np.random.default_rng(4)
        phrases = ["boat to pell", "boat to brannick", "how much is a ticket", "boat"]
        network = WordNetwork.of_phrases([phrase.split() for phrase in phrases])
        graph = phoneme_graph(network, lexicon())
        search = grammar_decoding.Search(graph)
        for said in ("hello boat to brannick please", "how much is a ticket", "boat to pell"):
            logs = spell(said) + rng.normal(0, 0.3, (len(spell(said)), 40)).astype(np.float32)
            whole = read(logs, graph)
            search.reset()
            self.assertEqual(search.readings(), [])
            at = 0
            while at < len(logs):
                size = int(rng.integers(0, 7))
                search.feed(logs[at : at + size])
                at += size
            self.assertEqual(search.readings(), whole)
            self.assertIn(" ".join(word.word for word in whole[0].words), said)

    def test_a_word_said_twice_needs_a_gap(self):
        (best, *_) = self.read("two two", "two", "two two")
        self.assertEqual(len(best.words), 2)

    def test_nothing_to_read(self):
        self.assertEqual(self.read("boat"), [])
        graph = phoneme_graph(WordNetwork.of_phrases([["boat"]]), lexicon())
        self.assertEqual(read(np.zeros((0, 40), np.float32), graph), [])


class Hearing(unittest.TestCase):
    def test_expected_phrases_in_every_condition(self):
        conditions = {
            "clean": lambda clip: clip,
            "10 dB noise": lambda clip: with_noise(clip, 10),
            "telephone band": lambda clip: at_rate(clip, 8_000),
            "quiet": lambda clip: Clip(clip.samples * 0.01, clip.rate),
            "inside silence": lambda clip: join([silence(1, 16_000), clip, silence(2, 16_000)]),
        }
        for name, spoil in conditions.items():
            for phrase, voice in zip(
                PHRASES, ("eider", "curlew", "dunlin", "petrel", "tern"), strict=True
            ):
                with self.subTest(condition=name, phrase=phrase):
                    heard = recognizer().transcribe(spoil(speech(phrase, voice)), EXPECTED)
                    self.assertEqual(heard.spoken, " ".join(spoken_tokens(phrase)))
                    self.assertEqual(heard.source, "expected")

    def test_both_forms_and_times(self):
        clip = join([silence(0.5, 16_000), speech(PHRASES[0])])
        heard = recognizer().transcribe(clip, EXPECTED)
        self.assertEqual(heard.written, "When is the next boat to Brannick?")
        times = [time for word in heard.words for time in (word.start, word.end)]
        self.assertEqual(times, sorted(times))
        self.assertAlmostEqual(times[0], 0.56, delta=0.1)
        self.assertLessEqual(times[-1], clip.seconds + 0.03)

    def test_other_speech_is_not_forced_into_what_was_expected(self):
        for text in (
            "My sister is coming to stay on Sunday.",
            "Please turn the lights off in the kitchen.",
        ):
            heard = recognizer().transcribe(speech(text, "petrel"), EXPECTED)
            self.assertEqual(heard.source, "dictation")
            expected = {" ".join(spoken_tokens(phrase)) for phrase in PHRASES}
            others = [each for each in heard.alternatives if each.text in expected]
            forced = max((each.confidence for each in others), default=0.0)
            self.assertLess(forced, ACCEPT)
            right = set(heard.spoken.split()) & set(spoken_tokens(text))
            self.assertGreaterEqual(len(right), 5, heard.spoken)

    def test_where_nothing_else_can_be_said_the_likeliest_is_chosen(self):
        only = replace(EXPECTED, only=True)
        near = speech("When does the next boat go to Pell, please?", "petrel")
        heard = recognizer().transcribe(near, only)
        self.assertEqual((heard.source, heard.written), ("expected", PHRASES[1]))
        self.assertEqual(heard.alternatives[0].text, "when is the next boat to brannick")
        sure = recognizer().transcribe(speech(PHRASES[1], "petrel"), only).confidence
        self.assertGreater(sure, 0.9)
        reported = [heard.confidence, *(each.confidence for each in heard.alternatives)]
        self.assertEqual(reported, sorted(reported, reverse=True))
        for clip in (noise(2.0), tone(2.0), silence(1.0, 16_000)):
            self.assertEqual(recognizer().transcribe(clip, only).source, "nothing")
        with self.assertRaises(NothingExpected):
            Expected(names=("Brannick",), only=True)

    def test_no_words_out_of_nothing(self):
        for clip in (
            silence(2, 16_000),
            silence(0, 16_000),
            noise(3),
            tone(2.0, 16_000),
            tone(0.001, 16_000),
        ):
            heard = recognizer().transcribe(clip, EXPECTED)
            self.assertEqual((heard.source, heard.words, heard.written), ("nothing", (), ""))

    def test_something_like_a_word_in_a_long_noise_is_none(self):
        def noisy(count):
            """So many frames of an unsure blank, with sounds like "two" in the middle."""
            logs = np.full((count, 40), np.log(0.05 / 39), np.float32)
            logs[:, BLANK] = np.log(0.95)
            for at, name in ((count // 2, "T"), (count // 2 + 2, "UW")):
                logs[at] = np.log(0.3 / 39)
                logs[at, BLANK], logs[at, SYMBOLS[name]] = np.log(0.3), np.log(0.4)
            return Stretch(logs, 0.0, count * 0.03)

        short, long = (recognizer().read(noisy(count), Expected()) for count in (8, 200))
        self.assertEqual(short.source, "dictation")
        self.assertLess(short.confidence, 0.05)
        self.assertEqual((long.source, long.speech_seconds), ("nothing", 6.0))

    def test_an_unsure_network_reads_once_more_at_another_length_of_the_vocal_tract(self):
        read = []
        engine = Recognizer(recognizer().network, lexicon(), words())
        once = engine._at_once
        engine._at_once = lambda logs: read.append(logs) or once(logs)
        clear = speech(PHRASES[1], "petrel")
        engine.probabilities(at_rate(clear, 16_000))
        self.assertEqual(len(read), 1)
        found = engine.probabilities(with_noise(clear, 0.0))
        self.assertEqual(len(read), 3)
        sharp = [Sureness.of(once(logs)).sharp for logs in read[1:]]
        self.assertEqual(Sureness.of(found).sharp, max(sharp))
        np.testing.assert_allclose(read[2], at_length(read[1], LONGER))
        np.testing.assert_allclose(at_length(read[1], 1.0), read[1])

    def test_a_word_of_which_the_network_is_unsure_is_chosen_only_where_one_was_said(self):
        spelled = spell("pell")
        logs = np.full_like(spelled, np.log(0.2 / 38))
        logs[:, BLANK] = np.log(0.6)
        said = spelled.argmax(axis=1)
        logs[said != BLANK, said[said != BLANK]] = np.log(0.2)
        unsure = Stretch(logs, 0.0, len(logs) * 0.03)
        heard = recognizer().read(unsure, Expected(("Pell", "Brannick"), only=True))
        self.assertEqual((heard.source, heard.spoken), ("expected", "pell"))
        heard = recognizer().read(unsure, Expected(("Pell", "Brannick")))
        self.assertEqual((heard.source, heard.words), ("nothing", ()))
        self.assertEqual(heard.alternatives[0].text, "pell")
        self.assertEqual(recognizer().read(unsure, Expected()).source, "nothing")

    def test_long_sound_is_read_piece_by_piece(self):
        sentence = join([speech("The boats are running today.", "tern"), silence(0.7, 16_000)])
        heard = recognizer().transcribe(join([sentence] * 16))
        self.assertGreater(len(heard.words), 60)
        self.assertGreater(heard.words[-1].end, 35)
        self.assertGreaterEqual(heard.spoken.count("running today"), 14)


class Segments(unittest.TestCase):
    def test_words_are_cut_where_nothing_is_said(self):
        times = ((0.0, 0.3), (0.35, 0.6), (1.4, 1.9), (2.3, 2.5))
        words = tuple(Word(name, *each, 1.0) for name, each in zip("abcd", times, strict=True))
        transcript = Transcript(words, "A b c d.", 1.0, "dictation", 1.4)
        said = ["".join(word.spoken for word in each) for each in transcript.segments()]
        self.assertEqual(said, ["ab", "cd"])
        self.assertEqual(
            [(s.start, s.end) for s in as_heard(transcript, "en").segments],
            [(0.0, 0.6), (1.4, 2.5)],
        )
        self.assertEqual(Transcript((), "", 0.0, "nothing", 0.0).segments(), [])
