"""The course of a call, fed silence, keys and what became of turns."""

import unittest

import numpy as np

from fond_echo.core.audio.resample import at_rate
from fond_echo.core.telephony.conversation.course import (
    FRAMES_AFTER,
    After,
    Beep,
    CallCourse,
    CallWords,
    Greet,
    HangUp,
    Note,
    Open,
    Repeat,
    Say,
    SoundWaiting,
    Transfer,
)
from fond_echo.core.telephony.conversation.turn_taking import (
    CallPolicy,
    Press,
    SpeculativeEndpoint,
    StopPlayback,
    Understand,
)
from tests.sounds import noise, speech, tone

SILENCE = np.zeros(160, np.int16)
WORDS = CallWords(2, ("Are you there?", "Hello?"), "I hang up.", "Nobody answers.")


def frames(clip):
    samples = (at_rate(clip, 8_000).samples * 20_000).astype(np.int16)
    return [samples[at : at + 160] for at in range(0, samples.size - 159, 160)]


class Courses(unittest.TestCase):
    def begin(self, **more):
        self.now = 100.0
        policy = CallPolicy(wait_seconds=1.0, reminders=3)
        self.course = CallCourse(policy, WORDS, **more)
        return self.course.answered(self.now)

    def greeted(self):
        """A call whose greeting was said."""
        self.begin()
        self.course.can_repeat = True
        self.course.speaks(self.now)
        self.course.greeted()

    def pass_by(self, count=1, frame=SILENCE, keys=(), **state):
        found = []
        for _ in range(count):
            self.now += 0.02
            reported = {"playing": False, "busy": False, "heard_at": self.now, **state}
            found += self.course.frame(frame, keys, self.now, **reported)
        return found

    def test_a_caller_is_greeted_at_once_and_keys_before_the_answer_count(self):
        course = CallCourse(CallPolicy(), WORDS)
        self.assertEqual(
            course.frame(SILENCE, ["1"], 0.0, playing=False, busy=False, heard_at=0), []
        )
        self.assertEqual(course.key("2", 0.0), [])
        self.assertEqual(course.answered(1.0), [Greet(), Press("1"), Press("2")])

    def test_who_says_nothing_is_greeted_again_reminded_and_left(self):
        self.greeted()
        found = []
        while not found or not isinstance(found[-1], HangUp):
            self.assertLess(self.now, 120.0)
            for action in self.pass_by():
                found.append(action)
                if isinstance(action, Say | Repeat):
                    self.course.speaks(self.now)
        self.assertEqual(
            found,
            [Repeat(), Say("Are you there?"), Say("Hello?"), Say("I hang up."), HangUp("hung-up")],
        )

    def test_what_was_said_or_pressed_becomes_a_turn_and_no_greeting_comes_again(self):
        self.greeted()
        self.pass_by(5)
        said = next(a for f in frames(speech("When is the next boat?")) + [SILENCE] * 60
                    for a in self.pass_by(frame=f) if isinstance(a, Understand))  # fmt: skip
        self.assertGreater(said.samples.size, 8_000)
        self.course.turn_ended(After())
        self.course.idle(self.now)
        self.assertEqual(self.pass_by(60)[0], Say("Are you there?"))

    def test_a_key_stops_what_is_said(self):
        self.greeted()
        self.assertEqual(self.pass_by(keys=["5"], playing=True), [StopPlayback(), Press("5")])

    def test_the_end_waits_for_the_last_words(self):
        self.greeted()
        self.assertEqual(self.course.turn_ended(After(ended=True)), [])
        self.assertEqual(self.pass_by(100, playing=True), [])
        self.assertEqual(self.pass_by(50, busy=True), [])
        self.assertEqual(self.pass_by(FRAMES_AFTER), [])
        self.assertEqual(self.pass_by(), [HangUp("hung-up")])

    def test_nobody_is_answered_who_may_not_be(self):
        self.greeted()
        self.assertEqual(self.course.turn_ended(None), [HangUp("hung-up")])

    def test_a_transfer_comes_about_fails_or_is_not_answered(self):
        for status, then in (
            (200, [HangUp("transferred")]), (486, [Say("Nobody answers.")]),
        ):  # fmt: skip
            self.greeted()
            self.course.turn_ended(After(transfer="+441632960100"))
            self.assertEqual(self.pass_by(), [Transfer("+441632960100")])
            # Nobody is reminded meanwhile; the line is not dead.
            self.assertEqual(self.pass_by(200), [SoundWaiting()])
            reported = Note("transferred", {"to": "+441632960100", "status": status})
            self.assertEqual(self.course.transferred(status), [reported, *then])
            self.assertEqual(self.course.transferred(status), [])
        self.greeted()
        self.course.turn_ended(After(transfer="+441632960100"))
        self.pass_by()
        self.assertEqual(self.course.transferred(0), [Say("Nobody answers.")])
        self.course.turn_ended(After(transfer="+441632960100"))
        self.course.speaks(self.now)
        found = [each for each in self.pass_by(21 * 50) if each != SoundWaiting()]
        self.assertEqual(found[1].data["status"], 408)
        # Where we are told that it rings, it may take longer.
        self.course.turn_ended(After(transfer="+441632960100"))
        self.course.speaks(self.now)
        self.pass_by()
        self.assertEqual(self.course.transferred(180), [])
        waiting = self.pass_by(89 * 50)
        self.assertEqual({type(each) for each in waiting}, {SoundWaiting})
        found = [each for each in self.pass_by(2 * 50) if each != SoundWaiting()]
        self.assertEqual(found[0].data["status"], 408)

    def test_a_message_is_taken_after_the_beep(self):
        self.greeted()
        self.assertEqual(self.course.turn_ended(After(message_seconds=20.0)), [Beep()])
        self.course.speaks(self.now)
        self.assertEqual(self.pass_by(), [])
        found = []
        for frame in [*frames(speech("This is Isla.")), *[SILENCE] * 50, *frames(speech("Bye."))]:
            found += self.pass_by(frame=frame)
        self.assertEqual(found, [], "a message may have pauses")
        found = self.pass_by(150)
        self.assertIsInstance(found[0], Understand)

    def test_a_call_without_packets_is_over(self):
        self.greeted()
        self.assertEqual(self.pass_by(heard_at=self.now - 31), [HangUp("vanished")])

    def test_who_answers_a_call_that_we_placed_is_found_out_first(self):
        self.assertEqual(self.begin(placed=True), [])
        found = []
        for frame in [*frames(speech("Hello?")), *[SILENCE] * 150]:
            found += self.pass_by(frame=frame)
            if Open() in found:
                break
        self.assertEqual(found, [Note("answered_by", {"who": "person"}), Open()])

    def test_a_machine_gets_the_opening_after_its_beep_or_is_left(self):
        greeting = speech(
            "You have reached the harbour office. We cannot come to the telephone now. "
            "Please leave a message after the tone, and we will ring you back."
        )
        for leave, end in ((True, Open()), (False, HangUp("hung-up"))):
            self.begin(placed=True, leave_a_message=leave)
            found = []
            beep = frames(tone(0.6, 8_000, 1_000.0))
            for frame in [*frames(greeting), *[SILENCE] * 20, *beep, *[SILENCE] * 100]:
                found += self.pass_by(frame=frame)
                if end in found:
                    break
            self.assertEqual(found, [Note("answered_by", {"who": "machine"}), end])

    def test_a_machine_that_greets_late_gets_the_opening_after_its_beep_all_the_same(self):
        greeting = speech(
            "You have reached the harbour office. We cannot come to the telephone now. "
            "Please leave a message after the tone, and we will ring you back."
        )
        beep = frames(tone(0.6, 8_000, 1_000.0))
        for leave, end in ((True, Repeat()), (False, HangUp("hung-up"))):
            self.begin(placed=True, leave_a_message=leave)
            found = self.pass_by(76)
            self.assertEqual(found, [Note("answered_by", {"who": "unknown"}), Open()])
            self.course.can_repeat = True
            self.course.speaks(self.now)
            # A short opening is over, and the call would be: but somebody speaks.
            self.course.leave("hung-up")
            found = []
            for place, frame in enumerate([*frames(greeting), *[SILENCE] * 20, *beep]):
                found += self.pass_by(frame=frame, playing=place < 60)
            found += self.pass_by(100)
            machine = [StopPlayback(), Note("answered_by", {"who": "machine"}), end]
            self.assertEqual([each for each in found if each in machine][:3], machine)
            self.assertFalse([each for each in found if isinstance(each, Understand)])
            if leave:
                self.course.speaks(self.now)
                self.assertEqual(self.pass_by(50, playing=True), [])
                self.assertEqual(self.pass_by(FRAMES_AFTER + 1)[0], HangUp("hung-up"))

    def test_a_person_who_says_something_late_is_answered(self):
        self.begin(placed=True)
        self.pass_by(76)
        self.course.speaks(self.now)
        found = []
        for frame in [*frames(speech("Hello, who is there?")), *[SILENCE] * 60]:
            found += self.pass_by(frame=frame, playing=not found)
        self.assertEqual(
            [type(each) for each in found if not isinstance(each, SpeculativeEndpoint)],
            [StopPlayback, Understand],
        )
        long = "I would like to know when the next boat leaves for Pell, and whether it takes bicycles."
        found = []
        for frame in [*frames(speech(long)), *[SILENCE] * 60]:
            self.course.idle(self.now)
            found += self.pass_by(frame=frame)
        self.assertTrue([each for each in found if isinstance(each, Understand)])
        self.assertFalse([each for each in found if isinstance(each, Note)])

    def test_a_long_answer_to_an_opening_that_was_heard_out_is_a_persons(self):
        self.begin(placed=True)
        self.pass_by(76)
        self.course.speaks(self.now)
        self.assertEqual(self.pass_by(60, playing=True), [])
        long = (
            "Yes, please keep it, and tell me when the boat leaves, and whether it takes bicycles."
        )
        found = [a for f in [*frames(speech(long)), *[SILENCE] * 60] for a in self.pass_by(frame=f)]
        self.assertEqual([type(a) for a in found if isinstance(a, Understand | Note)], [Understand])

    def test_keys_are_not_taken_while_a_machine_greets(self):
        self.begin(placed=True)
        found = [
            a
            for f in frames(speech("You have reached the harbour office. " * 3))
            for a in self.pass_by(frame=f)
        ]
        self.assertEqual(found, [Note("answered_by", {"who": "machine"})])
        self.assertEqual(self.course.key("1", self.now), [])
        self.assertIsNone(self.course.fresh())

    def test_where_nobody_is_heard_while_we_speak_one_waits_longer(self):
        self.now = 100.0
        self.course = CallCourse(CallPolicy(barge_in=False), WORDS, placed=True)
        self.course.answered(self.now)
        self.assertEqual(self.pass_by(190), [])
        self.assertEqual(self.pass_by(20), [Note("answered_by", {"who": "unknown"}), Open()])

    def test_noise_alone_never_ends_it(self):
        self.greeted()
        found = [a for f in frames(noise(6.0)) for a in self.pass_by(frame=f)]
        self.assertFalse([each for each in found if isinstance(each, HangUp)])


if __name__ == "__main__":
    unittest.main()
