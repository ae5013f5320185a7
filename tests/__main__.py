"""Runs all tests, three groups at a time and calls beside them, or those named: python -m tests [NAME …].

The last line counts them.
"""

from __future__ import annotations

import re
import subprocess
import sys
import time
import unittest
from collections.abc import Iterable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path

ROOT = Path(__file__).parents[1]
AT_ONCE = 3
HALVED = "web"
"""The longest would keep all waiting at the end: it runs as two halves, module by module."""

SLOWEST_FIRST = (
    f"{HALVED}, odd",
    "console",
    "driver",
    "stages",
    f"{HALVED}, even",
    "speech",
    "rules",
)
"""Groups that take long begin early and alone; then all others as one group; at the end the core."""

LAST = "core"

BESIDE = "phone"
"""Calls take their time and little else: they go on beside the others from the beginning."""

IN_A_HURRY = (BESIDE, "console")
"""Groups in which people are on the telephone: the others let them go first."""

COMPILED = """
import fond_echo.documents.warm, fond_echo.speech.warm
from fond_echo.core.telephony.conversation import barge_in
from fond_echo.core.telephony.media import loudness

barge_in.warm()
loudness.warm()
"""

FAILED = "failed: "
"""Begins a line for every test that failed; all of them stand together at the end."""

RAISED = re.compile(r"^[\w.]+(?:Error|Exception|Warning).*$", re.MULTILINE)

COUNTED = re.compile(r"(\d+) passed, (\d+) failed, (\d+) skipped")


class Counting(unittest.TextTestResult):
    """Also says how long each slow test took."""

    slow = 3.0

    def startTest(self, test: unittest.TestCase) -> None:  # noqa: N802  # unittest's name
        self._begun = time.monotonic()
        super().startTest(test)

    def stopTest(self, test: unittest.TestCase) -> None:  # noqa: N802
        seconds = time.monotonic() - self._begun
        if seconds > self.slow:
            self.stream.writeln(f"\n  {seconds:.1f} s  {test.id()}")
        super().stopTest(test)


def run(names: Iterable[str]) -> tuple[int, int, int]:
    """Run tests by name in this process; how many passed, failed, were skipped. A group's name
    stands for all modules in it."""
    loader = unittest.TestLoader()
    suite = unittest.TestSuite()
    for name in names:
        folder = ROOT.joinpath(*name.split("."))
        if folder.is_dir():
            suite.addTests(loader.discover(str(folder), top_level_dir=str(ROOT)))
        else:
            suite.addTests(loader.loadTestsFromName(name))
    result = unittest.TextTestRunner(resultclass=Counting, verbosity=1).run(suite)
    failed = len(result.failures) + len(result.errors) + len(result.unexpectedSuccesses)
    skipped = len(result.skipped)
    for test, reason in result.skipped:
        print(f"skipped: {test}: {reason}", file=sys.stderr)
    for test, trace in (*result.failures, *result.errors):
        why = RAISED.findall(trace) or trace.rstrip().splitlines()
        print(f"{FAILED}{test.id()}: {why[-1]}", file=sys.stderr)
    sys.stderr.flush()
    return max(0, result.testsRun - failed - skipped), failed, skipped


def groups() -> list[list[str]]:
    """All groups but the one beside, in the order in which they are begun."""
    groups = {path.parent.name for path in (ROOT / "tests").glob("*/test_*.py")}
    groups |= {path.parents[1].name for path in (ROOT / "tests").glob("*/*/test_*.py")}
    first = [_names(group) for group in SLOWEST_FIRST]
    alone = {HALVED, *SLOWEST_FIRST, LAST, BESIDE}
    others = [f"tests.{group}" for group in sorted(groups - alone)]
    return [*first, others, [f"tests.{LAST}"]]


def _names(group: str) -> list[str]:
    """What is run of a group: all of it, or the modules of a half."""
    name, _, half = group.partition(", ")
    if not half:
        return [f"tests.{name}"]
    files = sorted((ROOT / "tests" / name).glob("test_*.py"))
    return [f"tests.{name}.{file.stem}" for file in files][half == "odd" :: 2]


def run_apart(group: list[str], failures: list[str]) -> tuple[int, int, int]:
    """Run a group in a process of its own, and show what it said when it is over; what failed is
    added to the failures."""
    begun = time.monotonic()
    patient = not any(name == f"tests.{each}" for name in group for each in IN_A_HURRY)
    first = ["nice", "-n", "5"] if patient else []
    command = [*first, sys.executable, "-m", "tests", *group]
    done = subprocess.run(
        command, cwd=ROOT, stdout=subprocess.PIPE, stderr=subprocess.STDOUT, text=True, check=False
    )
    lines = done.stdout.rstrip().split("\n")
    # Processes that are stopped at the end may still say something after the count.
    counted = next(filter(None, map(COUNTED.fullmatch, reversed(lines))), None)
    failures.extend(each for each in lines if each.startswith(FAILED))
    title = f"{' '.join(group)}, {time.monotonic() - begun:.0f} s"
    print("\n".join([f"=== {title} ===", *lines]), file=sys.stderr, flush=True)
    if counted is None:
        failures.append(f"{FAILED}{' '.join(group)}: it ended without counting ({done.returncode})")
    passed, failed, skipped = (int(each) for each in counted.groups()) if counted else (0, 1, 0)
    return passed, failed, skipped


def main(names: list[str]) -> int:
    if names:
        counts = [run(names)]
    else:
        # What is compiled is compiled once, not by every group at the same time.
        subprocess.run([sys.executable, "-c", COMPILED], cwd=ROOT, check=True)
        with ThreadPoolExecutor(AT_ONCE) as pool, ThreadPoolExecutor(1) as beside:
            failures: list[str] = []
            calls = beside.submit(run_apart, [f"tests.{BESIDE}"], failures)
            counts = [*pool.map(lambda each: run_apart(each, failures), groups()), calls.result()]
        print("\n".join(failures), file=sys.stderr, flush=True)
    passed, failed, skipped = (sum(each) for each in zip(*counts, strict=True))
    print(f"{passed} passed, {failed} failed, {skipped} skipped", flush=True)
    return 1 if failed else 0


if __name__ == "__main__":
    sys.exit(main(sys.argv[1:]))
