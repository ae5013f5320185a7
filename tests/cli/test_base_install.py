"""The base install: the client, the logic helper and the command line need none of the extras."""

import subprocess
import sys
import unittest
from pathlib import Path

ROOT = Path(__file__).parents[2]

WITHOUT_EXTRAS = """
import re, sys
from importlib.metadata import packages_distributions, requires

def plain(name):
    return re.sub("[-_.]+", "-", name).lower()

wanted = {plain(re.match(r"[\\w.-]+", line)[0]): "extra ==" in line for line in requires("fond-echo")}
extras = {name for name, extra in wanted.items() if extra and name != "fond-echo"}
missing = {
    module for module, names in packages_distributions().items() if extras & set(map(plain, names))
}

class Missing:
    def find_spec(self, name, path=None, target=None):
        if name.partition(".")[0] in missing:
            raise ModuleNotFoundError(f"No module named {name!r}", name=name)

sys.meta_path.insert(0, Missing())
"""


def run(program):
    """A program where nothing of the extras can be imported."""
    return subprocess.run(
        [sys.executable, "-c", WITHOUT_EXTRAS + program],
        cwd=ROOT, capture_output=True, text=True, timeout=60, check=False,
    )  # fmt: skip


class BaseInstall(unittest.TestCase):
    def typed(self, *arguments):
        return run(f"""
from fond_echo.cli.entry import main

sys.argv = ["fond-echo", *{arguments!r}]
sys.exit(main())
""")

    def test_client_logic_helper_and_help_are_there(self):
        done = run("import fond_echo.client, fond_echo.logic; print(len(missing) > 20)")
        self.assertEqual((done.stdout, done.stderr), ("True\n", ""))
        done = self.typed("--help")
        self.assertEqual((done.returncode, done.stderr), (0, ""))

    def test_what_needs_an_extra_says_which(self):
        for arguments, extra in (
            (("speak", "Good day.", "-o", "day.ogg"), "speech"), (("demo",), "service"),
            (("assistant", "check", "."), "speech"), (("settings",), "service"),
        ):  # fmt: skip
            with self.subTest(arguments):
                done = self.typed(*arguments)
                self.assertEqual((done.returncode, done.stdout), (1, ""), done.stderr)
                self.assertRegex(done.stderr, f"^fond-echo: {arguments[0]} needs [a-z_]+, which is")
                self.assertIn(f"pip install 'fond-echo[{extra}]'", done.stderr)


if __name__ == "__main__":
    unittest.main()
