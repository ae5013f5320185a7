"""Words that are spelt alike, said by what stands beside them."""

import unittest

from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.speech.material import lexicon

ROWS = (
    ("I will record it", "record", "R IH0 K AO1 R D"), ("the record of it", "record", "R EH1 K ER0 D"),
    ("Record the message", "record", "R IH0 K AO1 R D"), ("a record fare", "record", "R EH1 K ER0 D"),
    ("please present your ticket", "present", "P R IY0 Z EH1 N T"), ("the present fare", "present", "P R EH1 Z AH0 N T"),
    ("you can use the pier", "use", "Y UW1 Z"), ("no use at all", "use", "Y UW1 S"),
    ("we close at nine", "close", "K L OW1 Z"), ("it is close to the pier", "close", "K L OW1 S"),
    ("close the door", "close", "K L OW1 Z"), ("I have read it", "read", "R EH1 D"), ("please read it", "read", "R IY1 D"),
    ("the wind is strong", "wind", "W IH1 N D"), ("to wind the rope", "wind", "W AY1 N D"), ("wind up the rope", "wind", "W AY1 N D"),
    ("they live on Pell", "live", "L IH1 V"), ("we live here", "live", "L IH1 V"), ("live music", "live", "L AY1 V"),
    ("she lives here", "lives", "L IH1 V Z"), ("it saves lives", "lives", "L AY1 V Z"),
    ("the bow of the boat", "bow", "B AW1"), ("a lead keel", "lead", "L EH1 D"), ("the lead boat", "lead", "L IY1 D"), ("lead weights", "lead", "L EH1 D"),
    ("we refuse it", "refuse", "R IH0 F Y UW1 Z"), ("the refuse boat", "refuse", "R EH1 F Y UW2 Z"),
    ("I'm content", "content", "K AH0 N T EH1 N T"), ("the content of it", "content", "K AA1 N T EH0 N T"),
    ("you may transport a goat", "transport", "T R AE2 N S P AO1 R T"), ("transport by sea", "transport", "T R AE1 N S P AO0 R T"),
)  # fmt: skip


class Homographs(unittest.TestCase):
    def test_by_their_neighbours(self):
        wrong = []
        for text, word, sounds in ROWS:
            tokens = spoken_tokens(text)
            found = " ".join(lexicon().in_phrase(tokens, tokens.index(word)))
            if found != sounds:
                wrong.append((text, found))
        self.assertEqual([text for text, _ in wrong], [])

    def test_an_assistant_s_own_lexicon_comes_first(self):
        known = lexicon().with_sounds([("read", "R EH1 D")])
        self.assertEqual(known.in_phrase(("please", "read"), 1), ("R", "EH1", "D"))
        self.assertEqual(known.in_phrase(("boat",), 0), ("B", "OW1", "T"))


if __name__ == "__main__":
    unittest.main()
