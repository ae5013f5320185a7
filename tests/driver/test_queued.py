"""The queued driver with real speech and real records; only the outside is in memory."""

import asyncio
import random
import unittest
from datetime import UTC, datetime, timedelta

from sqlalchemy import select, update

from fond_echo.connectors.errors import NoAnswer, Refused, Unreachable
from fond_echo.contract.reply import Reply
from fond_echo.core.audio.clip import silence
from fond_echo.core.audio.containers import decode, encode
from fond_echo.core.audio.inspect import inspect
from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.core.recognition.transcript import Expected
from fond_echo.driver import sending
from fond_echo.driver.queued import BUSY_WITH_TEXTS
from fond_echo.speech.errors import SpeechFailed
from fond_echo.speech.material import recognizer
from fond_echo.stages.deliver import cut
from fond_echo.store.records import Channel, Contact, Conversation, Delivery, Turn
from tests.sounds import noise, speech
from tests.support.driving import QUESTION, Driving, Killed, note
from tests.support.world import ASSISTANT, logic_that_fails, unhurried


class OnePath(Driving):
    async def test_a_voice_note_and_a_text_take_the_same_route(self):
        spoken = await self.arrive("m1", sound=note())
        typed = await self.arrive("m2", text=QUESTION)
        for turn_id in (spoken, typed):
            await self.driver.work(turn_id)
        by_voice, by_text = [await self.turn(each) for each in (spoken, typed)]
        self.assertEqual((by_voice.route, by_text.route), ("next-sailing", "next-sailing"))
        self.assertEqual((by_voice.text, by_text.text), (QUESTION, QUESTION))
        self.assertEqual((by_voice.state, by_text.state), ("answered", "answered"))
        first, second = self.world.logic.requested
        self.assertEqual((first.turn.arrived_as, second.turn.arrived_as), ("voice-note", "text"))
        same = {"route", "action", "assistant", "slots", "contact"}
        self.assertEqual(first.model_dump(include=same), second.model_dump(include=same))
        self.assertEqual([each.kind for each in self.sent], ["voice", "text"])
        self.assertEqual(self.sent[1].text, f"About {QUESTION}")

    async def test_the_voice_note_is_proper_and_says_the_answer(self):
        self.world.logic.answer = lambda requested: Reply(text="The boat to Pell leaves at 16:10.")
        await self.driver.work(await self.arrive("m1", sound=note()))
        (sent,) = self.sent
        report = inspect(sent.data)
        self.assertTrue(report.voice_note, report.findings)
        self.assertAlmostEqual(report.seconds, sent.seconds, delta=0.001)
        self.assertEqual(max(sent.waveform), 1.0)
        said = tuple(f"The boat to {island} leaves at {time}." for island in ("Pell", "Brannick")
                     for time in ("16:10", "17:05", "06:50"))  # fmt: skip
        heard = recognizer().transcribe(decode(sent.data).clip, Expected(said))
        self.assertEqual(heard.spoken, " ".join(spoken_tokens(said[0])))

    async def test_every_stage_is_recorded_with_its_length_and_outcome(self):
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        stages = await self.stages(turn_id)
        self.assertEqual(
            [stage.name for stage in stages],
            [
                "receive",
                "fetch",
                "decode",
                "transcribe",
                "route",
                "answer",
                "speak",
                "encode",
                "deliver",
            ],
        )
        self.assertTrue(all(stage.outcome == "done" for stage in stages))
        self.assertTrue(all(stage.seconds > 0 for stage in stages[1:]))
        typed = await self.arrive("m2", text=QUESTION)
        await self.driver.work(typed)
        self.assertEqual(
            [stage.name for stage in await self.stages(typed)],
            ["receive", "route", "answer", "deliver"],
        )

    async def test_commands_choices_and_templates(self):
        await self.driver.work(await self.arrive("m1", text="next", command=True))
        await self.driver.work(await self.arrive("m2", choice="How much is a ticket?"))
        self.assertEqual(self.world.logic.requested[0].route, "next-sailing")
        self.assertEqual(self.sent[1].text, "Four pounds, Isla.\n\n1. Book a place")

    async def test_an_indicator_says_what_is_coming(self):
        async def ask(service, request, *, safe=False, once=None):
            await asyncio.sleep(0.6)
            yield Reply(text="At noon.")

        quickly, self.world.logic.ask = self.world.logic.ask, ask
        await self.driver.work(await self.arrive("m1", sound=note()))
        await self.driver.work(await self.arrive("m2", text=QUESTION))
        self.assertEqual(self.world.channel.indicated, ["recording", "typing"])
        self.world.logic.ask = quickly
        await self.driver.work(await self.arrive("m3", text=QUESTION))
        self.assertEqual(self.world.channel.indicated, ["recording", "typing"])

    async def test_in_a_crowd_answers_go_first(self):
        async def ask(service, request, *, safe=False, once=None):
            await asyncio.sleep(0.6)
            yield Reply(text="At noon.")

        self.world.logic.ask = ask
        people = range(BUSY_WITH_TEXTS + 6)
        turns = [
            await self.arrive(f"m{one}", text=QUESTION, contact=f"c{one}", conversation=f"r{one}")
            for one in people
        ]
        await asyncio.gather(*map(self.driver.work, turns))
        self.assertEqual(len(self.sent), len(people))
        self.assertLessEqual(len(self.world.channel.indicated), BUSY_WITH_TEXTS)
        self.assertIn("typing", self.world.channel.indicated)

    async def test_what_logic_remembers_comes_with_the_next_turn(self):
        await self.driver.work(await self.arrive("m1", text=QUESTION))
        await self.driver.work(await self.arrive("m2", text=QUESTION))
        self.assertEqual(
            [requested.memory for requested in self.world.logic.requested], [{}, {"last": QUESTION}]
        )
        self.world.logic.answer = lambda requested: Reply(text="forgotten", remember={"last": None})
        await self.driver.work(await self.arrive("m3", text=QUESTION))
        async with self.database.reading() as session:
            self.assertEqual((await session.scalars(select(Contact.memory))).one(), {})

    async def test_unsure_is_said_plainly_with_what_can_be_asked(self):
        mumbled = encode(speech("Bubbly trumpets wobble under seventeen", "sanderling"), "ogg")
        turn_id = await self.arrive("m1", sound=mumbled)
        self.world.speech.transcribe = self.doubtful
        await self.driver.work(turn_id)
        self.assertIn("not sure I understood", self.sent[0].text)
        self.assertIn("When is the next boat to Brannick?", self.sent[0].text)
        self.assertEqual((await self.turn(turn_id)).state, "answered")

    async def doubtful(self, clip, expected, **requested):
        from fond_echo.contract.turn import Heard

        return Heard(
            spoken="eat to upper", written="Eat to upper.", confidence=0.4, source="dictation"
        )

    async def test_answers_in_is_kept(self):
        for wanted, kinds in (
            ("text", ["text"]),
            ("voice", ["voice"]),
            ("both", ["text", "voice"]),
        ):
            await self.publish(
                ASSISTANT.replace("voice: tern", f"voice: tern\nanswers_in: {wanted}")
            )
            self.sent.clear()
            await self.driver.work(await self.arrive(f"m-{wanted}", text="How much is a ticket?"))
            self.assertEqual([each.kind for each in self.sent], kinds)


class Trouble(Driving):
    async def check(self, turn_id, code, stage, kind, words):
        turn = await self.turn(turn_id)
        self.assertEqual(
            (turn.state, turn.error["code"], turn.error["stage"]), ("failed", code, stage)
        )
        self.assertEqual(self.sent[-1].kind, kind)
        self.assertIn(words, self.sent[-1].text)
        self.assertNotIn("secret detail", self.sent[-1].text)

    async def test_sound_that_cannot_be_used_is_answered_in_kind(self):
        cases = (
            (b"", "sound-empty", "arrived empty"),
            (b"plain words", "sound-unknown", "cannot listen to that kind"),
            (note()[:60], "sound-broken", "arrived damaged"),
            (encode(silence(2, 16_000), "ogg"), "sound-silent", "could not hear anything"),
            (encode(noise(2.0), "ogg"), "nothing-heard", "could not hear any words"),
        )
        for number, (sound, code, words) in enumerate(cases):
            with self.subTest(code=code):
                turn_id = await self.arrive(f"m{number}", sound=sound)
                await self.driver.work(turn_id)
                stage = "transcribe" if code == "nothing-heard" else "decode"
                await self.check(turn_id, code, stage, "voice", words)

    async def test_sound_that_cannot_be_fetched(self):
        def refuse(handle):
            raise Refused("secret detail: 410", status=410)

        self.world.channel.on_fetch = refuse
        turn_id = await self.arrive("m1", sound=note())
        await self.driver.work(turn_id)
        await self.check(
            turn_id, "sound-not-fetched", "fetch", "voice", "could not get your recording"
        )

    async def test_logic_that_fails_is_answered_in_the_kind_that_was_used(self):
        self.world.logic.answer = logic_that_fails
        for id, fields, kind in (
            ("m1", {"text": QUESTION}, "text"),
            ("m2", {"sound": note()}, "voice"),
        ):
            turn_id = await self.arrive(id, **fields)
            await self.driver.work(turn_id)
            await self.check(turn_id, "logic-failed", "answer", kind, "cannot look that up")

    async def test_a_bug_is_told_as_ours(self):
        def break_down(requested):
            raise ZeroDivisionError("secret detail")

        self.world.logic.answer = break_down
        turn_id = await self.arrive("m1", text=QUESTION)
        await self.driver.work(turn_id)
        await self.check(turn_id, "internal", "answer", "text", "went wrong on our side")

    async def test_a_voice_that_fails_still_leaves_the_answer_in_writing(self):
        def no_voice(text, voice, **given):
            raise SpeechFailed("secret detail")

        self.world.speech.speak = no_voice
        turn_id = await self.arrive("m1", sound=note("How much is a ticket?"))
        await self.driver.work(turn_id)
        await self.check(turn_id, "speech-failed", "speak", "text", "Four pounds, Isla.")

    async def test_the_conversation_goes_on_after_a_failure(self):
        self.world.logic.answer = logic_that_fails
        await self.driver.work(await self.arrive("m1", text=QUESTION))
        await self.driver.work(await self.arrive("m2", text="How much is a ticket?"))
        self.assertEqual(self.sent[-1].text.splitlines()[0], "Four pounds, Isla.")


class Order(Driving):
    async def test_a_later_turn_waits_and_is_taken_up_when_the_earlier_is_finished(self):
        first = await self.arrive("m1", sound=note())
        second = await self.arrive("m2", text="How much is a ticket?")
        await self.waiting_jobs()
        await self.driver.work(second)
        self.assertEqual((await self.turn(second)).state, "waiting")
        self.assertEqual(self.sent, [])
        await self.driver.work(first)
        self.assertEqual(await self.waiting_jobs(), [second])
        await self.driver.work(second)
        self.assertEqual([each.kind for each in self.sent], ["voice", "text"])

    async def test_a_slow_sound_is_heard_while_earlier_turns_are_answered(self):
        await self.arrive("m1", text=QUESTION)
        second = await self.arrive("m2", sound=note())
        await self.driver.work(second)
        names = [stage.name for stage in await self.stages(second)]
        self.assertEqual(names, ["receive", "fetch", "decode", "transcribe"])

    async def test_both_at_once_end_in_order(self):
        ids = [await self.arrive(f"m{k}", text=QUESTION) for k in range(6)]
        await self.waiting_jobs()
        pending = list(ids)
        while pending:
            await asyncio.gather(*(self.driver.work(each) for each in pending))
            pending = await self.waiting_jobs()
        async with self.database.reading() as session:
            conversation = (await session.scalars(select(Conversation))).one()
            wanted = select(Turn.number).order_by(Turn.finished_at)
            self.assertEqual((await session.scalars(wanted)).all(), [1, 2, 3, 4, 5, 6])
        self.assertEqual(conversation.answered, 6)

    async def test_what_takes_no_hearing_is_claimed_and_passed_where_nobody_is_before_it(self):
        first = await self.arrive("m1", sound=note())
        second = await self.arrive("m2", sound=note())
        async with self.database.writing() as session:
            early = await self.journal.claim_in(session, second, heard=True)
        self.assertFalse(early.passed, "the one before is not answered yet")
        self.assertIsNone(await self.journal.may_answer(early))
        async with self.database.writing() as session:
            claim = await self.journal.claim_in(session, first, heard=True)
        self.assertTrue(claim.passed)
        await self.driver.carry(claim)
        self.assertEqual((await self.turn(first)).state, "answered")
        await self.driver.work(second)
        self.assertEqual((await self.turn(second)).state, "answered")

    async def test_what_comes_while_the_one_before_ends_is_never_left_behind(self):
        await self.arrive("m0", text=QUESTION)
        arrived = 1
        while pending := await self.waiting_jobs():
            coming = []
            if arrived < 60:
                # One while the turn ends, and one just after another.
                coming = [self.arrive(f"m{arrived + k}", text=QUESTION) for k in range(3)]
                arrived += 3
            await asyncio.gather(*map(self.driver.work, pending), *map(self.late_by, coming))
        async with self.database.reading() as session:
            states = (await session.scalars(select(Turn.state).order_by(Turn.number))).all()
        self.assertEqual(states, ["answered"] * arrived)

    async def late_by(self, coming):
        await asyncio.sleep(random.uniform(0, 0.03))
        await coming

    async def test_conversations_do_not_wait_for_each_other(self):
        await self.arrive("m1", text=QUESTION, conversation="room-1")
        other = await self.arrive("m2", text=QUESTION, conversation="room-2", contact="piet")
        await self.driver.work(other)
        self.assertEqual((await self.turn(other)).state, "answered")


class Doubt(Driving):
    def setUp(self):
        super().setUp()
        pauses = sending.PAUSES
        sending.PAUSES = (0.0, 0.0)
        self.addCleanup(setattr, sending, "PAUSES", pauses)

    async def policy(self, name):
        settings = unhurried(when_in_doubt=name)
        async with self.database.writing() as session:
            await session.execute(update(Channel).values(settings=settings.model_dump()))

    def failing(self, *errors):
        left = list(errors)

        def fail(outgoing):
            if left:
                raise left.pop(0)

        self.world.channel.on_send = fail

    async def outcome(self, id):
        turn_id = await self.arrive(id, text="How much is a ticket?")
        await self.driver.work(turn_id)
        turn = await self.turn(turn_id)
        (delivery,) = await self.deliveries(turn_id)
        return delivery.state, delivery.attempts, turn.state

    async def test_what_certainly_did_not_go_out_is_tried_again(self):
        self.failing(Unreachable("down"), Refused("busy", status=429))
        self.assertEqual(await self.outcome("m1"), ("sent", 3, "answered"))

    async def test_what_the_network_refuses_is_refused(self):
        self.failing(Refused("no", status=403))
        self.assertEqual(await self.outcome("m1"), ("refused", 1, "failed"))

    async def test_a_network_that_is_down_is_waited_for_and_then_given_up(self):
        self.failing(*[Unreachable("down")] * 6)
        self.assertEqual(await self.outcome("m1"), ("planned", 3, "received"))
        (turn_id, _) = await self.waiting_jobs()
        async with self.database.writing() as session:
            long_ago = datetime.now(UTC) - timedelta(hours=25)
            await session.execute(update(Delivery).values(planned_at=long_ago))
        await self.driver.work(turn_id)
        (delivery,) = await self.deliveries(turn_id)
        self.assertEqual((delivery.state, (await self.turn(turn_id)).state), ("refused", "failed"))

    async def test_what_may_have_gone_out_is_handled_as_the_line_says(self):
        for name, expected in (
            ("hold", ("in-doubt", 1, "failed")),
            ("drop", ("dropped", 1, "failed")),
            ("retry", ("sent", 2, "answered")),
        ):
            with self.subTest(policy=name):
                await self.policy(name)
                self.failing(NoAnswer("lost"))
                self.assertEqual(await self.outcome(f"m-{name}"), expected)

    async def test_killed_while_sending(self):
        for name, state, sent in (("hold", "in-doubt", 0), ("retry", "sent", 1)):
            with self.subTest(policy=name):
                await self.policy(name)
                self.sent.clear()
                self.failing(Killed())
                turn_id = await self.arrive(f"k-{name}", text="How much is a ticket?")
                with self.assertRaises(Killed):
                    await self.driver.work(turn_id)
                (delivery,) = await self.deliveries(turn_id)
                self.assertEqual(delivery.state, "sending")
                await self.driver.work(turn_id)
                (delivery,) = await self.deliveries(turn_id)
                self.assertEqual((delivery.state, len(self.sent)), (state, sent))

    async def test_what_is_handed_over_here_is_never_in_doubt(self):
        async with self.database.writing() as session:
            await session.execute(update(Channel).values(kind="http"))
        self.failing(Killed())
        turn_id = await self.arrive("m1", text="How much is a ticket?")
        with self.assertRaises(Killed):
            await self.driver.work(turn_id)
        await self.driver.work(turn_id)
        (delivery,) = await self.deliveries(turn_id)
        self.assertEqual((delivery.state, len(self.sent)), ("sent", 1))

    async def test_a_delivery_that_an_operator_sends_again_is_tried_until_the_network_is_back(self):
        self.failing(Refused("no", status=403))
        turn_id = await self.arrive("m1", text="How much is a ticket?")
        await self.driver.work(turn_id)
        (delivery,) = await self.deliveries(turn_id)
        await self.waiting_jobs()
        async with self.database.writing() as session:
            await session.execute(update(Delivery).values(state="planned"))
        self.failing(*[Unreachable("down")] * 3)
        await self.driver.decide(turn_id, delivery.id)
        self.assertEqual((await self.deliveries(turn_id))[0].state, "planned")
        self.assertEqual(await self.waiting_jobs(), [turn_id], "it is tried again later")
        await self.driver.decide(turn_id, delivery.id)
        self.assertEqual((await self.deliveries(turn_id))[0].state, "sent")

    async def test_the_key_is_the_same_at_every_attempt(self):
        keys = []
        self.world.channel.on_send = lambda outgoing: keys.append(outgoing.key)
        await self.policy("retry")
        turn_id = await self.arrive("m1", text="How much is a ticket?")
        await self.driver.work(turn_id)
        (delivery,) = await self.deliveries(turn_id)
        self.assertEqual(keys, [delivery.key])


class Cutting(unittest.TestCase):
    def test_where_it_hurts_least(self):
        self.assertEqual(cut("One. Two. Three.", 100), ["One. Two. Three."])
        self.assertEqual(cut("First part.\n\nSecond part.", 20), ["First part.", "Second part."])
        self.assertEqual(cut("Aaa bbb ccc. Ddd eee.", 14), ["Aaa bbb ccc.", "Ddd eee."])
        self.assertEqual(cut("x" * 25, 10), ["x" * 10, "x" * 10, "x" * 5])
        self.assertEqual(cut("", 10), [])
        text = "word " * 500
        self.assertEqual(" ".join(cut(text, 90)).split(), text.split())
