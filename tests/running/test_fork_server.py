"""Processes that are forked from one which has loaded what they share."""

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

from tests.running.test_supervisor import until

ROOT = Path(__file__).parents[2]

BEGINS = """
import sys, time
from pathlib import Path
from fond_echo.running import fork_server

fork_server.open_fork_server("fond_echo.documents.errors")
log = Path(sys.argv[-2])
part = fork_server.begin("tests.running.program", [PROGRAM], {"QUAY": "north"}, log)
"""

SHOWS = """
import asyncio, os
from fond_echo.isolation import Isolation

isolation = Isolation(memory=2**28, cpu_seconds=5)
inside = asyncio.run(isolation.run(os.getppid))
print("it is", os.environ["QUAY"], "and forks", inside == os.getppid(), flush=True)
try:
    asyncio.run(isolation.run(bytearray, 2**29))
except Exception as error:
    print(type(error).__name__, flush=True)
print("loaded:", "fond_echo.documents.errors" in sys.modules, flush=True)
"""


@unittest.skipIf(sys.version_info >= (3, 14), "there each process has a fork server of its own")
class ForkServing(unittest.TestCase):
    def run_it(self, program, then):
        folder = Path(self.enterContext(tempfile.TemporaryDirectory()))
        log = folder / "log"
        whole = BEGINS.replace("PROGRAM", repr(program)) + then
        done = subprocess.run(
            [sys.executable, "-m", "tests.running.program", str(log), whole],
            cwd=ROOT, capture_output=True, text=True, timeout=120, check=False,
        )  # fmt: skip
        # One that was ended early enough has not begun to write.
        return done, log.read_text() if log.exists() else ""

    def test_a_module_runs_with_what_it_is_given_and_forks_its_children_there_too(self):
        done, written = self.run_it(SHOWS, "print(part.wait(60))")
        self.assertEqual(done.stdout, "0\n", done.stderr)
        self.assertIn("it is north and forks True\n", written)
        self.assertIn("Exhausted\n", written, "its children are bounded beside what is shared")
        self.assertIn("loaded: True\n", written)

    def test_how_it_ended_is_known_and_it_can_be_ended(self):
        done, _ = self.run_it("raise SystemExit(3)", "print(part.wait(60))")
        self.assertEqual(done.stdout, "3\n", done.stderr)
        then = """
try:
    part.wait(0.5)
except Exception as error:
    print(type(error).__name__)
part.kill()
print(part.wait(20), part.poll() is not None)
"""
        done, _ = self.run_it("import time; time.sleep(60)", then)
        self.assertEqual(done.stdout, "TimeoutExpired\n-9 True\n", done.stderr)

    def test_it_ends_with_its_fork_server_and_is_begun_again_from_another(self):
        program = "import time; print('begun', flush=True); time.sleep(60)"
        then = """
import os, signal
from multiprocessing import forkserver
while "begun" not in (log.read_text() if log.exists() else ""):
    time.sleep(0.05)
first = forkserver._forkserver._forkserver_pid
os.kill(first, signal.SIGKILL)
print(part.wait(20) is not None)
for _ in range(200):
    if not os.path.exists(f"/proc/{part.pid}"):
        break
    time.sleep(0.05)
print(os.path.exists(f"/proc/{part.pid}"))
again = fork_server.begin("tests.running.program", ["raise SystemExit(4)"])
print(again.wait(60), forkserver._forkserver._forkserver_pid != first)
"""
        done, _ = self.run_it(program, then)
        self.assertEqual(done.stdout, "True\nFalse\n4 True\n", done.stderr)

    def test_it_ends_with_who_began_it_however_that_ended(self):
        program = "import time; print('begun', flush=True); time.sleep(60)"
        then = """
import os, signal
while "begun" not in (log.read_text() if log.exists() else ""):
    time.sleep(0.05)
print(part.pid, flush=True)
os.kill(os.getpid(), signal.SIGKILL)
"""
        done, _ = self.run_it(program, then)
        running = Path("/proc", done.stdout.strip())
        self.assertTrue(until(lambda: not running.exists()), done.stderr)
