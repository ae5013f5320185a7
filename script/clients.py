"""Make the synchronous client of the asynchronous one: python script/clients.py

`client/asynchronous` is written by hand. `client/synchronous` is the same without awaiting, and
without the methods that are only there asynchronously. A test compares the two.
"""

from __future__ import annotations

import ast
import re
import subprocess
import sys
from pathlib import Path

CLIENT = Path(__file__).parents[1] / "fond_echo" / "client"
SOURCE, MADE = CLIENT / "asynchronous", CLIENT / "synchronous"

ALONE = frozenset(["listen"])
"""Methods that only the asynchronous client has."""

INSTEAD = (
    (r"\basync (def|with|for)\b", r"\1"),
    (r"\bawait ", ""),
    (r"\bfond_echo\.client\.asynchronous\b", "fond_echo.client.synchronous"),
    (r"\bAsync(FondEcho|AssistantCalls|EngineCalls)\b", r"\1"),
    (r"\bhttpx\.AsyncClient\b", "httpx.Client"),
    (r"\bAsync(Iterator|Iterable)\b", r"\1"),
    (r"\b__a(enter|exit)__\b", r"__\1__"),
    (r"\ba(close|read|iter_bytes)\(", r"\1("),
    (r"\basynchronous client\b", "synchronous client"),
    (r"for (\w+) in (.+):\n +yield \1\n", r"yield from \2\n"),
)


def synchronous(source: str) -> str:
    """A module of the asynchronous client, without waiting."""
    lines = source.splitlines(keepends=True)
    for node in reversed([each for each in ast.walk(ast.parse(source)) if _alone(each)]):
        del lines[node.lineno - 1 : (node.end_lineno or node.lineno) + 1]  # type: ignore[attr-defined]
    made = "".join(lines)
    for pattern, instead in INSTEAD:
        made = re.sub(pattern, instead, made)
    return _tidy(made)


def _alone(node: ast.AST) -> bool:
    return isinstance(node, ast.AsyncFunctionDef) and node.name in ALONE


def _tidy(made: str) -> str:
    ruff = [sys.executable, "-m", "ruff"]
    stdin = ["--quiet", "--stdin-filename", "fond_echo/made.py", "-"]
    for command in (["check", "--select", "F401,I", "--fix-only"], ["format"]):
        done = subprocess.run(
            [*ruff, *command, *stdin], input=made, capture_output=True, text=True, check=True
        )
        made = done.stdout
    return made


def made() -> dict[Path, str]:
    """Every module of the synchronous client, by its file."""
    return {
        MADE / path.name: synchronous(path.read_text("utf-8"))
        for path in sorted(SOURCE.glob("*.py"))
        if path.name != "__init__.py"
    }


if __name__ == "__main__":
    for file, text in made().items():
        file.write_text(text, "utf-8")
