"""The PostgreSQL server of our own."""

import subprocess
import sys
import tempfile
import unittest
import unittest.mock
from pathlib import Path

import psycopg

from fond_echo.store.errors import NoPostgres
from fond_echo.store.local import LocalPostgres

STARTS = """
import os, signal, sys
from pathlib import Path
from fond_echo.store.local import LocalPostgres

LocalPostgres(Path(sys.argv[1]), lasting=False).start()
os.kill(os.getpid(), signal.SIGKILL)
"""


class Started(unittest.TestCase):
    def setUp(self):
        above = Path(self.enterContext(tempfile.TemporaryDirectory()))
        above.chmod(0o755)
        self.folder = above / "postgres"

    def test_one_whose_process_was_killed_is_in_nobody_s_way(self):
        subprocess.run([sys.executable, "-c", STARTS, str(self.folder)], timeout=60, check=False)
        postgres = LocalPostgres(self.folder, lasting=False)
        postgres.start()
        self.addCleanup(postgres.stop)
        with psycopg.connect(postgres.url) as connection:
            self.assertEqual(connection.execute("SELECT 1").fetchone(), (1,))

    def test_beside_a_running_one_it_says_who_has_the_folder(self):
        first = LocalPostgres(self.folder, lasting=False)
        first.start()
        self.addCleanup(first.stop)
        with (
            unittest.mock.patch("fond_echo.store.local.ENDING_SECONDS", 0.2),
            self.assertRaisesRegex(NoPostgres, "in use: another Fond Echo runs there") as refused,
        ):
            LocalPostgres(self.folder, lasting=False).start()
        self.assertIn("FOND_ECHO_DATA", refused.exception.remedy)


if __name__ == "__main__":
    unittest.main()
