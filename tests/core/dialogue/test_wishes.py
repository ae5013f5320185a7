"""What engines want functions called with: refused in few words, however much it is."""

import unittest

from fond_echo.core.dialogue.functions import MAX_ARGUMENT, Argument, Function, Wish, refusal

ISLAND = Function("boats", "when boats leave", {
    "island": Argument("text", "", True, ()), "places": Argument("number", "", False, ()),
    "boat": Argument("text", "", False, ("Petrel", "Guillemot")),
})  # fmt: skip


class Refusals(unittest.TestCase):
    def why(self, arguments, name="boats"):
        return refusal(Wish(name, arguments), [ISLAND])

    def test_an_argument_has_a_size(self):
        self.assertEqual(self.why({"island": "x" * MAX_ARGUMENT}), "")
        self.assertEqual(
            self.why({"island": "x" * (MAX_ARGUMENT + 1)}), "island is over 4,000 characters"
        )

    def test_why_is_short_whatever_came(self):
        much = "x" * 1_000_000
        for arguments, name in (
            ({"island": "Pell", "boat": much}, "boats"), ({much: 1}, "boats"),
            ({"places": much}, "boats"), ({"island": {"a": much}}, "boats"), ({}, much),
        ):  # fmt: skip
            why = self.why(arguments, name)
            self.assertTrue(why)
            self.assertLess(len(why), 300)
