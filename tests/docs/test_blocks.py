"""What the docs show to be typed: commands that the command line takes, imports that are there."""

import argparse
import ast
import contextlib
import importlib
import io
import re
import shlex
import unittest
from pathlib import Path

from fond_echo.cli.main import parser

ROOT = Path(__file__).parents[2]
PAGES = [ROOT / "README.md", ROOT / "CONTRIBUTING.md", *sorted((ROOT / "docs").rglob("*.md"))]
OPEN = re.compile(r"…|\.\.\.|<[a-z]|\[--")
"""A command that is only hinted at."""


def commands(page):
    """(line, words) of every command of ours in a page."""
    for number, line in enumerate(page.read_text().split("\n"), 1):
        found = [line.strip()] if re.match(r"    (\$ )?(\.venv/bin/)?fond-echo ", line) else []
        found += re.findall(r"`(fond-echo [^`]+)`", line)
        for each in found:
            typed = re.split(r"\s(?:\||>|<|&|2>)", each.split("  #")[0].split(" # ")[0])[0]
            if OPEN.search(typed) or typed.endswith("\\"):
                continue
            with contextlib.suppress(ValueError):
                yield number, shlex.split(typed.lstrip("$ "))[1:]


def blocks(page):
    """The indented blocks of a page."""
    block = []
    for line in [*page.read_text().split("\n"), ""]:
        if line.startswith("    ") or (block and not line.strip()):
            block.append(line[4:])
        elif block:
            yield "\n".join(block)
            block = []


def options_of(above, words):
    """The options of the command that words begin with."""
    for action in above._actions:
        if isinstance(action, argparse._SubParsersAction) and words and words[0] in action.choices:
            return options_of(action.choices[words[0]], words[1:])
    return {option for action in above._actions for option in action.option_strings}


class Commands(unittest.TestCase):
    def test_each_is_one_that_the_command_line_takes(self):
        known, count = parser(), 0
        for page in PAGES:
            for number, words in commands(page):
                err = io.StringIO()
                with self.subTest(page=page.name, line=number, words=words):
                    typed = {word.split("=")[0] for word in words if re.match(r"--[a-z]", word)}
                    self.assertEqual(typed - options_of(known, words), set())
                    try:
                        with contextlib.redirect_stderr(err):
                            known.parse_args(words)
                    except SystemExit as ended:
                        said = err.getvalue().strip().split("\n")[-1]
                        if "required" not in said:
                            self.assertEqual(ended.code, 0, said)
                    count += 1
        self.assertGreater(count, 60)


class Imports(unittest.TestCase):
    def test_what_is_imported_is_there(self):
        count = 0
        for page in PAGES:
            for block in blocks(page):
                for line in re.findall(
                    r"(?m)^(?:from fond_echo\S* import .+|import fond_echo\S*)$", block
                ):
                    with self.subTest(page=page.name, line=line):
                        (statement,) = ast.parse(line.split("  #")[0]).body
                        if isinstance(statement, ast.ImportFrom):
                            module = importlib.import_module(statement.module)
                            for each in statement.names:
                                self.assertTrue(hasattr(module, each.name), each.name)
                        count += 1
        self.assertGreater(count, 3)
