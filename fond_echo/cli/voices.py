"""voice list, show and pronounce: pure computation, no service needed."""

from __future__ import annotations

import argparse
from collections.abc import Mapping
from dataclasses import fields
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fond_echo.cli.files import bytes_in
from fond_echo.cli.output import add_json, named, print_json, table
from fond_echo.contract.base import JsonObject

if TYPE_CHECKING:
    from fond_echo.core.language.lexicon import Lexicon
    from fond_echo.core.synthesis.speaker import Speaker
    from fond_echo.documents.voice import VoiceFile


def add(commands: Any) -> None:
    voice = commands.add_parser(
        "voice", help="list and adjust voices, and show how words are pronounced"
    )
    verbs = voice.add_subparsers(dest="verb", required=True, metavar="VERB")
    listing = verbs.add_parser("list", help="list the voices")
    add_json(listing)
    listing.set_defaults(run=_list)
    show = verbs.add_parser("show", help="show the settings of a voice")
    show.add_argument("name")
    add_json(show)
    show.set_defaults(run=_show)
    adjust = verbs.add_parser("adjust", help="write a voice file: a voice with other settings")
    adjust.add_argument("name", help="the built-in voice that it begins from, or a voice file")
    adjust.add_argument(
        "--set", action="append", default=[], type=named, metavar="NAME=VALUE", help="a setting"
    )
    adjust.add_argument(
        "-o",
        "--output",
        type=Path,
        required=True,
        help="the voice file to write, such as ours.yaml",
    )
    add_json(adjust)
    adjust.set_defaults(run=_adjust)
    pronounce = verbs.add_parser("pronounce", help="show the phonemes of words, and their source")
    pronounce.add_argument("words", nargs="+", metavar="WORD")
    pronounce.add_argument("--language", default="en", help="of the words (en)")
    pronounce.add_argument("--lexicon", type=Path, metavar="FILE.pls", help="an assistant's own")
    add_json(pronounce)
    pronounce.set_defaults(run=_pronounce)


def _facts(speaker: Speaker) -> JsonObject:
    found: JsonObject = {}
    for each in fields(speaker):
        value = getattr(speaker, each.name)
        found[each.name] = dict(value) if isinstance(value, Mapping) else value
    return found


def _list(options: argparse.Namespace) -> int:
    from fond_echo.core.synthesis.speaker import VOICES

    if options.json:
        print_json([{"voice": name, **_facts(each)} for name, each in VOICES.items()])
        return 0
    rows = [
        (name, f"{each.pitch:.0f} Hz", f"{each.rate:g}", f"{each.formant_scale:g}")
        for name, each in VOICES.items()
    ]
    table(("voice", "pitch", "pace", "vocal tract"), rows)
    return 0


def _show(options: argparse.Namespace) -> int:
    facts = _facts(voice_of(options.name).speaker)
    if options.json:
        print_json({"voice": options.name, **facts})
    else:
        table(("setting", "value"), [(k, str(v)) for k, v in facts.items() if v not in ({}, ())])
    return 0


def voice_of(name: str) -> VoiceFile:
    """A built-in voice by its name, or a voice file. Raises UnknownVoice, InvalidFile."""
    from fond_echo.core.synthesis.errors import UnknownVoice
    from fond_echo.core.synthesis.speaker import VOICES
    from fond_echo.documents.voice import VoiceFile, read_voice

    if name in VOICES:
        return VoiceFile(voice=name, begins_from=name)
    if Path(name).suffix in (".yaml", ".yml"):
        return read_voice(bytes_in(Path(name)).decode("utf-8", "replace"), Path(name).name)
    raise UnknownVoice(
        f"there is no voice {name!r}", remedy=f"voices: {', '.join(VOICES)}, or a file .yaml"
    )


def _adjust(options: argparse.Namespace) -> int:
    from fond_echo.documents.voice import read_voice, written

    begun = voice_of(options.name)
    settings = {**begun.settings, **{name: _number(value) for name, value in options.set}}
    text = written(options.output.stem.lower(), begun.begins_from, settings)
    # What was typed is checked like what is written in a file.
    made = read_voice(text, options.output.name)
    options.output.write_text(text)
    if options.json:
        print_json(made)
    else:
        print(f"{options.output}: {made.voice}, begins from {made.begins_from}")
    return 0


def _number(text: str) -> float | str:
    try:
        return float(text)
    except ValueError:
        return text


def source_of(word: str, lexicon: Lexicon, own: frozenset[str]) -> str:
    """Where the pronunciation of a word comes from."""
    if word in own:
        return "the lexicon given"
    if lexicon.listed(word):
        return "the dictionary"
    return "parts of it in the dictionary" if lexicon.built(word) else "its letters"


def _pronounce(options: argparse.Namespace) -> int:
    from fond_echo.core.language.registry import language
    from fond_echo.speech.material import lexicon

    known = lexicon(options.language)
    own: frozenset[str] = frozenset()
    if options.lexicon:
        from fond_echo.core.language.pls import read_pls

        sounds = read_pls(bytes_in(options.lexicon).decode("utf-8", "replace"))
        own = frozenset(word for word, _ in sounds)
        known = known.with_sounds(sounds)
    spoken = language(options.language).writing.spoken_tokens
    found = []
    for text in options.words:
        for word in spoken(text):
            ways = [" ".join(way) for way in known.pronunciations(word)]
            found.append({"word": word, "phonemes": ways, "source": source_of(word, known, own)})
    if options.json:
        print_json(found)
    else:
        rows = [(each["word"], " | ".join(each["phonemes"]), each["source"]) for each in found]
        table(("word", "phonemes", "source"), rows)
    return 0
