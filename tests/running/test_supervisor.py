"""Parts that are started, tended and stopped."""

import signal
import subprocess
import sys
import tempfile
import time
import unittest
from pathlib import Path

from fond_echo.running.errors import DidNotStart
from fond_echo.running.supervisor import Part, Supervisor

LASTING = "import time; time.sleep(60)"


def until(condition, seconds=15):
    deadline = time.monotonic() + seconds
    while time.monotonic() < deadline:
        if condition():
            return True
        time.sleep(0.05)
    return False


class Tending(unittest.TestCase):
    def setUp(self):
        self.said = []
        self.folder = Path(self.enterContext(tempfile.TemporaryDirectory()))

    def supervise(self, *parts):
        supervisor = Supervisor(parts, self.said.append)
        self.addCleanup(supervisor.stop)
        return supervisor

    def part(self, name, program=LASTING, **fields):
        return Part(name, "tests.running.program", [program], **fields)

    def test_a_part_that_is_killed_is_started_again(self):
        part = self.part("lasting")
        supervisor = self.supervise(part)
        supervisor.start()
        first = part.process.pid
        part.process.kill()
        self.assertTrue(until(lambda: part.running() and part.process.pid != first))
        self.assertIn("lasting ended; it is started again", self.said)
        supervisor.stop()
        self.assertFalse(part.running())

    def test_one_that_stood_still_is_told_from_others(self):
        part = self.part("still", "import os, signal, time; time.sleep(1)\n"
                         "os.kill(os.getpid(), signal.SIGPROF); time.sleep(60)")  # fmt: skip
        self.supervise(part).start()
        self.assertTrue(until(lambda: any("still stalled" in each for each in self.said)))

    def test_one_that_ends_at_once_did_not_start(self):
        good = self.part("good")
        supervisor = self.supervise(
            good, self.part("bad", "raise SystemExit(3)", ready="http://127.0.0.1:9/")
        )
        with self.assertRaisesRegex(DidNotStart, "bad did not start"):
            supervisor.start(seconds=10)
        self.assertFalse(good.running(), "what was started before is stopped")

    def test_parts_are_stopped_in_reverse_and_may_finish(self):
        log = self.folder / "log"
        program = (
            "import signal, sys, time\n"
            "def end(*_):\n    open({log!r}, 'a').write({name!r}); sys.exit()\n"
            "signal.signal(signal.SIGTERM, end)\n"
            "open({log!r} + {name!r}, 'w').close()\n"
            "time.sleep(60)\n"
        )
        parts = [self.part(name, program.format(log=str(log), name=name)) for name in "ab"]
        supervisor = self.supervise(*parts)
        supervisor.start()
        ready = [Path(f"{log}{name}") for name in "ab"]
        self.assertTrue(until(lambda: all(each.exists() for each in ready)))
        supervisor.stop()
        self.assertEqual(log.read_text(), "ba")

    def test_the_environment_reaches_the_part_and_ctrl_c_does_not(self):
        out = self.folder / "out"
        program = f"import os; open({str(out)!r}, 'w').write(os.environ['WHO'] + str(os.getsid(0) == os.getpid())); {LASTING}"
        part = self.part("named", program, environment={"WHO": "petrel"})
        self.supervise(part).start()
        self.assertTrue(until(lambda: out.exists() and out.read_text() == "petrelTrue"))
        self.assertNotEqual(part.process.poll(), -signal.SIGINT)

    def test_a_terminal_that_is_closed_stops_all_of_it(self):
        program = """
import signal, threading, time
from fond_echo.running.supervisor import Part, Supervisor

def tell():
    while not callable(signal.getsignal(signal.SIGHUP)):
        time.sleep(0.01)
    print(part.process.pid, flush=True)

part = Part("lasting", "tests.running.program", ["import time; time.sleep(60)"])
supervisor = Supervisor([part], print)
supervisor.start()
threading.Thread(target=tell).start()
supervisor.watch()
supervisor.stop()
"""
        begun = [sys.executable, "-c", program]
        with subprocess.Popen(begun, stdout=subprocess.PIPE, text=True) as process:
            running = Path("/proc", process.stdout.readline().strip())
            self.assertTrue(until(running.exists))
            process.send_signal(signal.SIGHUP)
            self.assertEqual(process.wait(20), 0)
        self.assertFalse(running.exists())
