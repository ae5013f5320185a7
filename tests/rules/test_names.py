"""Names that were given up are in nothing that a user sees: API, schemas, commands, tables."""

import argparse
import json
import re
import unittest
from collections.abc import Iterator
from pathlib import Path

from fond_echo.cli.main import parser
from fond_echo.documents.schema import made
from fond_echo.store.base import Record
from fond_echo.web.document import document
from fond_echo.web.health import exposition

DOCUMENT = document()
GIVEN_UP = frozenset(
    """
    a_minute aloud description answerer at_a_machine burst_seconds come_back cost_a_day dead_letters
    doubtful_words give hear_back left_alone_until loudness_db manner minutes_a_day minutes_heard
    dead of_many onto rest_seconds room_of_many second_reading added_at made_at stored_at heard_back
    person_closed person_number slow_seconds slow_words words_days
    """.split()
)
OPTIONS = frozenset("ask tries again-after onto network out into clear words".split())
VERBS = frozenset("mend resend forget".split())
IMPERATIVE = frozenset(
    """
    Add Allow Answer Ask Bundle Check Choose Compare Connect Convert Create Delete Deliver Disconnect Draft
    Download End Erase Exchange Follow Get Begin List Load Make Place Play Propose Publish Receive Register
    Rename Replace Replay Retry Revoke Run Send Settle Show Stop Store Subscribe Synthesize Transcribe
    """.split()
)


LABELS = frozenset(
    (
        "Address to tell", "Answer again", "Asked today", "Begin anew", "Clear", "Drop it", "Keep",
        "Keep as draft", "Log", "Make a key", "Mean wait", "Mend it", "Mend it in the draft",
        "Not let in", "Requests to copy", "Resend", "Tell it", "Trouble foreseen", "how it stands",
    )
)  # fmt: skip
CONSOLE = Path(__file__).parents[2] / "console" / "src"
TEXT = re.compile(r"^ *([A-Za-z][^<>{}\n]*?) *$|>([A-Za-z][^<>{}\n]*)<", re.MULTILINE)
ATTRIBUTE = re.compile(r'\b(?:label|placeholder|title)="([^"]+)"')


def properties(tree) -> Iterator[str]:
    """Every property and parameter that a JSON Schema or an OpenAPI document names."""
    if isinstance(tree, dict):
        if isinstance(tree.get("properties"), dict):
            yield from tree["properties"]
        if "in" in tree and isinstance(tree.get("name"), str):
            yield tree["name"]
        for value in tree.values():
            yield from properties(value)
    elif isinstance(tree, list):
        for each in tree:
            yield from properties(each)


def commands(above: argparse.ArgumentParser) -> Iterator[tuple[str, argparse.ArgumentParser]]:
    for action in above._actions:
        if isinstance(action, argparse._SubParsersAction):
            for name, each in action.choices.items():
                yield name, each
                yield from commands(each)


class Names(unittest.TestCase):
    def test_in_the_api(self):
        self.assertEqual(GIVEN_UP & set(properties(DOCUMENT)), set())
        paths = {part for path in DOCUMENT["paths"] for part in path.split("/")}
        self.assertEqual(
            paths & {"mending", "doubtful-words", "dead-letters", "talk", "resend"}, set()
        )

    def test_in_files(self):
        self.assertEqual(GIVEN_UP & set(properties(json.loads(made()))), set())

    def test_in_tables(self):
        columns = {each.name for table in Record.metadata.tables.values() for each in table.columns}
        self.assertEqual(GIVEN_UP & columns, set())

    def test_in_commands(self):
        for name, each in commands(parser()):
            self.assertNotIn(name, VERBS)
            options = {option.lstrip("-") for action in each._actions
                       for option in action.option_strings}  # fmt: skip
            # Of a call, --ask was what --opening-url is now; of a try, it asks engines.
            meant = {"ask"} if name in ("try", "replay", "test", "widen") else set()
            self.assertEqual(options & OPTIONS - meant, set(), name)

    def test_in_metrics(self):
        text = exposition([], {"harbour": {"calls": 2, "refused_busy": 1}}).decode()
        names = set(re.findall(r"^# HELP fond_echo_(\w+) ", text, re.MULTILINE))
        self.assertIn("webhook_seconds", names)
        parts = {part for name in names for part in (name, *name.split("_"))}
        self.assertEqual(parts & {*GIVEN_UP, "arrivals", "lines", "dead", "notices"}, set())

    def test_in_labels_of_the_console(self):
        found = set()
        for path in CONSOLE.rglob("*.tsx"):
            source = path.read_text("utf-8")
            found |= {own or within for own, within in TEXT.findall(source)}
            found |= set(ATTRIBUTE.findall(source))
        for label in ("Start over", "Webhook address", "Send it", "Connect again"):
            self.assertTrue(label in found, label)
        self.assertEqual(found & LABELS, set())

    def test_every_operation_has_a_sentence_and_a_name(self):
        found = [each for path in DOCUMENT["paths"].values() for each in path.values()
                 if isinstance(each, dict) and "operationId" in each]  # fmt: skip
        names = [each["operationId"] for each in found]
        self.assertEqual(len(names), len(set(names)))
        for each in found:
            self.assertRegex(each["operationId"], re.compile(r"^[a-z]+(-[a-z]+)+$"))
            self.assertIn(each["summary"].split()[0].strip(","), IMPERATIVE, each["summary"])
