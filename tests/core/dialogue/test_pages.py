"""Documents as people have them: web pages and tables become passages with their headings."""

from __future__ import annotations

import unittest

from fond_echo.core.dialogue.documents import Documents
from fond_echo.core.dialogue.errors import UnreadableDocument
from fond_echo.core.dialogue.pages import MAX_ROWS, as_markdown

PAGE = """<!doctype html><html><head><title>Harbour handbook</title>
<style>p {color: red}</style><script>var fares = "hidden";</script></head>
<body><nav><a href="/">Home</a></nav><h1>Handbook</h1>
<h2>Livestock</h2><p>Sheep and goats travel on the <b>lower deck</b>&nbsp;by arrangement.</p>
<h2>Bicycles</h2><ul><li>A place costs two pounds.</li><li>Tandems count twice.</li></ul>
<table><tr><th>boat</th><th>places</th></tr><tr><td>Petrel</td><td>8</td></tr></table>
<p>Broken <i>tags</p></body></html>"""

FARES = "island;adult;child\nPell;4.20;2.10\nBrannick;6,50;3\n\nLittle Marrow;5;\n"


class Pages(unittest.TestCase):
    def test_a_web_page_keeps_headings_lists_and_tables_and_nothing_hidden(self) -> None:
        text = as_markdown("handbook/rules.html", PAGE)
        for line in ("# Handbook", "## Livestock", "- A place costs two pounds.", "Petrel | 8"):
            self.assertIn(line, text)
        for hidden in ("color", "hidden", "Home"):
            self.assertNotIn(hidden, text)
        self.assertIn("lower deck by arrangement", text)

    def test_a_passage_of_a_web_page_is_found_and_named(self) -> None:
        documents = Documents({"handbook/rules.html": PAGE, "fares.csv": FARES})
        found = documents.best("can I bring goats on deck")
        assert found is not None
        self.assertEqual(found.passage.source, "rules, Livestock")
        found = documents.best("adult fare to Brannick island")
        assert found is not None
        self.assertIn("adult: 6,50", found.passage.text)
        self.assertEqual(found.passage.source, "fares")

    def test_a_row_is_a_passage_with_the_names_of_its_columns(self) -> None:
        text = as_markdown("fares.csv", FARES)
        rows = text.split("\n\n")
        self.assertEqual(rows[0], "island: Pell, adult: 4.20, child: 2.10.")
        self.assertEqual(rows[2], "island: Little Marrow, adult: 5.")

    def test_what_cannot_be_read_says_what_would_be(self) -> None:
        for name, text, why in (
            ("a.pdf", "JVBERi0xLjQK", "searched"),
            ("a.csv", "island;adult\n", "no rows"),
            ("b.csv", "a,b\n" * (MAX_ROWS + 2), "rows"),
        ):
            with self.assertRaises(UnreadableDocument) as caught:
                as_markdown(name, text)
            self.assertIn(why, f"{caught.exception} {caught.exception.remedy}")

    def test_hostile_pages_end(self) -> None:
        for text in ("<div>" * 20_000, "<" * 50_000, "&#x" * 20_000, "<script>" * 5_000 + "x"):
            self.assertIsInstance(as_markdown("x.html", text), str)
