"""The HTTP server, which sleeps until there is something to do."""

import contextlib
import signal
import subprocess
import sys
import unittest
from email.utils import parsedate_to_datetime

import httpx

from fond_echo.store.local import free_port
from tests.running.test_supervisor import until

PROGRAM = """
import contextlib, sys
from fastapi import FastAPI
from fond_echo.http_server import serve

@contextlib.asynccontextmanager
async def lifespan(app):
    yield
    print("in order", flush=True)

app = FastAPI(lifespan=lifespan)
app.get("/")(lambda: "here")
serve(app, host="127.0.0.1", port=int(sys.argv[1]), log_level="warning")
"""


class Serving(unittest.TestCase):
    def setUp(self):
        port = free_port()
        self.address = f"http://127.0.0.1:{port}/"
        begun = [sys.executable, "-c", PROGRAM, str(port)]
        self.process = subprocess.Popen(begun, stdout=subprocess.PIPE, text=True)
        self.addCleanup(self.process.communicate)
        self.addCleanup(self.process.kill)
        self.assertTrue(until(self.answered))

    def answered(self):
        with contextlib.suppress(httpx.HTTPError):
            self.answer = httpx.get(self.address, trust_env=False)
            return True

    def test_it_answers_with_the_time_as_it_is_and_ends_at_a_signal(self):
        first = parsedate_to_datetime(self.answer.headers["date"])

        def it_is_later():
            return self.answered() and parsedate_to_datetime(self.answer.headers["date"]) > first

        self.assertTrue(until(it_is_later), "the date stands still")
        self.assertEqual(self.answer.json(), "here")
        self.process.send_signal(signal.SIGTERM)
        self.assertEqual(self.process.communicate(timeout=30), ("in order\n", None))


if __name__ == "__main__":
    unittest.main()
