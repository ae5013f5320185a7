"""Rules that hold for all of the code, kept by the machine."""

import ast
import re
import subprocess
import sys
import tempfile
import tomllib
import unittest
from pathlib import Path

from packaging.requirements import Requirement
from packaging.utils import canonicalize_name

ROOT = Path(__file__).parents[2]
MAX_LINES = 430


def tracked(*patterns):
    listed = subprocess.run(
        ["git", "ls-files", *patterns], cwd=ROOT, capture_output=True, text=True, check=True
    )
    return [ROOT / name for name in listed.stdout.splitlines() if (ROOT / name).is_file()]


def run(*command):
    done = subprocess.run(
        [sys.executable, "-m", *command], cwd=ROOT, capture_output=True, text=True, check=False
    )
    return done.returncode, done.stdout + done.stderr


def npm(folder, *command):
    done = subprocess.run(
        ["npm", *map(str, command)], cwd=folder, capture_output=True, text=True, check=False
    )
    return done.returncode, done.stdout + done.stderr


def error_classes(path):
    """The names of classes in a file that are errors of the package, by their bases' names."""
    kinds = re.compile(r"Error$|Failed$|Refused$|Exception$")
    tree = ast.parse(path.read_text(encoding="utf-8"))
    for node in tree.body:
        bases = [getattr(base, "id", "") for base in getattr(node, "bases", [])]
        if isinstance(node, ast.ClassDef) and any(map(kinds.search, bases)):
            yield node.name


class Tools(unittest.TestCase):
    def test_ruff(self):
        for command in (("ruff", "check", "."), ("ruff", "format", "--check", ".")):
            code, out = run(*command)
            self.assertEqual(code, 0, out)

    def test_mypy(self):
        code, out = run("mypy")
        self.assertEqual(code, 0, out)

    def test_the_console_is_formatted_and_linted_and_its_types_are_the_service_s(self):
        console = ROOT / "console"
        code, out = npm(console, "run", "--silent", "lint")
        self.assertEqual(code, 0, out)
        code, schemas = run("fond_echo.web.document", "--schemas")
        self.assertEqual(code, 0, schemas)
        types = console / "src" / "contract.d.ts"
        with tempfile.TemporaryDirectory() as folder:
            made = Path(folder) / "contract.d.ts"
            (Path(folder) / "schemas.json").write_text(schemas)
            code, out = npm(
                console, "exec", "--", "openapi-typescript", f"{folder}/schemas.json", "-o", made
            )
            self.assertEqual(code, 0, out)
            code, out = npm(console, "exec", "--", "prettier", "--write", "--print-width=100", made)
            self.assertEqual(code, 0, out)
            self.assertEqual(made.read_text(), types.read_text(), "make them anew: npm run types")

    def test_imports_run_one_way(self):
        done = subprocess.run(
            [Path(sys.executable).with_name("lint-imports")],
            cwd=ROOT,
            capture_output=True,
            text=True,
            check=False,
        )
        self.assertEqual(done.returncode, 0, done.stdout)


class Files(unittest.TestCase):
    def test_each_has_one_job_and_fits(self):
        for path in tracked("*.py", "*.ts", "*.tsx"):
            if "migrations" in path.parts or path.name == "contract.d.ts":
                continue
            lines = path.read_text().count("\n")
            self.assertLessEqual(lines, MAX_LINES, f"{path.relative_to(ROOT)} has {lines} lines")

    def test_modules_say_what_they_are_for(self):
        for path in tracked("fond_echo/*.py"):
            text = path.read_text()
            if text.strip() and path.name != "__main__.py":
                self.assertTrue(text.startswith('"""'), path.relative_to(ROOT))

    def test_errors_lie_in_the_errors_of_their_package(self):
        elsewhere = [
            f"{path.relative_to(ROOT)}: {name}"
            for path in tracked("fond_echo/*.py")
            if path.name != "errors.py"
            for name in error_classes(path)
            if not name.startswith("_")
        ]
        self.assertEqual(elsewhere, [])

    def test_every_package_that_is_asked_for_is_locked(self):
        project = tomllib.loads((ROOT / "pyproject.toml").read_text())["project"]
        extras = project["optional-dependencies"]
        service = [*project["dependencies"], *extras["speech"], *extras["service"]]
        versions = {}
        for file, lines in (
            ("requirements.lock", service), ("requirements-dev.lock", [*service, *extras["dev"]])
        ):  # fmt: skip
            wanted = {canonicalize_name(Requirement(each).name) for each in lines} - {"fond-echo"}
            found = re.findall(r"^([\w.-]+)==(\S+)", (ROOT / file).read_text(), re.MULTILINE)
            locked = {canonicalize_name(name): version for name, version in found}
            self.assertEqual(wanted - set(locked), set(), f"{file}: run script/lock")
            versions[file] = locked
        # Tests run with what the service runs with.
        of_service, of_tests = versions.values()
        self.assertEqual(of_service, {name: of_tests.get(name) for name in of_service})

    def test_no_registry_or_machine_stands_in_any_file(self):
        pattern = re.compile(
            r"registry\.np"
            + r"mjs|files\.python"
            + r"hosted|deb\.deb"
            + r"ian|/work/"
            + r"main|/ro"
            + r"ot/"
        )
        for path in tracked():
            if path.suffix in {".npz", ".xz", ".png", ".ogg"}:
                continue
            found = pattern.search(path.read_text())
            self.assertIsNone(found, f"{path.relative_to(ROOT)}: {found and found[0]}")

    def test_links_in_the_docs_lead_somewhere(self):
        for path in tracked("*.md"):
            for target in re.findall(r"\]\(([^)#\s]+)", path.read_text()):
                if "://" not in target and not target.startswith("mailto:"):
                    self.assertTrue(
                        (path.parent / target).exists(), f"{path.relative_to(ROOT)}: {target}"
                    )
