"""Sentences of talk for the model of words."""

import tempfile
import unittest
import zlib
from pathlib import Path

from training.talk import LINES, NOVELS, sentences_of, talk


def string(text):
    """A string as R writes it."""
    data = text.encode()
    return b"\x00\x04\x00\x09" + len(data).to_bytes(4, "big") + data


class Talk(unittest.TestCase):
    def test_sentences_as_they_stand_and_in_haste(self):
        found = list(
            sentences_of("I am quite sure; you will not go -- to-morrow, any body can not.")
        )
        self.assertIn(("i", "am", "quite", "sure"), found)
        self.assertIn(("i'm", "quite", "sure"), found)
        self.assertIn(("you", "won't", "go"), found)
        self.assertIn(("tomorrow", "anybody", "cannot"), found)

    def test_what_is_said_in_novels_and_lines(self):
        with tempfile.TemporaryDirectory() as name:
            folder = Path(name)
            (folder / NOVELS).parent.mkdir(parents=True)
            (folder / LINES).parent.mkdir(parents=True)
            block = string('He stood up. "Where are') + string('you going?" she asked.')
            packed = zlib.compress(block)
            (folder / NOVELS).write_bytes(len(block).to_bytes(4, "big") + packed)
            (folder / LINES).write_text('msgid ""\n"`6Hello &name, "\n"friend."\nmsgstr ""\n')
            found = set(talk(folder))
        self.assertIn(("where", "are", "you", "going"), found)
        self.assertIn(("hello", "friend"), found)
        self.assertNotIn(("he", "stood", "up"), found)
        with self.assertRaises(FileNotFoundError):
            list(talk(Path("nowhere")))


if __name__ == "__main__":
    unittest.main()
