"""assistant new --guided: a first assistant by questions, published behind a page, and heard."""

from __future__ import annotations

import argparse
import sys
import time
from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING

from fond_echo.cli.errors import FolderNotEmpty, NotSaid
from fond_echo.cli.files import text_in
from fond_echo.cli.folder import files_in
from fond_echo.cli.output import service
from fond_echo.contract.api import ChannelIn
from fond_echo.contract.assistants import StarterAnswer, StarterIn
from fond_echo.contract.channel import Access, ChannelSettings
from fond_echo.contract.renditions import RenditionIn
from fond_echo.documents.guided import brief_of, greeting_of
from fond_echo.documents.offered import known_voices
from fond_echo.documents.starter import title_of

if TYPE_CHECKING:
    from fond_echo.client import FondEcho

KINDS = ("same", "text", "voice", "both")
NEXT = """
What next:
  its words are in {folder}; after a change: fond-echo assistant put {folder} --publish
  try it here:                 fond-echo assistant try {name}
  on a chat network:           fond-echo connect network NAME EXAMPLE --assistant {name}
  your draft, to you alone:    fond-echo channel testers {name}-page --add CONTACT"""


def guided(options: argparse.Namespace) -> int:
    """Ask, write, publish, and let it answer once."""
    folder: Path = options.folder
    if folder.exists() and any(folder.iterdir()):
        raise FolderNotEmpty(f"{folder} has files in it", remedy="give the name of a new folder")
    name = folder.name.lower().replace("_", "-").replace(" ", "-")
    begun = time.monotonic()
    with service(options) as echo:
        given, listed = _answers(echo, name)
        files = echo.make_starter(name, given).files
        for file, text in files.items():
            place = folder / file
            place.parent.mkdir(parents=True, exist_ok=True)
            _write(place, text)
        print(f"\n{folder}/assistant.yaml\n{_indented(files['assistant.yaml'])}")
        echo.put_assistant(name, files)
        echo.publish_assistant(name, why="made by questions")
        settings = ChannelSettings(access=Access(mode="list" if listed else "open"))
        channel = ChannelIn(kind="page", assistant=name, settings=settings)
        page = echo.put_channel(f"{name}-page", channel)
        print(f"Anybody can ask it here: {page.address}" if not listed
              else f"Those on the list can ask it here: {page.address}")  # fmt: skip
        _first_answer(echo, name, given, folder)
    print(NEXT.format(folder=folder, name=name))
    print(f"Made in {time.monotonic() - begun:.0f} s.")
    return 0


def _write(place: Path, text: str) -> None:
    from fond_echo.documents.media import bytes_of, is_media

    if is_media(place.name):
        place.write_bytes(bytes_of(text))
    else:
        place.write_text(text, "utf-8")


def _answers(echo: FondEcho, name: str) -> tuple[StarterIn, bool]:
    """What somebody says of their assistant, and whether only listed contacts may ask."""
    print("Press Enter to keep what stands in brackets.")
    title = _asked("Who is it, as people read it?", title_of(name))
    greeting = _asked("What does it say first?", greeting_of(title))
    voices = sorted(known_voices())
    voice = _asked(f"Which voice ({', '.join(voices)})?", "whimbrel", _one_of(voices))
    sample = Path(f"{name}-greeting.ogg")
    sample.write_bytes(echo.rendered(RenditionIn(text=greeting, voice=voice)))
    print(f"  it says so in {sample}")
    knowledge = _knowledge()
    engines = [each.name for each in echo.engines() if each.does == "answer"]
    engine = about = ""
    if engines:
        names = [*engines, "none"]
        engine = _asked(
            f"Which engine answers freely ({', '.join(names)})?", "none", _one_of(names)
        )
        engine = "" if engine == "none" else engine
    if engine:
        about = _asked("What should the engine know of itself?", brief_of(title))
    else:
        print("No engine answers freely: it answers what you write down, and from what it knows.")
    questions = []
    while question := _asked("A question that people ask (nothing more: Enter)", ""):
        if answer := _asked("  and what is answered?", ""):
            questions.append(StarterAnswer(question=question, answer=answer))
    kind = _asked(f"How does it answer ({', '.join(KINDS)})?", "same", _one_of(KINDS))
    who = _asked("Who may ask (everybody, listed)?", "everybody", _one_of(("everybody", "listed")))
    given = StarterIn(
        title=title, greeting=greeting, voice=voice, knowledge=knowledge, engine=engine,
        about=about, questions=questions, answers_in=kind,
    )  # fmt: skip
    return given, who == "listed"


def _knowledge() -> dict[str, str]:
    """Documents: a file, a folder, or lines that are pasted."""
    given = _asked("What does it know? A file, a folder, or text that ends with a dot alone", "")
    if not given:
        return {}
    path = Path(given).expanduser()
    if len(given) < 400 and path.is_dir():
        return {name.replace("/", "-"): text for name, text in files_in(path).items()}
    if len(given) < 400 and path.is_file():
        if path.suffix.lower() == ".pdf":
            return {name: text for name, text in files_in(path.parent).items() if name == path.name}
        return {path.name: text_in(path)}
    lines = [given]
    while (line := _line("")) not in (None, "."):
        lines.append(str(line))
    return {"about.md": "\n".join(lines) + "\n"}


def _first_answer(echo: FondEcho, name: str, given: StarterIn, folder: Path) -> None:
    """Its first answer, in words and as a sound."""
    question = given.questions[0].question if given.questions else "What can you do for me?"
    tried = echo.try_assistant(name, question, ask=bool(given.engine))
    words = " ".join(each.text for each in tried.replies) or "nothing"
    sound = Path(f"{name}-first-answer.ogg")
    sound.write_bytes(echo.rendered(RenditionIn(text=words, voice=given.voice)))
    print(f"asked     {question}\nanswer    {words}\n          spoken in {sound}")


def _one_of(known: tuple[str, ...] | list[str]) -> Callable[[str], str]:
    """What is wrong with a word that should be one of these."""
    return lambda word: "" if word in known else f"{word!r} is none of {', '.join(known)}"


def _asked(question: str, usual: str, wrong: Callable[[str], str] = lambda _: "") -> str:
    """What is answered, or what is usual where nothing is. Raises NotSaid at the end of input."""
    while True:
        line = _line(f"{question} [{usual}] " if usual else f"{question} ")
        if line is None:
            raise NotSaid("the input ended before all questions were answered")
        said = line.strip() or usual
        why = wrong(said)
        if not why:
            return said
        print(f"  {why}")
        if not sys.stdin.isatty():
            raise NotSaid(why)


def _line(prompt: str) -> str | None:
    try:
        return input(prompt)
    except EOFError:
        return None


def _indented(text: str) -> str:
    return "".join(f"  {line}\n" for line in text.splitlines())
