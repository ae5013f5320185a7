"""PDFs in an assistant's folder: read by page and outline, in a process of their own, once."""

import os
import tempfile
import unittest
import unittest.mock
from pathlib import Path

from fond_echo.core.dialogue.errors import UnreadableDocument
from fond_echo.documents import pdf
from fond_echo.documents.errors import InvalidFile
from fond_echo.documents.media import as_text
from fond_echo.documents.pdf import markdown_of_pdf
from fond_echo.documents.reading import read_assistant
from tests.support.pdfs import pdf_of

FIRST = [
    "The kiosk at the quay sells tickets to all three islands, and is open on every day of the",
    "week from nine until the last boat has sailed. Bicy-",
    "cles cost two pounds.",
    "# Not a heading",
]
HANDBOOK = pdf_of(
    [FIRST, ["Sheep travel on the lower deck (in pens)."]], {1: "Tickets", 2: "Sheep"}
)
DESK = """\
assistant: small-desk
voice: tern
fallback: {reply: {documents: ["book/*.pdf"], unknown: I do not know.}}
"""


class Pdfs(unittest.TestCase):
    def setUp(self):
        pdf._kept.clear()

    def test_pages_are_headings_and_lines_are_paragraphs(self):
        self.assertEqual(
            markdown_of_pdf("book.pdf", as_text(HANDBOOK)).split("\n\n"),
            ["# Tickets, page 1",
             "The kiosk at the quay sells tickets to all three islands, and is open on every day of"
             " the week from nine until the last boat has sailed. Bicycles cost two pounds.",
             "\\# Not a heading", "# Sheep, page 2", "Sheep travel on the lower deck (in pens)."],
        )  # fmt: skip

    def test_a_reply_finds_its_passage_with_heading_and_page(self):
        files = {"assistant.yaml": DESK, "book/hand-book.pdf": as_text(HANDBOOK)}
        found = read_assistant(files).documents_of("fallback").best("where do sheep travel")
        self.assertEqual(found.passage.source, "hand book, Sheep, page 2")
        self.assertEqual(found.passage.text, "Sheep travel on the lower deck (in pens).")

    def test_it_is_read_once_and_kept_for_this_user_alone(self):
        whole = markdown_of_pdf("book.pdf", as_text(HANDBOOK))
        self.assertEqual(os.stat(pdf._folder()).st_mode & 0o777, 0o700)
        pdf._kept.clear()
        with unittest.mock.patch.object(pdf, "_read", side_effect=AssertionError):
            self.assertEqual(markdown_of_pdf("other.pdf", as_text(HANDBOOK)), whole)

    def test_no_more_are_kept_than_a_number_of_them(self):
        with tempfile.TemporaryDirectory() as place:
            folder = Path(place)
            with (
                unittest.mock.patch.object(pdf, "_folder", return_value=folder),
                unittest.mock.patch.object(pdf, "MOST_KEPT", 2),
                unittest.mock.patch.object(pdf, "_read", return_value="# page 1"),
            ):
                for number in range(4):
                    markdown_of_pdf("a.pdf", as_text(HANDBOOK + bytes([number])))
            self.assertEqual(len(list(folder.iterdir())), 2)

    def test_what_cannot_be_read_is_an_error_of_the_assistant(self):
        pictures = pdf_of([[], []])
        locked = HANDBOOK.replace(b"trailer<<", b"trailer<</Encrypt<</Filter/Odd>>")
        for data, what in (
            (pictures, "pictures of pages and no text"),
            (b"%PDF-1.4\n" + b"[" * 100_000, "cannot be read"),
            (HANDBOOK[:200], "cannot be read"),
            (locked, "cannot be read|locked"),
        ):
            with self.subTest(what):
                files = {"assistant.yaml": DESK, "book/a.pdf": as_text(data)}
                with self.assertRaisesRegex(InvalidFile, f"assistant.yaml:3:.*book/a.pdf.*{what}"):
                    read_assistant(files)
        with self.assertRaisesRegex(UnreadableDocument, "not base64"):
            markdown_of_pdf("a.pdf", "%PDF")

    def test_what_takes_too_much_ends_by_itself(self):
        for failing, what in (
            ({"timeout": True}, "took over"), ({"returncode": -24}, "too much memory or time"),
        ):  # fmt: skip
            pdf._kept.clear()
            fake = unittest.mock.Mock(returncode=failing.get("returncode"), stdout=b"")
            error = pdf.subprocess.TimeoutExpired("x", 1) if "timeout" in failing else None
            data = as_text(HANDBOOK + what.encode())
            with (
                unittest.mock.patch.object(
                    pdf.subprocess, "run", return_value=fake, side_effect=error
                ),
                unittest.mock.patch.object(pdf, "_written"),
                self.assertRaisesRegex(UnreadableDocument, what),
            ):
                markdown_of_pdf("a.pdf", data)
