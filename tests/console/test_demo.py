"""The demo as a newcomer meets it: its tour, its commands, and what happens when things break."""

import json
import subprocess
import sys
import time
import unittest.mock

import httpx
import psycopg

from fond_echo.cli.main import main
from fond_echo.client import FondEcho
from fond_echo.demo.tour import Tour
from fond_echo.demo.world import fill
from fond_echo.running.processes import CLI
from fond_echo.running.supervisor import Part, Supervisor
from fond_echo.store.database import plain_url
from fond_echo.store.local import free_port, server_programs
from tests.support.demo import Demo


class Played(Demo):
    def test_the_tour_finds_everything_right(self):
        reported = []
        with FondEcho(self.settings.address, self.key) as echo:
            tour = Tour(echo, self.world, reported.append)
            code = tour.run()
        text = "\n".join(reported)
        if code:
            self.fail("; ".join(tour.problems) + "\n" + text)
        for words in (
            "heard   When is the next boat to Brannick?",
            "route   next-sailing",
            "audio/mpeg",
            "0 of them became two",
            "bicycle places to pell on",
            # On a busy machine a pause may stand before it, and the end of what was said before comes with it.
            "our booking is kept for the next boat that sails.",
            "guillemot leaves from the north",
        ):
            self.assertIn(words, text)

    def test_what_is_there_as_it_would_be_put_is_left_and_the_rest_put_back(self):
        with FondEcho(self.settings.address, self.key) as echo:
            fill(echo, self.places)  # other tests in this world write assistants, too
            files = echo.draft("gale-line").files
            known = {each.name: each.changed_at for each in (*echo.assistants(), *echo.engines())}
            put = unittest.mock.patch.object(echo, "put_assistant", wraps=echo.put_assistant)
            with put as again:
                fill(echo, self.places)
                again.assert_not_called()
                found = (*echo.assistants(), *echo.engines())
                self.assertEqual({each.name: each.changed_at for each in found}, known)
                echo.put_assistant("gale-line", files | {"notes.md": "Correct the gate."})
                again.reset_mock()
                fill(echo, self.places)
                again.assert_called_once_with("gale-line", files)
            there = {each.name: each for each in echo.assistants()}["gale-line"]
            self.assertEqual(there.live, there.draft)

    def test_the_tour_notices_what_is_wrong(self):
        import dataclasses

        from fond_echo.demo import tour

        wrong = dataclasses.replace(tour.EXCHANGES[1], answer="something else", route="fares")
        with (
            unittest.mock.patch.object(tour, "EXCHANGES", (wrong,)),
            unittest.mock.patch.object(tour, "SCENES", ()),
            FondEcho(self.settings.address, self.key) as echo,
        ):
            reported = []
            self.assertEqual(tour.Tour(echo, self.world, reported.append).run(), 1)
        self.assertIn("the route was next-sailing, not fares", "\n".join(reported))

    def test_one_engine_answers_everything(self):
        from fond_echo.demo.free import free_answers

        lines, problems = [], []
        with FondEcho(self.settings.address, self.key) as echo:
            free_answers(echo, self.world, lines.append, problems.append)
        told = "\n".join(lines)
        self.assertEqual(problems, [], told)
        self.assertIn("the engine chose the route fares", told)
        self.assertIn("asked again", told)
        _, listed = self.command("turn", "list", "--channel", "talk", "--json")
        led = next(each for each in json.loads(listed)["items"] if "my nan" in each["text"])
        self.assertEqual(led["route"], "fares")
        _, why = self.command("turn", "explain", led["id"])
        self.assertIn("Took fallback", why)
        self.assertIn("Then it went to fares instead: the engine chose it", why)

    def test_commands_against_the_service(self):
        self.answer_to(self.say("How much is a ticket?", "piet"))
        code, out = self.command("turn", "list")
        self.assertEqual(code, 0)
        self.assertIn("said", out)
        _, listed = self.command("turn", "list", "--json")
        self.assertIn("Piet Oduya", listed)
        turn = next(each for each in json.loads(listed)["items"] if each["route"] == "fares")
        code, out = self.command("turn", "show", turn["id"][-12:])
        self.assertEqual(code, 0)
        self.assertIn("route     fares", out)
        self.assertRegex(out, r"deliver +\d+\.\d ms")
        for command, words in (
            (("channel", "list"), "connected"),
            (("channel", "connect", "skerry"), "skerry: connected"),
            (("assistant", "list"), "harbour-desk"),
            (("secret", "list"), "timetable-mark"),
        ):
            code, out = self.command(*command)
            self.assertEqual(code, 0)
            self.assertIn(words, out)

    def test_a_worker_that_is_killed_loses_nothing(self):
        work = self.part("work")
        posts = [self.say("When is the next boat to Pell?", "sunniva")]
        work.process.kill()
        work.process.wait()
        posts.append(self.say("How much is a ticket?", "sunniva"))
        self.assertIn("Pell", self.answer_to(posts[0])["words"])
        said = self.answers_after(posts[0], 2)
        time.sleep(1.0)
        self.assertEqual(len(self.answers_after(posts[0], 2)), 2, said)
        self.assertIn("Adult", said[1])

    def answers_after(self, post, count):
        """What was answered since a post, once there are so many answers, or a minute passed."""
        deadline = time.monotonic() + 60
        said = []
        while len(said) < count and time.monotonic() < deadline:
            query = {"after": post["number"]}
            posts = self.network.get(f"/rooms/{post['room']}/posts", params=query).json()["posts"]
            said = [each["words"] for each in posts if each["sender"]["automated"]]
            time.sleep(0.1)
        return said

    def test_postgres_that_restarts_loses_nothing(self):
        before = self.say("When is the next boat to Ossel?", "piet")
        with psycopg.connect(plain_url(self.settings.database), autocommit=True) as connection:
            connection.execute(
                "SELECT pg_terminate_backend(pid) FROM pg_stat_activity WHERE pid <> pg_backend_pid()"
            )
        after = self.say("How much is a ticket?", "piet")
        self.assertIn("Ossel", self.answer_to(before)["words"])
        said = self.answers_after(before, 2)
        self.assertEqual(len(said), 2, (said, after))

    def test_a_speech_process_that_is_killed_is_waited_for(self):
        from fond_echo.core.audio.containers import encode
        from tests.sounds import speech

        part = self.part("speech")
        part.process.kill()
        part.process.wait()
        note = encode(speech("How much is a ticket?", "petrel"), "ogg")
        post = self.network.post("/people/isla/record", content=note).json()
        self.assertEqual(self.answer_to(post)["sound"]["as"], "note")

    def test_requests_to_copy_run_as_they_are(self):
        with FondEcho(self.settings.address, self.key) as echo:
            key = echo.create_key("copied", ["operate"]).key
        address = f"{self.settings.address}/api/channels/desk/requests"
        headers = {"Authorization": f"Bearer {self.key}"}
        reported = httpx.get(address, headers=headers).json()
        self.assertEqual(set(reported["answer"]), set(reported["answer_schema"]["properties"]))
        for command in (
            ["bash", "-c", reported["curl"]],
            [sys.executable, "-c", reported["python"]],
            ["node", "--input-type=module", "-e", reported["javascript"]],
        ):
            command[-1] = command[-1].replace("YOUR-KEY", key)
            done = subprocess.run(command, capture_output=True, text=True, check=False, timeout=60)
            # What comes back is what the example says that it will be.
            first = reported["answer"]["answer"].splitlines()[0]
            self.assertIn(first, done.stdout, done.stderr)

    def test_a_back_up_is_restored(self):
        """What docs/guides/run-it-for-real.md says, with the demo's own data."""
        self.answer_to(self.say("How much is a ticket?", "sunniva"))
        with FondEcho(self.settings.address, self.key) as before:
            turns = self.quiet(before)
        dump = self.settings.data / "echo.dump"
        url = plain_url(self.settings.database)
        again = f"{url.rpartition('/')[0]}/echo_again"
        programs = server_programs()
        subprocess.run([programs / "pg_dump", "--format=custom", f"--file={dump}", url], check=True)
        with psycopg.connect(url, autocommit=True) as connection:
            connection.execute("CREATE DATABASE echo_again")
        restore = [programs / "pg_restore", "--no-owner", f"--dbname={again}", dump]
        subprocess.run(restore, check=True)
        port = free_port()
        restored = self.settings.model_copy(update={"database": again, "port": port})
        web = Part("web", CLI, ["web"], restored.environment(), f"{restored.address}/health")
        supervisor = Supervisor([web], print)
        supervisor.start()
        self.addCleanup(supervisor.stop)
        with (
            FondEcho(self.settings.address, self.key) as before,
            FondEcho(restored.address, self.key) as after,
        ):
            self.assertEqual(after.turns(limit=200).items, turns)
            self.assertEqual(after.channels()[0].settings, before.channels()[0].settings)
            spoken = [each.clip.id for turn in turns for each in turn.deliveries if each.clip]
            for clip in spoken[:3]:
                self.assertEqual(after.sound(clip), before.sound(clip))
            # A secret can be read again: the channel's connection is made with one.
            self.assertEqual(after.connect_channel("skerry").state, "connected")
            self.assertEqual(before.connect_channel("skerry").state, "connected")

    def test_events_are_followed_from_the_command_line(self):
        import threading

        timer = threading.Timer(0.8, self.say, ["How much is a ticket?"])
        timer.start()
        code, out = self.command("event", "follow", "--count", "2")
        self.assertEqual(code, 0)
        self.assertRegex(out, r"\d\d:\d\d:\d\d\.\d+  (turn|delivery)\.")

    def test_more_commands(self):
        for command, words in (
            (("key", "create", "cron", "--scope", "read"), "fe-"),
            (("key", "list"), "first"),
            (("channel", "show", "skerry"), "when_in_doubt"),
            (("channel", "contacts", "skerry"), "isla"),
            (("channel", "block", "skerry", "isla"), "is blocked"),
            (("channel", "allow", "skerry", "isla"), "is allowed"),
            (("event", "subscriptions"), "address"),
            (("settings",), "FOND_ECHO_PORT"),
        ):
            self.say("hello")
            code, out = self.command(*command) if command != ("settings",) else self.plain(*command)
            self.assertEqual(code, 0, out)
            self.assertIn(words, out)

    def test_memory_is_taken_out_and_put_back(self):
        self.say("hello", "piet")
        self.answer_to(self.say("How much is a ticket?", "piet"))
        kept = self.settings.data / "facts.json"
        kept.write_text('{"island": "Pell", "places": 2}')
        code, out = self.command("channel", "memory", "skerry", "piet", "--put", str(kept))
        self.assertEqual((code, json.loads(out)), (0, {"island": "Pell", "places": 2}))
        _, out = self.command("channel", "memory", "skerry", "piet")
        self.assertEqual(json.loads(out)["places"], 2)
        _, out = self.command("channel", "memory", "skerry", "piet", "--delete")
        self.assertEqual(json.loads(out), {})
        kept.write_text("[1]")
        self.assertEqual(
            self.command("channel", "memory", "skerry", "piet", "--put", str(kept))[0], 1
        )

    def test_a_call_from_the_terminal(self):
        number = f"sip:2001@127.0.0.1:{self.places.phone}"
        code, out = self.plain("dial", number, "When is the next boat to Brannick?")
        self.assertEqual(code, 0, out)
        self.assertEqual(out.count("  heard "), 2, out)
        self.assertIn("you hung up; MOS", out)
        with FondEcho(self.settings.address, self.key) as echo:
            turns = echo.turns(channel="exchange", limit=2).items
            self.assertEqual(echo.channel("exchange").state, "connected")
        reported = [(turn.arrived_as, turn.route, turn.state) for turn in reversed(turns)]
        self.assertEqual(
            reported,
            [("joined", "", "answered"), ("speech", "next-sailing", "answered")],
        )
        code, out = self.plain("dial", number.replace("2001", "2999"))
        self.assertEqual((code, "not answered: unreachable (404)" in out), (1, True), out)

    def plain(self, *command):
        import contextlib
        import io

        out = io.StringIO()
        with contextlib.redirect_stdout(out):
            code = main(list(command))
        return code, out.getvalue()
