"""An assistant's folder."""

from __future__ import annotations

from pathlib import Path

from fond_echo.cli.errors import NoFolder
from fond_echo.cli.files import text_in

SUFFIXES = frozenset(
    (".yaml", ".yml", ".md", ".abnf", ".grxml", ".pls", ".txt", ".html", ".htm", ".csv")
)


def files_in(folder: Path) -> dict[str, str]:
    """The files of an assistant's folder by name: texts, and sounds and pictures as base64.

    Raises:
        NoFolder: there is no such folder, or a text in it is not UTF-8.
    """
    from fond_echo.documents.media import as_text, is_media

    if not folder.is_dir():
        raise NoFolder(f"{folder} is not a folder", remedy="give the folder with assistant.yaml")
    files: dict[str, str] = {}
    for path in sorted(folder.rglob("*")):
        name = str(path.relative_to(folder))
        if path.is_file() and is_media(name):
            files[name] = as_text(path.read_bytes())
        elif path.is_file() and path.suffix in SUFFIXES:
            files[name] = text_in(path)
    return files
