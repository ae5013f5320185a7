"""Speech markup: what is said, and what is refused."""

import re
import unittest

from fond_echo.contract.reply import Reply
from fond_echo.core.language.ssml import SsmlError, is_ssml, plain_of
from fond_echo.stages.speak import spoken_text


class Markup(unittest.TestCase):
    def test_what_is_said(self):
        for markup, said in (
            ("<speak>Boats<break time='500ms'/>sail</speak>", "Boats. sail"),
            ("<speak>Boats <break strength='weak'/> sail</speak>", "Boats, sail"),
            ("<speak><p>One</p><p>Two</p></speak>", "One. Two."),
            ("<speak>Ring <say-as interpret-as='digits'>960</say-as></speak>", "Ring 9 6 0"),
            ("<speak><sub alias='doctor'>Dr</sub> Aldous</speak>", "doctor Aldous"),
            ("<speak xmlns='http://www.w3.org/2001/10/synthesis'><prosody rate='slow'>Mind</prosody> the step</speak>", "Mind the step"),
        ):  # fmt: skip
            self.assertTrue(is_ssml(markup))
            found = re.sub(r"([.,])\s*(?=\w)", r"\1 ", plain_of(markup))
            self.assertEqual(found, said)

    def test_what_is_refused(self):
        for markup, words in (
            ("<speak>Boats", "not XML"),
            (
                "<speak><audio src='http://x/y.wav'/></speak>",
                "line 1, column 8: <audio> is not spoken",
            ),
            ("<!DOCTYPE speak [<!ENTITY a 'b'>]><speak>&a;</speak>", "document type"),
            ("<speak><break time='soon'/></speak>", "is not like 300ms"),
            ("<speak>" + "<emphasis>" * 50 + "</emphasis>" * 50 + "</speak>", "nested over 20"),
            ("<speak>" + "a" * 30_000 + "</speak>", "over 20,000"),
            ("<grammar/>", "not speak"),
        ):
            with self.subTest(words=words), self.assertRaisesRegex(SsmlError, words):
                plain_of(markup)

    def test_the_written_words_stand_in(self):
        wrong = "<speak><script/></speak>"
        self.assertEqual(spoken_text(Reply(text="Four pounds.", spoken=wrong)), "Four pounds.")
        with self.assertRaises(SsmlError):
            spoken_text(Reply(spoken=wrong))
