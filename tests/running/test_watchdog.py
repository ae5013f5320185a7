"""A loop that stands still ends its process; one that is slow, or waits, does not."""

import signal
import subprocess
import sys
import unittest

FRAME = """
import asyncio, time
from fond_echo.watchdog import watch

async def main():
    watching = asyncio.create_task(watch({seconds}))
    await asyncio.sleep(0)
    await asyncio.sleep(0)
    {work}
    print("went on")

asyncio.run(main())
"""
DOUBLED = """a, b = [1], [1]
    for _ in range(40):
        a, b = [a, a], [b, b]
    a == b"""
BUSY = """until = time.process_time() + 2.5
    while time.process_time() < until:
        await asyncio.sleep(0)"""


def run(work, seconds):
    program = FRAME.format(seconds=seconds, work=work)
    return subprocess.run(
        [sys.executable, "-c", program], check=False, capture_output=True, text=True, timeout=60
    )


class Watching(unittest.TestCase):
    def test_what_no_code_of_python_could_interrupt(self):
        ended = run(DOUBLED, 0.5)
        self.assertEqual(ended.returncode, -signal.SIGPROF)
        self.assertIn("in main", ended.stderr, "where it stood is said")

    def test_work_between_which_the_loop_has_its_turns(self):
        self.assertEqual(run(BUSY, 1.8).stdout, "went on\n")

    def test_time_in_which_it_does_nothing(self):
        self.assertEqual(run("time.sleep(1.2)", 0.3).stdout, "went on\n")
