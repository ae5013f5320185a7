"""Benchmarks can be begun: each is imported, and says what it measures."""

import importlib
import unittest
import unittest.mock
from pathlib import Path

import bench
from bench.report import options


class Benches(unittest.TestCase):
    def test_each_can_be_imported(self):
        names = sorted(each.stem for each in Path(bench.__file__).parent.glob("[a-z]*.py"))
        self.assertGreater(len(names), 20)
        for name in names:
            with self.subTest(bench=name):
                self.assertTrue(importlib.import_module(f"bench.{name}").__doc__)

    def test_their_options_are_read(self):
        with unittest.mock.patch("sys.argv", ["bench", "--notes", "3"]):
            self.assertEqual(options("What it measures.", notes=5).notes, 3)
