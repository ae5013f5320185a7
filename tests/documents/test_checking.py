"""Checks of large assistants, and checks again after changes."""

import random
import unittest

from bench.large_assistants import alike, apart, files_of, reworded
from fond_echo.demo.world import files_of as demo_files
from fond_echo.documents import foresight
from fond_echo.documents.checking import check
from fond_echo.documents.errors import MAX_ERRORS


def from_nothing(files):
    foresight._finders.clear()
    return check(files)


class Large(unittest.TestCase):
    def test_findings_of_a_kind_are_limited_and_the_rest_is_counted(self):
        found = check(files_of(alike(260)))
        self.assertEqual(found.errors, ())
        strays = [each for each in found.warnings if "is nearer to" in each.what]
        self.assertEqual(len(strays), foresight.MAX_SHOWN)
        (rest,) = [each for each in found.warnings if "more examples are nearer" in each.what]
        self.assertGreater(int(rest.what.split()[0].replace(",", "")), 20)
        self.assertIn("check again", rest.remedy)

    def test_errors_are_limited_and_the_rest_is_counted(self):
        files = files_of(apart(150))
        text = files["assistant.yaml"].replace("    reply:", "    repply:")
        found = check({"assistant.yaml": text})
        self.assertEqual(len(found.errors), MAX_ERRORS + 1)
        self.assertEqual(found.errors[-1].what, "200 more errors")

    def test_what_sounds_alike_is_found_behind_the_first_hundreds(self):
        routes = apart(60)
        routes[3].append("the keeper wanted a purple boat")
        routes[59].append("the keeper wanted a purple bote")
        found = check(files_of(routes)).warnings
        self.assertTrue(any("purple bote" in each.what for each in found), found)

    def test_after_random_changes_the_findings_are_those_of_a_check_from_nothing(self):
        chance = random.Random(7)
        for begun in (demo_files("harbour-desk"), files_of(alike(45, examples=4))):
            files = begun
            check(files)
            for _ in range(8):
                files = reworded(files, chance)
                again = check(files)
                self.assertEqual(again, from_nothing(files))
