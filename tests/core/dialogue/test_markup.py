"""Markdown as a network reads it: plain, or in HTML."""

import unittest

from fond_echo.core.dialogue.markup import links_in, written_in
from fond_echo.core.dialogue.shaping import speakable


class Markup(unittest.TestCase):
    def test_as_a_network_reads_it(self):
        for text, plain, html in (
            ("**High water** at *ten*, see [the table](https://tides.example/pell).",
             "High water at ten, see the table (https://tides.example/pell).",
             '<b>High water</b> at <i>ten</i>, see <a href="https://tides.example/pell">the table'
             "</a>."),
            ("# Hours\n- open **daily**\n- 5 * 3 = 15 in snake_case_name",
             "Hours\n- open daily\n- 5 * 3 = 15 in snake_case_name",
             "<b>Hours</b>\n- open <b>daily</b>\n- 5 * 3 = 15 in snake_case_name"),
            ("a < b & `c < d`", "a < b & c < d", "a &lt; b &amp; <code>c &lt; d</code>"),
            ("see https://a.example/x_y_z.", "see https://a.example/x_y_z.",
             "see https://a.example/x_y_z."),
            ("[https://a.example](https://a.example)", "https://a.example",
             '<a href="https://a.example">https://a.example</a>'),
            ("[press](javascript:alert(1))", "press (javascript:alert(1))", "press"),
            (r"\*not slanted\* and **open", "*not slanted* and **open", "*not slanted* and **open"),
            ("```\nput <x>\n```", "put <x>\n", "<pre>put &lt;x&gt;\n</pre>"),
        ):  # fmt: skip
            with self.subTest(text):
                self.assertEqual(written_in(text, "none"), plain)
                self.assertEqual(written_in(text, "html"), html)
                self.assertEqual(written_in(text, "markdown"), text)

    def test_links_are_found_and_said(self):
        text = "See https://a.example/x. Or [the map](https://b.example), https://a.example/x!"
        self.assertEqual(links_in(text), ["https://a.example/x", "https://b.example"])
        self.assertEqual(speakable(text, "a link"), "See a link. Or the map, a link!")

    def test_what_never_ends_a_span_stays_as_it_is(self):
        for evil in ("[", "`", "**a ", "~~a ", "[a](", "_a ", "[a]((("):
            with self.subTest(evil):
                long = evil * 20_000
                self.assertEqual(written_in(long, "none"), long)
                self.assertEqual(links_in(long), [])
