"""connector check, try and listen, as a person types them."""

import contextlib
import io
import json
import threading
import time
import unittest
import unittest.mock
from pathlib import Path
from tempfile import TemporaryDirectory

import httpx

from fond_echo.cli.main import main
from fond_echo.store.local import free_port
from tests.support.world import demo_file


class Commands(unittest.TestCase):
    def command(self, *arguments):
        out, err = io.StringIO(), io.StringIO()
        with contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
            code = main([str(each) for each in arguments])
        return code, out.getvalue(), err.getvalue()

    def setUp(self):
        folder = TemporaryDirectory()
        self.addCleanup(folder.cleanup)
        self.file = Path(folder.name) / "skerry.yaml"
        self.file.write_text(demo_file("skerry.yaml"))

    def test_check(self):
        code, out, _ = self.command("connector", "check", self.file)
        self.assertEqual((code, "no errors" in out), (0, True))
        self.assertIn("skerry-mark, skerry-token", out)
        self.file.write_text(demo_file("skerry.yaml").replace("{{ sound }}", "{{ sund }}", 1))
        code, _, err = self.command("connector", "check", self.file)
        self.assertEqual(code, 1)
        self.assertIn("nothing fills in {{ sund }}", err)

    def test_try_shows_each_exchange_with_secrets_struck_out(self):
        answer = httpx.Response(200, json={"id": "bot-7", "note": "hush-hush"})
        client = httpx.AsyncClient(transport=httpx.MockTransport(lambda request: answer))
        secret = self.file.with_name("token")
        secret.write_text("hush-hush\n")
        with unittest.mock.patch("fond_echo.connectors.guard.guarded_client", return_value=client):
            code, out, _ = self.command("connector", "try", self.file, "connect", "--set", "base=http://net.test",
                                        "--secret", f"skerry-token={secret}")  # fmt: skip
        self.assertEqual(code, 0)
        self.assertIn("GET http://net.test/self → 200", out)
        self.assertIn("took account = 'bot-7'", out)
        self.assertNotIn("hush", out)
        code, _, err = self.command("connector", "try", self.file, "nonsense")
        self.assertEqual((code, "there are connect" in err), (2, True))

    def test_try_says_what_failed(self):
        code, _, err = self.command("connector", "try", self.file, "connect", "--set", "base=http://127.0.0.1:1",
                                      "--secret", f"skerry-token={self.file}")  # fmt: skip
        self.assertEqual(code, 1)
        self.assertIn("which is not public", err)

    def send(self, port, posts):
        for post in posts:
            for _ in range(100):
                try:
                    httpx.post(f"http://127.0.0.1:{port}/", json=post)
                    break
                except httpx.ConnectError:
                    time.sleep(0.05)

    def test_several_messages_side_by_side(self):
        port = free_port()
        isla = {"id": "isla", "name": "Isla", "automated": False}
        about = {"room": "r1", "sender": isla}
        posts = [
            {"posts": [{"id": "p1", "words": "Hello", **about}]},
            {
                "posts": [
                    {"id": "p2", "sound": {"handle": "h", "as": "note", "length": 2.0}, **about}
                ]
            },
        ]
        threading.Thread(target=self.send, args=(port, posts)).start()
        code, out, _ = self.command(
            "connector", "listen", self.file, "--port", port, "--count", "2"
        )
        self.assertEqual(code, 0)
        self.assertRegex(out, r"\$\.id +✓ +✓ +id")
        self.assertRegex(out, r"\$\.words +✓ +text")
        self.assertIn('sound: "$.sound.handle"', out)

    def test_listen_shows_every_value_and_what_is_made_of_it(self):
        isla = {"id": "isla", "name": "Isla", "automated": False}
        post = {"posts": [{"id": "p1", "room": "r1", "words": "Hello", "sender": isla}]}
        port = free_port()
        threading.Thread(target=self.send, args=(port, [post])).start()
        kept = self.file.with_name("kept.json")
        code, out, _ = self.command(
            "connector", "listen", self.file, "--port", port, "--keep", kept
        )
        self.assertEqual(code, 0)
        self.assertRegex(out, r"\$\.posts\[0\]\.words +\"Hello\"")
        self.assertRegex(out, r"conversation +r1")
        self.assertEqual(json.loads(kept.read_text()), post)
