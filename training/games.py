"""Texts of talk for the model of words: what characters of six games say.

    for package in wesnoth-1.16 endless-sky-data cataclysm-dda-data crossfire-maps naev-data \\
        freedroidrpg-data; do apt-get download $package; done      # and wesnoth's 18 campaigns
    for package in *.deb; do dpkg -x $package games; done
    python -m training.words --texts FOLDER --talk talk --games games --out …

Each game writes its talk in a form of its own. No sentence of theirs is kept: only how often a word
follows one or two others, where they did so at least three times (`training.words.OFTEN`).
"""

from __future__ import annotations

import gettext
import json
import re
from collections.abc import Iterator
from pathlib import Path

from training.talk import sentences_of, spoken_in

MARKS = r"<[^>]*>|\$\([^)]*\)|\$[\w.|]+|%[-\w.]+|@[^@]*@|\{[^}]*\}|`|\^\w*|\|"
"""Markup, colours and variables, which no sentence goes on across."""

TYPES = ("talk_topic", "speech", "snippet")
QUOTED = r'_\(\s*(?:\[\[(.*?)\]\]|"((?:[^"\\]|\\.)*)")'
"""Where a game of pilots has words: in brackets of two kinds."""


def talk_of_games(folder: Path) -> Iterator[tuple[str, ...]]:
    """Every sentence of talk in the unpacked packages, as words in lower case; each once, however
    often a file repeats it.

    Raises:
        FileNotFoundError: nothing of a game is there.
    """
    seen = set()
    for read in (_campaigns, _space_trade, _survival, _maps, _pilots, _droids):
        found = 0
        for text in read(folder):
            for part in re.split(MARKS, text):
                for sentence in sentences_of(part):
                    if sentence not in seen:
                        seen.add(sentence)
                        found += len(sentence)
                        yield sentence
        if not found:
            raise FileNotFoundError(f"{folder}: nothing for {read.__name__[1:]}")
        print(f"{read.__name__[1:]}: {found:,} words")


def _files(folder: Path, *patterns: str) -> Iterator[str]:
    for pattern in patterns:
        for file in sorted(folder.rglob(pattern)):
            if file.is_file():
                yield file.read_text(encoding="utf-8", errors="replace")


def _campaigns(folder: Path) -> Iterator[str]:
    for text in _files(folder, "campaigns/**/*.cfg"):
        yield from re.findall(r'\bmessage\s*=\s*_\s*"((?:[^"]|"")*)"', text)


def _space_trade(folder: Path) -> Iterator[str]:
    for text in _files(folder, "endless-sky/data/**/*.txt"):
        for line in re.findall(r"`(.*?)`", text):
            yield from spoken_in(line)


def _survival(folder: Path) -> Iterator[str]:
    for text in _files(folder, "cataclysm-dda/json/**/*.json"):
        if '"talk_topic"' in text or '"speech"' in text or '"snippet"' in text:
            yield from _said(json.loads(text))


def _said(found: object, key: str = "") -> Iterator[str]:
    if isinstance(found, str):
        if key in ("dynamic_line", "text", "sound", "yes", "no") and " " in found:
            yield found
    elif isinstance(found, list):
        for each in found:
            yield from _said(each, key)
    elif isinstance(found, dict) and found.get("type", "talk_topic") in TYPES:
        for name, each in found.items():
            yield from _said(each, name if isinstance(each, str | list) else key)


def _maps(folder: Path) -> Iterator[str]:
    for text in _files(folder, "crossfire/maps/**/*"):
        if "@match" in text:
            yield from re.findall(r"@match[^\n]*\n(.*?)(?=\n@|\nendmsg|\Z)", text, re.DOTALL)


def _pilots(folder: Path) -> Iterator[str]:
    for text in _files(folder, "naev/dat/**/*.lua"):
        for long, short in re.findall(QUOTED, text, re.DOTALL):
            yield from spoken_in((long or short).replace('\\"', '"'))


def _droids(folder: Path) -> Iterator[str]:
    for file in sorted(folder.rglob("de/LC_MESSAGES/freedroidrpg-dialogs.mo")):
        with file.open("rb") as opened:
            for text in vars(gettext.GNUTranslations(opened))["_catalog"]:
                if isinstance(text, str):
                    yield re.sub(r"\\n|\[[^\]]*\]", " ", text)
