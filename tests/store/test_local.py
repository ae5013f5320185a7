"""The PostgreSQL server of our own."""

import subprocess
import sys
import tempfile
import unittest
from pathlib import Path

import psycopg

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


if __name__ == "__main__":
    unittest.main()
