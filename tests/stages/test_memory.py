"""What is remembered of a contact, and until when."""

import unittest
from datetime import UTC, datetime, timedelta

from fond_echo.turns.memory import UNTIL, facts, with_facts

NOW = datetime(2026, 11, 25, 14, 0, tzinfo=UTC)


class Facts(unittest.TestCase):
    def test_added_replaced_and_forgotten(self):
        memory = with_facts({}, {"island": "Pell", "seats": 2}, 0, NOW)
        self.assertEqual(facts(memory, NOW), {"island": "Pell", "seats": 2})
        memory = with_facts(memory, {"island": "Ossel", "seats": None}, 0, NOW)
        self.assertEqual(memory, {"island": "Ossel"})

    def test_some_end(self):
        memory = with_facts({"name": "Isla"}, {"booking": "P4"}, 3, NOW)
        self.assertIn("booking", facts(memory, NOW + timedelta(days=2)))
        later = NOW + timedelta(days=4)
        self.assertEqual(facts(memory, later), {"name": "Isla"})
        self.assertEqual(
            with_facts(memory, {}, 0, later), {"name": "Isla"}, "the rest is forgotten"
        )

    def test_a_fact_that_is_told_again_has_its_new_end(self):
        memory = with_facts({}, {"booking": "P4"}, 3, NOW)
        self.assertNotIn(UNTIL, with_facts(memory, {"booking": "P5"}, 0, NOW))
        longer = with_facts(memory, {"booking": "P5"}, 30, NOW)
        self.assertIn("booking", facts(longer, NOW + timedelta(days=20)))

    def test_no_fact_has_the_name_of_the_ends(self):
        memory = with_facts({}, {UNTIL: {"island": "x"}, "island": "Pell"}, 0, NOW)
        self.assertEqual(memory, {"island": "Pell"})
