"""Commands that ask a service, as a person types them, against the web process's application."""

import asyncio
import contextlib
import io
import json
import tempfile
import time
import unittest
import unittest.mock
from pathlib import Path

from fond_echo.cli.main import main
from fond_echo.store import calls as records
from tests.cli.test_base_install import run
from tests.support.serving import served
from tests.support.web import ADMIN, MARK, WebTest
from tests.support.world import demo_file

DESK = """\
assistant: small-desk
voice: tern
greeting: Good day.
routes:
  - route: fares
    examples: [How much is a ticket?]
    reply: {text: Four pounds.}
fallback:
  reply: {text: I know about fares.}
"""

PHONE = """\
phone: exchange
listen: {host: 127.0.0.1, port: 5999}
numbers: ["2001"]
peers: [127.0.0.1]
outbound: {via: "127.0.0.1:5998", country: "44", allowed: ["+441632960*"]}
"""


class Commands(WebTest):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        self.address = await self.enterAsyncContext(served(self.app))
        folder = self.enterContext(tempfile.TemporaryDirectory())
        self.folder = Path(folder)

    def file(self, name, content):
        path = self.folder / name
        path.parent.mkdir(parents=True, exist_ok=True)
        path.write_text(content)
        return path

    async def types(self, *arguments, stdin="", key=ADMIN):
        """A command with the service's address; its exit code, and what it says where."""
        return await asyncio.to_thread(self.typed, arguments, stdin, key)

    def typed(self, arguments, stdin, key):
        out, err = io.StringIO(), io.StringIO()
        with (
            contextlib.redirect_stdout(out),
            contextlib.redirect_stderr(err),
            unittest.mock.patch("sys.stdin", io.StringIO(stdin)),
        ):
            service = ["--address", self.address, "--key", key]
            try:
                code = main([str(each) for each in arguments] + service)
            except SystemExit as end:
                code = end.code
        return code, out.getvalue(), err.getvalue()

    async def says(self, *arguments, **given):
        """What a command that works prints."""
        code, out, err = await self.types(*arguments, **given)
        self.assertEqual(code, 0, err)
        return out

    async def reported(self, *arguments, **given):
        """What a command that works gives as JSON."""
        return json.loads(await self.says(*arguments, "--json", **given))

    async def fails(self, *arguments, **given):
        """What a command says whose work fails."""
        code, out, err = await self.types(*arguments, **given)
        self.assertEqual(code, 1, out + err)
        return err

    async def asks(self, words="How much is a ticket to Pell?", id="post-1"):
        """Somebody asks over the channel; gives the turn that answered."""
        await self.send({"posts": [self.post(id=id, words=words)]})
        await self.work()
        return (await self.reported("turn", "list"))["items"][0]


class Secrets(Commands):
    async def test_a_secret_is_kept_listed_and_forgotten(self):
        await self.says("secret", "put", "door", "--host", "gate.test:8443", stdin="open sesame\n")
        out = await self.says("secret", "list")
        self.assertIn("door", out)
        self.assertIn("gate.test:8443", out)
        self.assertNotIn("sesame", out)
        hosts = ("--host", "gate.test:8443, bell.test", "--host", "yard.test")
        out = await self.says("secret", "put", "door", *hosts, stdin="open sesame\n")
        self.assertIn("bell.test, gate.test:8443, yard.test", out)
        await self.says("secret", "delete", "door")
        self.assertNotIn("door", await self.says("secret", "list"))
        self.assertIn("door", await self.fails("secret", "delete", "door"))

    async def test_an_empty_secret_is_none(self):
        code, _, err = await self.types("secret", "put", "door", stdin="\n")
        self.assertNotEqual(code, 0)
        self.assertTrue(err)

    async def test_keys_open_what_they_say_and_nothing_once_revoked(self):
        quotas = ("--characters-a-day", "500", "--seconds-a-day", "60")
        limited = await self.reported("key", "create", "small", "--scope", "operate", *quotas)
        self.assertEqual((limited["characters_a_day"], limited["seconds_a_day"]), (500, 60))
        made = await self.reported("key", "create", "reader", "--scope", "read")
        key = made["key"]
        await self.says("turn", "list", key=key)
        self.assertIn("scope", await self.fails("secret", "put", "x", stdin="y", key=key))
        listed = await self.says("key", "list")
        self.assertIn("reader", listed)
        self.assertNotIn(key, listed)
        await self.says("key", "revoke", made["id"][-12:])
        code, _, err = await self.types("turn", "list", key=key)
        self.assertNotEqual(code, 0)
        self.assertIn("key", err)

    async def test_a_key_that_is_none(self):
        code, out, err = await self.types("assistant", "list", key="fe-wrong")
        self.assertEqual((code, out), (1, ""))
        self.assertIn("key", err)


class Assistants(Commands):
    async def test_put_diff_publish_and_back(self):
        self.file("desk/assistant.yaml", DESK)
        desk = self.folder / "desk"
        await self.says("assistant", "put", desk, "--publish")
        self.assertIn("small-desk", await self.says("assistant", "list"))
        self.file("desk/assistant.yaml", DESK.replace("Four pounds.", "Five pounds."))
        out = await self.says("assistant", "diff", "small-desk", "--folder", desk)
        self.assertRegex(out, r"(?m)^-.*Four pounds")
        self.assertRegex(out, r"(?m)^\+.*Five pounds")
        await self.says("assistant", "put", desk)
        draft = await self.says("assistant", "diff", "small-desk")
        self.assertIn("Five pounds", draft)
        await self.says("assistant", "publish", "small-desk")
        self.assertNotIn("pounds", await self.says("assistant", "diff", "small-desk"))

    async def test_errors_name_the_file_and_the_line(self):
        self.file("desk/assistant.yaml", DESK.replace("fallback:", "fallbak:"))
        err = await self.fails("assistant", "put", self.folder / "desk")
        self.assertRegex(err, r"assistant\.yaml:\d+")
        self.assertIn("fallbak", err)
        self.assertNotIn("small-desk", await self.says("assistant", "list"))

    async def test_what_is_not_there(self):
        self.assertIn("nobody", await self.fails("assistant", "publish", "nobody"))
        self.assertIn("nowhere", await self.fails("assistant", "put", self.folder / "nowhere"))

    async def test_a_talk_with_a_live_assistant(self):
        self.file("desk/assistant.yaml", DESK)
        await self.says("assistant", "put", self.folder / "desk", "--publish")
        out = await self.says("assistant", "try", "small-desk", stdin="How much is a ticket?\n")
        self.assertIn("Four pounds.", out)
        self.assertIn("fares", out)


class Lines(Commands):
    async def test_a_line_is_added_shown_and_taken_away(self):
        await self.fill()
        network = self.file("skerry.yaml", demo_file("skerry.yaml"))
        settings = self.file("settings.yaml", "please_wait: {text: One moment.}\n")
        await self.says(
            "channel", "add", "second", "--assistant", "harbour-desk", "--connector", network,
            "--set", "base=http://skerry.test", "--settings", settings,
        )  # fmt: skip
        out = await self.says("channel", "list")
        self.assertIn("skerry", out)
        self.assertIn("second", out)
        self.assertIn("harbour-desk", await self.says("channel", "show", "second"))
        shown = await self.reported("channel", "show", "second")
        self.assertEqual(shown["settings"]["please_wait"]["text"], "One moment.")
        await self.says("channel", "delete", "second")
        self.assertIn("second", await self.fails("channel", "show", "second"))

    async def test_wrong_descriptions_and_values(self):
        await self.fill()
        wrong = self.file("wrong.yaml", demo_file("skerry.yaml").replace("send:", "sent:"))
        add = ("channel", "add", "third", "--assistant", "harbour-desk", "--connector")
        err = await self.fails(*add, wrong, "--set", "base=http://skerry.test")
        self.assertRegex(err, r"\d+")
        right = self.file("right.yaml", demo_file("skerry.yaml"))
        code, _, err = await self.types(*add, right, "--set", "base")
        self.assertEqual(code, 2)
        self.assertIn("'base' is not NAME=VALUE", err)
        code, _, err = await self.types(*add[:-1])
        self.assertEqual(code, 2)
        self.assertIn("--connector", err)
        code, _, err = await self.types(*add, self.folder / "none.yaml")
        self.assertIn(code, (1, 2))
        self.assertIn("none.yaml", err)
        self.assertNotIn("third", await self.says("channel", "list"))

    async def test_people_are_let_in_kept_out_and_forgotten(self):
        await self.fill()
        await self.asks()
        self.assertIn("Isla Quennell", await self.says("channel", "contacts", "skerry"))
        await self.says("channel", "block", "skerry", "isla")
        self.assertIn(
            "isla", await self.says("channel", "contacts", "skerry", "--standing", "blocked")
        )
        blocked = await self.asks(id="post-2")
        self.assertEqual(blocked["text"], "How much is a ticket to Pell?")
        await self.says("channel", "allow", "skerry", "isla")
        kept = self.file("kept.json", '{"island": "Pell"}')
        await self.says("channel", "memory", "skerry", "isla", "--put", kept)
        self.assertIn("Pell", await self.says("channel", "memory", "skerry", "isla"))
        await self.says("channel", "memory", "skerry", "isla", "--delete")
        self.assertNotIn("Pell", await self.says("channel", "memory", "skerry", "isla"))
        await self.says("channel", "erase", "skerry", "isla")
        (left,) = (await self.reported("turn", "list"))["items"]
        self.assertEqual((left["text"], left["contact_name"]), ("", "erased"))


class Turns(Commands):
    async def test_found_by_words_that_were_said(self):
        await self.fill()
        requested = await self.asks()
        await self.asks("What is the weather like?", id="post-2")
        for words, found in (
            ("ticket", [requested["id"]]), ("pell TICKET", [requested["id"]]), ("ticket weather", []),
            ("tick", []), ("'; DROP TABLE turns; --", []), ("& | !", []),
        ):  # fmt: skip
            items = (await self.reported("turn", "list", "--text", words))["items"]
            self.assertEqual([each["id"] for each in items], found, words)
        await self.says("channel", "erase", "skerry", "isla")
        self.assertEqual((await self.reported("turn", "list", "--text", "ticket"))["items"], [])

    async def test_listed_and_shown_stage_by_stage(self):
        await self.fill()
        turn = await self.asks()
        out = await self.says("turn", "list", "--channel", "skerry")
        for part in ("How much", turn["id"][-12:], "fares", "answered", "Quennell"):
            self.assertIn(part, out)
        for id in (turn["id"], turn["id"][-12:]):
            shown = await self.says("turn", "show", id)
            for stage in ("receive", "route", "answer", "deliver"):
                self.assertIn(stage, shown)
            self.assertIn("fares", shown)
        self.assertEqual((await self.reported("turn", "list", "--state", "failed"))["items"], [])

    async def test_what_did_not_fail_is_not_tried_again(self):
        await self.fill()
        turn = await self.asks()
        await self.asks(id="post-2")
        self.assertTrue(await self.fails("turn", "retry", turn["id"]))
        self.assertIn("no-such-turn", await self.fails("turn", "show", "no-such-turn"))

    async def test_what_happens_is_followed_and_later_from_a_place(self):
        await self.fill()
        following = asyncio.create_task(self.says("event", "follow", "--count", "2", "--json"))
        while not following.done():
            # No command beside it: both would write to what this process prints.
            await self.send({"posts": [self.post(id=f"post-{time.monotonic_ns()}", words="Hello")]})
            await asyncio.sleep(0.1)
        first, second = map(json.loads, following.result().splitlines())
        places = [tuple(map(int, each["id"].split("-"))) for each in (first, second)]
        self.assertLess(*places)
        again = await self.says("event", "follow", "--after", first["id"], "--count", "1", "--json")
        self.assertEqual(json.loads(again), second)

    async def test_others_are_told_of_events(self):
        await self.says("secret", "put", "bell", "--host", "bell.test", stdin=MARK)
        subscribe = ("event", "subscribe", "https://bell.test/ring", "--secret", "bell")
        await self.says(*subscribe, "--type", "turn.")
        out = await self.says("event", "subscriptions")
        self.assertIn("https://bell.test/ring", out)
        self.assertIn("turn.", out)
        self.assertIn("knob", await self.fails(*subscribe[:3], "--secret", "knob"))


class Calls(Commands):
    async def asyncSetUp(self):
        await super().asyncSetUp()
        await self.fill()
        phone = self.file("exchange.yaml", PHONE)
        await self.says("channel", "add", "exchange", "--kind", "phone", "--assistant",
                        "harbour-desk", "--connector", phone)  # fmt: skip

    async def test_a_call_is_asked_for_listed_shown_and_taken_back(self):
        out = await self.reported("call", "place", "exchange", "+44 1632 960147", "--text",
                              "The evening boat is off.", "--name", "Isla Quennell")  # fmt: skip
        self.assertEqual((out["number"], out["state"]), ("+441632960147", "requested"))
        listed = await self.says("call", "list", "exchange")
        self.assertIn("960147", listed)
        self.assertIn("requested", listed)
        id = out["id"]
        listed = (await self.says("call", "list", "exchange")).split()
        short = next(each for each in listed if id.endswith(each))
        self.assertIn("960147", await self.says("call", "show", short))
        out = await self.says("call", "end", short)
        self.assertIn("hang-up requested", out)
        async with self.database.reading() as session:
            self.assertEqual(await records.waiting(session, "exchange"), ([id], False))
        code, out, err = await self.types("call", "recording", id, "-o", self.folder / "call.ogg")
        self.assertEqual((code, "not recorded" in out + err), (1, True))

    async def test_where_no_calls_go(self):
        place = ("call", "place", "exchange")
        err = await self.fails(*place, "+44 900 123456", "--text", "Hello.")
        self.assertIn("+44", err)
        code, _, err = await self.types(*place, "+44 1632 960147")
        self.assertEqual(code, 2)
        self.assertIn("--text", err)
        code, _, err = await self.types(*place, "+44 1632 960147", "--sound",
                                        self.folder / "none.ogg")  # fmt: skip
        self.assertIn(code, (1, 2))
        self.assertIn("none.ogg", err)
        self.assertEqual((await self.reported("call", "list", "exchange"))["items"], [])


class BaseInstall(Commands):
    async def test_what_asks_the_service_alone_works_without_the_extras(self):
        await self.fill()
        turn = await self.asks()
        commands = [
            ["turn", "list"], ["turn", "show", turn["id"]], ["conversation", "list"],
            ["channel", "list"], ["secret", "list"], ["key", "list"], ["call", "list", "skerry"],
            ["engine", "list"], ["assistant", "list"],
            ["assistant", "history", "harbour-desk"],
            ["turn", "replay", turn["id"]],
        ]  # fmt: skip
        service = ["--address", self.address, "--key", ADMIN]
        program = f"""
from fond_echo.cli.main import main

for each in {commands!r}:
    print(*each, main(each + {service!r}), file=sys.stderr)
"""
        done = await asyncio.to_thread(run, program)
        for each in commands:
            with self.subTest(each):
                self.assertIn(f"{' '.join(each)} 0\n", done.stderr)


if __name__ == "__main__":
    unittest.main()
