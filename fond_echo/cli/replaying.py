"""turn replay and keep; assistant replay, test and history."""

from __future__ import annotations

import argparse
import asyncio
import base64
import json
import sys
from collections.abc import Mapping, Sequence
from datetime import datetime
from pathlib import Path
from typing import TYPE_CHECKING, Any, get_args
from xml.etree import ElementTree

from fond_echo.cli.errors import OptionsClash
from fond_echo.cli.files import text_in
from fond_echo.cli.folder import files_in
from fond_echo.cli.output import add_json, add_service, print_json, service, table
from fond_echo.contract.base import JsonObject
from fond_echo.contract.replay import (
    CaseOut,
    ReplayBegin,
    ReplayIn,
    ReplayOut,
    ReplaysIn,
    TurnOutcome,
)
from fond_echo.contract.reply import AnswerVerdict

if TYPE_CHECKING:
    from fond_echo.documents.case import CaseFile

PAGE = 50


def add_to_turns(verbs: Any) -> None:
    replay = verbs.add_parser(
        "replay", help="replay a turn on the draft, and show what would change"
    )
    replay.add_argument("id", help="of the turn, or a bundle of one, which needs no service")
    _add_onto(replay)
    add_service(replay)
    replay.set_defaults(run=_replay)
    bundle = verbs.add_parser(
        "bundle", help="write a turn into one file that can be replayed elsewhere"
    )
    bundle.add_argument("id", help="of the turn, whole or as `turn list` shows it")
    bundle.add_argument("-o", "--output", type=Path, required=True, help="the file, .zip")
    add_service(bundle)
    bundle.set_defaults(run=_bundle)
    opened = verbs.add_parser("open", help="show what a bundle holds, without running it")
    opened.add_argument("file", type=Path)
    add_json(opened)
    opened.set_defaults(run=_open)
    keep = verbs.add_parser("keep", help="keep a turn as a case of its assistant")
    keep.add_argument("id", help="of the turn, whole or as `turn list` shows it")
    keep.add_argument("name", help="of the case")
    keep.add_argument("--folder", type=Path, help="of the assistant's files; else its draft")
    add_service(keep)
    keep.set_defaults(run=_keep)


def add_to_assistants(verbs: Any) -> None:
    replay = verbs.add_parser(
        "replay", help="replay past turns on the draft, and list what would change"
    )
    replay.add_argument("name", help="of the assistant")
    _add_onto(replay)
    replay.add_argument("--channel", default="", help="only turns of this channel")
    replay.add_argument(
        "--text", default="", metavar="WORDS", help="only turns in which these words were said"
    )
    replay.add_argument("--since", type=datetime.fromisoformat, help="2026-11-28 or with a time")
    replay.add_argument("--until", type=datetime.fromisoformat)
    replay.add_argument("--last", type=int, default=200, help="turns at most (200)")
    replay.add_argument(
        "--keep", type=Path, help="write results to this file; a later run continues it"
    )
    add_service(replay)
    replay.set_defaults(run=_replay_many)
    test = verbs.add_parser("test", help="run the cases in an assistant's folder")
    test.add_argument("folder", help="of the assistant's files, or the name of one in the service")
    test.add_argument(
        "--revision", default="draft", help="draft, live or a revision, of a name (draft)"
    )
    test.add_argument(
        "--ask", action="store_true",
        help="ask engines anew in place of what cases keep of them: only of a name, and may cost",
    )  # fmt: skip
    test.add_argument("--junit", type=Path, help="write JUnit XML, for other programs")
    add_service(test)
    test.set_defaults(run=_test)
    past = verbs.add_parser(
        "history", help="show who drafted and published an assistant, when and why"
    )
    past.add_argument("name")
    add_service(past)
    past.set_defaults(run=_history)


def _add_onto(command: argparse.ArgumentParser) -> None:
    command.add_argument("--revision", default="draft", help="draft, live or a revision (draft)")
    command.add_argument("--folder", type=Path, help="a folder of files instead")
    command.add_argument(
        "--ask", action="store_true", help="ask the engines of free answers for real; they may cost"
    )
    command.add_argument(
        "--from", dest="begin", choices=get_args(ReplayBegin), default="route",
        help="the first stage that runs again: transcribe, route or answer (route)",
    )  # fmt: skip


def _replay(options: argparse.Namespace) -> int:
    files = files_in(options.folder) if options.folder else None
    if Path(options.id).suffix == ".zip":
        if options.ask:
            raise OptionsClash(
                "--ask needs the service, where engines are connected, and a bundle needs none",
                remedy="give the id of the turn in place of its bundle",
            )
        return _replay_bundle(Path(options.id), files, as_json=options.json)
    given = ReplayIn(revision=options.revision, files=files, begin=options.begin, ask=options.ask)
    with service(options) as echo:
        found = echo.replay_turn(options.id, given)
    if options.json:
        print_json(found)
    else:
        _show(found)
    return 0


def _show(found: ReplayOut) -> None:
    rows = []
    marks = dict.fromkeys(found.changed, "≠")
    if "wording" in found.changed:
        marks["written"] = "≈"
    for name in ("text", "route", "because", "slots", "verdict", "written", "spoken", "choices",
                 "error", "not_run"):  # fmt: skip
        before, after = (_plain(getattr(each, name)) for each in (found.before, found.after))
        if before or after:
            rows.append((name.replace("_", " "), before, after, marks.get(name, "")))
    table(("", "then", f"on {found.revision[:12]}", ""), rows)
    told = [each for each in found.sentences if each.kind not in ("same", "wording")]
    for each in told if len(found.sentences) > 1 or any(one.marks for one in told) else []:
        marked = f" ({'; '.join(each.marks)})" if each.marks else ""
        print(f"{each.kind.replace('-', ' ')}: {each.after or each.before}{marked}")
    changed = ", ".join(found.changed).replace("_", " ")
    print(f"Different: {changed}." if changed else "Nothing would be different.")


def _bundle(options: argparse.Namespace) -> int:
    with service(options) as echo:
        data = echo.turn_bundle(options.id)
    options.output.write_bytes(data)
    if not options.json:
        print(
            f"{options.output}: {len(data):,} bytes; fond-echo turn open {options.output} shows it."
        )
    return 0


def _open(options: argparse.Namespace) -> int:
    from fond_echo.documents.bundle import unpacked

    found = unpacked(options.file.read_bytes())
    case, before = found.turn["case"], TurnOutcome.model_validate(found.turn["before"])
    if options.json:
        print_json({**found.turn, "files": sorted(found.files), "sound": found.sound_name})
        return 0
    rows = [
        ("assistant", f"{found.turn['assistant']}, revision {found.turn['revision'][:12]}"),
        ("made by", f"Fond Echo {found.turn['made_by']}"),
        ("at", case["now"]), ("said", before.text), ("route", before.route),
        ("answered", before.written or before.error),
        ("sound", f"{found.sound_name}, {len(found.sound):,} bytes" if found.sound else "none"),
        ("files", ", ".join(sorted(found.files))),
        ("kept answers", ", ".join(each["asks"] for each in case.get("logic", [])) or "none"),
    ]  # fmt: skip
    table(("", ""), rows)
    return 0


def _replay_bundle(file: Path, files: dict[str, str] | None, *, as_json: bool) -> int:
    """A bundle taken again in this process, on its own files or on others."""
    from fond_echo.documents.bundle import unpacked
    from fond_echo.documents.case import FOLDER, CaseFile
    from fond_echo.documents.digest import digest
    from fond_echo.documents.media import as_text
    from fond_echo.documents.reading import read_assistant
    from fond_echo.replays.replaying import held_against

    found = unpacked(file.read_bytes())
    files = dict(files or found.files)
    if found.sound:
        files[FOLDER + found.sound_name] = as_text(found.sound)
    case = CaseFile.model_validate(found.turn["case"])
    (came,) = asyncio.run(run_here(files, [case]))
    before = TurnOutcome.model_validate(found.turn["before"])
    assert came.form is not None
    language = read_assistant(files).its_language
    replayed = held_against(case.case, digest(files), before, came.form, language)
    if as_json:
        print_json(replayed)
    else:
        _show(replayed)
    return 0


def _plain(value: Any) -> str:
    if isinstance(value, dict):
        return ", ".join(f"{name}: {each}" for name, each in value.items())
    if isinstance(value, AnswerVerdict):
        return f"{value.kind}: {value.reason}".removesuffix(": ")
    return ", ".join(value) if isinstance(value, list) else str(value or "")


def _replay_many(options: argparse.Namespace) -> int:
    """Page after page; what was replayed before a stop is not replayed again."""
    from fond_echo.replays.replaying import counted_by_verdict

    files = files_in(options.folder) if options.folder else None
    kept = _kept(options.keep)
    found = [ReplayOut.model_validate(each) for each in kept.values()]
    cursor = min(kept) if kept else ""
    skipped = 0
    with service(options) as echo:
        while len(found) < options.last:
            page = echo.replay_turns(options.name, ReplaysIn(
                revision=options.revision, files=files, begin=options.begin, ask=options.ask,
                channel=options.channel, text=options.text, since=options.since,
                until=options.until, cursor=cursor,
                limit=min(PAGE, options.last - len(found)),
            ))  # fmt: skip
            found += page.items
            skipped += page.skipped
            if options.keep:
                with options.keep.open("a", encoding="utf-8") as out:
                    out.writelines(each.model_dump_json() + "\n" for each in page.items)
            if sys.stderr.isatty():
                print(f"\r{len(found)} replayed", end="", file=sys.stderr)
            cursor = page.next
            if not cursor:
                break
    if sys.stderr.isatty():
        print(file=sys.stderr)
    changed = sorted((each for each in found if each.changed), key=_weight)
    if options.json:
        counted = [each.model_dump(mode="json") for each in counted_by_verdict(found)]
        print_json({"replayed": len(found), "skipped": skipped, "verdicts": counted,
                    "changed": [each.model_dump(mode="json") for each in changed]})  # fmt: skip
        return 0
    rows = [
        (each.turn[-12:], each.before.text, ", ".join(each.changed).replace("_", " "),
         _short(each.before), _short(each.after))
        for each in changed
    ]  # fmt: skip
    if rows:
        table(("turn", "said", "different", "then", "now"), rows)
    left = f", {skipped} left out" if skipped else ""
    reworded = sum(each.changed == ["wording"] for each in found)
    other_words = f", {reworded} of them in other words only" if reworded else ""
    print(f"{len(found)} turns replayed{left}: {len(changed)} would be different{other_words}.")
    if verdicts := counted_by_verdict(found):
        counts = ", ".join(f"{each.verdict} {each.before} → {each.after}" for each in verdicts)
        print(f"Free answers by verdict, then and now: {counts}.")
    return 0


def _weight(each: ReplayOut) -> tuple[int, str]:
    order = ("error", "text", "route", "outcome", "slots", "not_run", "verdict", "written")
    return min(order.index(n) if n in order else len(order) for n in each.changed), each.turn


def _short(form: Any) -> str:
    return f"{form.route}: {form.error or form.not_run or form.written}"[:90]


def _kept(file: Path | None) -> JsonObject:
    if file is None or not file.exists():
        return {}
    rows = [json.loads(line) for line in text_in(file).splitlines() if line.strip()]
    return {row["turn"]: row for row in rows}


def _keep(options: argparse.Namespace) -> int:
    with service(options) as echo:
        case = echo.turn_as_case(options.id, options.name)
        if options.folder is None:
            name = case.assistant
            draft = echo.draft(name)
            files = {**draft.files, case.file: case.text}
            if case.sound_file:
                files[case.sound_file] = case.sound
            echo.put_assistant(name, files, draft.revision)
            print(f"Case {case.name} is in the draft of {name}.")
            return 0
    target = options.folder / case.file
    target.parent.mkdir(parents=True, exist_ok=True)
    target.write_text(case.text, "utf-8")
    if case.sound_file:
        (options.folder / case.sound_file).write_bytes(base64.b64decode(case.sound))
    if options.json:
        print_json(case)
    else:
        print(f"Case {case.name} is in {target}.")
    return 0


def _test(options: argparse.Namespace) -> int:
    folder = Path(options.folder)
    # Engines are connected to the service: there a name is meant, whatever folder has it too.
    if folder.is_dir() and not (options.ask and folder.name == options.folder):
        if options.ask:
            raise OptionsClash(
                f"{folder} is a folder, and engines are connected to the service",
                remedy="send it as a draft, and give the assistant's name in place of the folder",
            )
        from fond_echo.documents.case import read_cases

        files = files_in(folder)
        cases = asyncio.run(run_here(files, read_cases(files)))
    else:
        with service(options) as echo:
            cases = echo.run_cases(
                options.folder, ReplayIn(revision=options.revision, ask=options.ask)
            ).cases
    if options.junit:
        _junit(options.junit, options.folder, cases)
    failed = [each for each in cases if not each.passed]
    if options.json:
        print_json([each.model_dump(mode="json") for each in cases])
    else:
        rows = [
            (each.case, "passed" if each.passed else "failed", f"{1_000 * each.seconds:.0f}",
             "; ".join(each.failures))
            for each in cases
        ]  # fmt: skip
        if rows:
            table(("case", "", "ms", "why"), rows)
        print(f"{len(cases)} cases, {len(failed)} failed.")
    return 1 if failed else 0


async def run_here(files: Mapping[str, str], cases: Sequence[CaseFile]) -> list[CaseOut]:
    """Cases run in this process: no service is needed."""
    from fond_echo.core.audio.clip import join
    from fond_echo.core.audio.containers import decode
    from fond_echo.core.audio.resample import at_rate
    from fond_echo.core.language.prosody import Prosody
    from fond_echo.core.recognition.symbols import RATE
    from fond_echo.core.recognition.transcript import Expected
    from fond_echo.core.synthesis.synthesizer import Synthesizer
    from fond_echo.documents.case import FOLDER
    from fond_echo.documents.digest import digest
    from fond_echo.documents.media import bytes_of
    from fond_echo.documents.reading import read_assistant
    from fond_echo.replays.cases import Aloud, run_case
    from fond_echo.replays.nothing_outside import NoLogic
    from fond_echo.speech.heard import as_heard
    from fond_echo.speech.material import lexicon, recognizer, synthesizer
    from fond_echo.stages.transcribe import speech_in

    assistant = read_assistant(files)

    async def hear(sound: str, expected: Any) -> Any:
        clip = at_rate(decode(bytes_of(files[FOLDER + sound])).clip, RATE)
        found = recognizer(assistant.language).transcribe(clip, expected)
        return speech_in(as_heard(found, assistant.language))

    async def speak(text: str, assistant: Any) -> Any:
        prosody = assistant.prosody
        language = assistant.language
        words = lexicon(language).with_sounds(assistant.pronounced)
        parts = Synthesizer(words, synthesizer(language).voices).speak(
            text, assistant.voice, seed=1,
            prosody=Prosody(rate=prosody.rate, pitch=prosody.pitch, volume=prosody.volume),
        )  # fmt: skip
        return join([part.clip for part in parts])

    async def heard(clip: Any, language: str) -> str:
        return recognizer(language).transcribe(clip, Expected()).spoken

    aloud = Aloud(speak, heard)
    return [
        await run_case(case, assistant, digest(files), NoLogic(), hear, aloud) for case in cases
    ]


def _junit(file: Path, name: str, cases: list[CaseOut]) -> None:
    """JUnit XML, as other programs read it."""
    failed = sum(not each.passed for each in cases)
    suite = ElementTree.Element("testsuite", {
        "name": name, "tests": str(len(cases)), "failures": str(failed),
        "time": f"{sum(each.seconds for each in cases):.3f}",
    })  # fmt: skip
    for each in cases:
        case = ElementTree.SubElement(
            suite, "testcase", {"name": each.case, "classname": name, "time": f"{each.seconds:.3f}"}
        )
        if not each.passed:
            told = ElementTree.SubElement(case, "failure", {"message": each.failures[0]})
            told.text = "\n".join(each.failures)
    ElementTree.ElementTree(suite).write(file, encoding="utf-8", xml_declaration=True)


def _history(options: argparse.Namespace) -> int:
    with service(options) as echo:
        past = echo.assistant_history(options.name)
    if options.json:
        print_json([each.model_dump(mode="json") for each in past])
        return 0
    rows = [
        (f"{each.at:%Y-%m-%d %H:%M}", each.what, each.revision[:12], each.by,
         "; ".join(filter(None, [each.why, *(f"forced: {f}" for f in each.forced)])))
        for each in past
    ]  # fmt: skip
    table(("at", "", "revision", "by", "why"), rows)
    return 0
