"""Speech markup: what is said and how, what is read of it, and what is refused."""

import random
import sys
import unittest

from fond_echo.contract.reply import Reply
from fond_echo.core.language.en import LANGUAGE as ENGLISH
from fond_echo.core.language.errors import SsmlError
from fond_echo.core.language.language import Phrase
from fond_echo.core.language.phrasing import Played, phrases_of
from fond_echo.core.language.prosody import Prosody
from fond_echo.core.language.ssml import is_ssml, plain_of, read_ssml, recordings_in
from fond_echo.core.synthesis.errors import NothingToSay
from fond_echo.speech.material import synthesizer
from fond_echo.stages.speak import spoken_text


def said(markup):
    return phrases_of(read_ssml(f"<speak>{markup}</speak>"), ENGLISH)


def words(markup):
    return [" ".join(each.tokens) for each in said(markup)]


class Read(unittest.TestCase):
    def test_what_is_read_of_it(self):
        for markup, read in (
            ("<speak>Boats<break time='500ms'/>sail</speak>", "Boats. sail"),
            ("<speak>Boats <break strength='weak'/> sail</speak>", "Boats, sail"),
            ("<speak><p>One</p><p>Two</p></speak>", "One. Two."),
            ("<speak>Ring <say-as interpret-as='digits'>960</say-as></speak>", "Ring 960"),
            ("<speak><sub alias='doctor'>Dr</sub> Aldous</speak>", "doctor Aldous"),
            ("<speak>To <phoneme ph='pɛl'>Pell</phoneme> today.</speak>", "To Pell today."),
            ("<speak>Hark <audio src='horn.ogg'><desc>a horn</desc>a horn</audio>!</speak>", "Hark a horn!"),
            ("<?xml version='1.0'?><speak version='1.1' xmlns='http://www.w3.org/2001/10/synthesis'>Mind <emphasis>the</emphasis> step</speak>", "Mind the step"),
        ):  # fmt: skip
            with self.subTest(markup):
                self.assertTrue(is_ssml(markup))
                self.assertEqual(plain_of(markup), read)

    def test_a_text_channel_gets_plain_text(self):
        reply = Reply(spoken="<speak>Four <emphasis>pounds</emphasis>.</speak>")
        self.assertEqual(reply.written, "Four pounds.")
        self.assertEqual(Reply(spoken="<speak>broken <b>x</speak>").written, "broken  x")

    def test_the_written_words_stand_in(self):
        wrong = "<speak><script/></speak>"
        self.assertEqual(spoken_text(Reply(text="Four pounds.", spoken=wrong)), "Four pounds.")
        with self.assertRaises(SsmlError):
            spoken_text(Reply(spoken=wrong))
        reply = Reply(spoken="<speak>Which?</speak>", choices=["R & D", "Pell"])
        self.assertEqual(
            spoken_text(reply), "<speak>Which? You can say: R &amp; D, or Pell.</speak>"
        )


class Said(unittest.TestCase):
    def test_what_stands_in_a_tag_goes_on_with_the_phrase(self):
        (phrase,) = said("Mind <emphasis>the</emphasis> step")
        self.assertEqual(phrase.tokens, ("mind", "the", "step"))
        self.assertEqual([m.emphasis for m in phrase.prosodies], [0.0, 1.0, 0.0])
        self.assertEqual(
            words("<emphasis>Boats</emphasis>, and <w>more</w>."), ["boats", "and more"]
        )

    def test_pauses(self):
        for markup, seconds in (
            ("One <break time='0.7s'/> two", 0.7), ("One <break strength='x-strong'/> two", 0.9),
            ("One.<break time='100ms'/> Two", 0.42), ("<s>One</s> two", 0.42), ("<p>One</p> two", 0.65),
        ):  # fmt: skip
            first, second = said(markup)
            self.assertEqual((first.pause, second.tokens), (seconds, ("two",)), markup)
        self.assertEqual(words("One <break strength='none'/> two"), ["one two"])
        self.assertEqual(said("<break time='2s'/>One")[0], Phrase((), 2.0, exact=True))

    def test_say_as(self):
        for kind, given, text, tokens in (
            ("characters", "", "KS-4", "k s dash four"), ("digits", "", "104", "one zero four"),
            ("number", "", "1,984", "one thousand nine hundred and eighty four"), ("number", "", "2.50", "two point five zero"),
            ("ordinal", "", "23", "twenty third"), ("ordinal", "", "23rd", "twenty third"),
            ("telephone", "", "+44 1632 96", "plus four four|one six three two|nine six"),
            ("date", "dmy", "3/5/2026", "the third of may twenty twenty six"),
            ("date", "mdy", "3/5/2026", "the fifth of march twenty twenty six"),
            ("date", "ymd", "2026-05-03", "the third of may twenty twenty six"),
            ("date", "my", "5/2026", "may twenty twenty six"), ("time", "", "16:10", "ten past four"),
            ("currency", "", "£4.50", "four pounds fifty"), ("unit", "", "5 km", "five kilometres"),
        ):  # fmt: skip
            mark = f"<say-as interpret-as='{kind}' format='{given}'>{text}</say-as>"
            self.assertEqual("|".join(words(mark)), tokens, (kind, given, text))

    def test_prosody_nests_and_knows_its_units(self):
        (phrase,) = said(
            "<prosody rate='80%' volume='+6dB'><prosody rate='50%'>one</prosody></prosody>"
        )
        self.assertEqual(phrase.prosodies, (Prosody(rate=0.4, volume=6.0),))
        for given, wanted in (
            ("pitch='+2st'", Prosody(pitch=2.0)), ("pitch='high'", Prosody(pitch=3.0)),
            ("pitch='+100%'", Prosody(pitch=12.0)), ("pitch='120Hz'", Prosody(at_hertz=120.0)),
            ("pitch='-20Hz'", Prosody(hertz=-20.0)), ("rate='fast'", Prosody(rate=1.25)),
            ("rate='+10%'", Prosody(rate=1.1)), ("range='+50%'", Prosody(range=1.5)),
            ("volume='soft'", Prosody(volume=-6.0)), ("volume='100'", Prosody()),
        ):  # fmt: skip
            (phrase,) = said(f"<prosody {given}>one</prosody>")
            self.assertEqual(phrase.prosodies, (wanted,), given)
        (phrase,) = said("<prosody contour='(0%,+0st) (100%,+4st)'>one two</prosody>")
        self.assertEqual([m.pitch for m in phrase.prosodies], [1.0, 3.0])

    def test_sounds_voices_marks_and_recordings(self):
        (phrase,) = said(
            "to <phoneme alphabet='x-arpabet' ph='P EH1 L'>Pell</phoneme> <mark name='m'/>now"
        )
        self.assertEqual(phrase.sounds, ((), ("P", "EH1", "L"), ()))
        self.assertEqual(phrase.marks, (("m", 2),))
        found = said(
            "<voice name='tern'>one</voice> two <audio src='horn'>three</audio><mark name='z'/>"
        )
        self.assertEqual([getattr(each, "voice", "-") for each in found], ["tern", "", "-", ""])
        self.assertIsInstance(found[2], Played)
        self.assertEqual(found[3].marks, (("z", 0),))
        self.assertEqual(list(recordings_in(read_ssml("<speak><audio src='a'/></speak>"))), ["a"])


class Refused(unittest.TestCase):
    def test_the_place_of_what_is_wrong(self):
        for markup, told in (
            ("<speak>Boats", "not XML"),
            ("<speak>\n<script/></speak>", "line 2, column 1: <script> is not spoken"),
            ("<!DOCTYPE speak [<!ENTITY a 'b'>]><speak>&a;</speak>", "document type"),
            ("<speak><break time='soon'/></speak>", "line 1, column 8: time 'soon' is not like 300ms"),
            ("<speak><break strength='loud'/></speak>", "is not one of none, x-weak"),
            ("<speak><prosody rate='0'>a</prosody></speak>", "rate '0' is not one of"),
            ("<speak><prosody pitch='9000Hz'>a</prosody></speak>", "pitch '9000Hz'"),
            ("<speak><prosody contour='up'>a</prosody></speak>", "contour 'up' is not like"),
            ("<speak><emphasis level='mad'>a</emphasis></speak>", "level 'mad' is not one of strong"),
            ("<speak><say-as interpret-as='x'>a</say-as></speak>", "interpret-as 'x' is not one of"),
            ("<speak><phoneme ph='☃'>a</phoneme></speak>", "the sign '☃' in ph is not known"),
            ("<speak><phoneme alphabet='x-arpabet' ph='QQ'>a</phoneme></speak>", "'QQ' is no phoneme"),
            ("<speak><sub>a</sub></speak>", "sub needs an alias"),
            ("<speak>" + "<emphasis>" * 50 + "</emphasis>" * 50 + "</speak>", "nested over 20"),
            ("<speak>" + "a" * 500_000 + "</speak>", "over 400,000"),
            ("<grammar/>", "not speak"),
        ):  # fmt: skip
            with self.subTest(told=told), self.assertRaisesRegex(SsmlError, told):
                read_ssml(markup)

    def test_random_texts_are_spoken_or_refused(self):
        chance = random.Random(5)
        engine = synthesizer()
        for number in range(3_000):
            text = "".join(chr(chance.randrange(sys.maxunicode + 1)) for _ in range(30))
            if number % 3 == 0:
                text = "".join(chance.choice("<>/speak&;=\"' ab19.\n") for _ in range(60))
            if number % 5 == 0:
                text = f"<speak>{text}</speak>"
            try:
                planned = engine.planned(text, "tern")
            except (SsmlError, NothingToSay):
                continue
            self.assertTrue(any(each.tokens for each in planned if isinstance(each, Phrase)))


if __name__ == "__main__":
    unittest.main()
