"""Opening hours, and times that may be meant twice a day."""

import unittest
from datetime import UTC, date, datetime, time
from zoneinfo import ZoneInfo

from fond_echo.core.dialogue.hours import Hours, days_of, likelier, span_of
from fond_echo.core.dialogue.slots import Slot, SlotMachine
from fond_echo.core.language.registry import language

LONDON = ZoneInfo("Europe/London")
DESK = Hours(
    {day: [span_of("08:00-18:00")] for day in days_of("mon-fri")} | {5: [span_of("09:00-12:00")]},
    frozenset([date(2026, 12, 25)]), LONDON,
)  # fmt: skip
FRIDAY = datetime(2026, 11, 27, 10, 0, tzinfo=UTC)


class Opening(unittest.TestCase):
    def test_days_and_spans(self):
        self.assertEqual(days_of("fri-mon"), [4, 5, 6, 0])
        self.assertEqual(days_of("mon, wed"), [0, 2])
        self.assertEqual(span_of("8:30 - 24:00"), (time(8, 30), time(23, 59)))
        for given, read in (("monday", days_of), ("8-18", span_of), ("18:00-08:00", span_of)):
            with self.subTest(given), self.assertRaises(ValueError):
                read(given)

    def test_open_and_when_next(self):
        self.assertTrue(DESK.is_open(FRIDAY))
        evening = FRIDAY.replace(hour=18, minute=0)
        self.assertFalse(DESK.is_open(evening))
        self.assertEqual(DESK.next_open(evening), datetime(2026, 11, 28, 9, 0, tzinfo=LONDON))
        self.assertFalse(DESK.is_open(datetime(2026, 12, 25, 10, 0, tzinfo=UTC)))
        summer = datetime(2026, 7, 3, 7, 30, tzinfo=UTC)
        self.assertTrue(DESK.is_open(summer), "it is half past eight there")
        self.assertIsNone(Hours({}).next_open(FRIDAY))

    def test_the_likelier_of_two_times(self):
        tuesday = date(2026, 12, 1)
        both = ("03:30", "15:30")
        self.assertEqual(likelier(both, tuesday, FRIDAY, DESK), "15:30")
        self.assertEqual(likelier(both, tuesday, FRIDAY, None), "15:30")
        self.assertIsNone(likelier(both, FRIDAY.date(), FRIDAY, None), "the next one, as before")
        self.assertIsNone(likelier(("06:30", "18:30"), tuesday, FRIDAY, DESK))


class Slots(unittest.TestCase):
    def fill(self, text, hours=DESK):
        rules = language("en").types.builtin_grammar()
        rules.others["builtin:"] = rules
        slots = [Slot("day", "builtin:date"), Slot("at", "builtin:time")]
        spoken = language("en").writing.spoken_tokens
        machine = SlotMachine(slots, rules, FRIDAY, lambda *_: "", text, hours=hours)
        step = machine.begin("book", spoken(text))
        return {name: each.value for name, each in step.open.filled.items()}

    def test_half_past_three_next_tuesday_is_by_day(self):
        self.assertEqual(self.fill("next Tuesday at half past three")["at"], "15:30")
        self.assertEqual(self.fill("next Tuesday at half past three", None)["at"], "15:30")
        self.assertEqual(self.fill("next Tuesday at eight")["at"], "08:00")
        self.assertEqual(self.fill("next Tuesday at three in the morning")["at"], "03:00")

    def test_of_today_the_next_one_is_meant_where_the_hours_do_not_decide(self):
        self.assertEqual(self.fill("today at half past nine", None)["at"], "21:30")
        self.assertEqual(self.fill("today at half past nine")["at"], "09:30")


if __name__ == "__main__":
    unittest.main()
