import unittest

from fond_echo.core.caching import Recent


class Keeping(unittest.TestCase):
    def test_what_was_not_used_for_longest_goes_first(self):
        kept = Recent(10, len)
        for name, size in (("a", 4), ("b", 4)):
            kept.keep(name, b"x" * size)
        self.assertTrue(kept.get("a"))
        kept.keep("c", b"x" * 4)
        self.assertEqual(sorted(kept), ["a", "c"])

    def test_another_value_in_the_place_of_one_is_counted_once(self):
        kept = Recent(10, len)
        for _ in range(3):
            kept.keep("a", b"x" * 8)
        self.assertEqual((kept.currsize, len(kept)), (8, 1))
        kept.keep("a", b"x")
        self.assertEqual(kept.currsize, 1)

    def test_what_is_larger_than_all_may_be_is_not_kept(self):
        kept = Recent(10, len)
        kept.keep("a", b"x" * 5)
        kept.keep("b", b"x" * 11)
        self.assertEqual(list(kept), ["a"])
        kept.keep("a", b"x" * 11)
        self.assertEqual((list(kept), kept.currsize), ([], 0))
