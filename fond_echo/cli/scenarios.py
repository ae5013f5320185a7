"""scenario run, and assistant coverage: conversations that test an assistant, and what they leave
untested.

A scenario without people is played here, in a chat and in a call, with its sound and no waiting;
one with people calls a service through a carrier, in real time.
"""

from __future__ import annotations

import argparse
import asyncio
import os
import time
from collections.abc import Mapping
from functools import lru_cache
from pathlib import Path
from typing import Any
from xml.etree import ElementTree

from fond_echo.cli.errors import OptionsClash
from fond_echo.cli.files import text_in
from fond_echo.cli.folder import files_in
from fond_echo.cli.output import add_json, print_json, table
from fond_echo.contract.base import JsonObject

NOISES = ("none", "hiss:15", "murmur:10")
MAX_SPEAKERS = 12


def add(commands: Any) -> None:
    scenario = commands.add_parser("scenario", help="play conversations that test an assistant")
    verbs = scenario.add_subparsers(dest="verb", required=True, metavar="VERB")
    run = verbs.add_parser("run", help="play scenarios, and check each step")
    run.add_argument("files", nargs="+", type=Path, help="scenario files")
    run.add_argument("--assistant", type=Path, metavar="FOLDER",
                     help="its folder (the one above the scenarios folder)")  # fmt: skip
    run.add_argument(
        "--on", choices=("chat", "phone"), help="play it only in a chat, or only by phone (both)"
    )
    run.add_argument("--speakers", type=int, default=0, metavar="N",
                     help="play it in N voices and in noise, and show fragile phrases")  # fmt: skip
    run.add_argument("--noise", action="append", metavar="KIND:DB",
                     help=f"hiss, hum or murmur, so far below ({', '.join(NOISES)})")  # fmt: skip
    run.add_argument("--junit", type=Path, help="write the results as JUnit XML")
    run.add_argument(
        "--carrier", default="127.0.0.1:5090", metavar="HOST:PORT", help="(127.0.0.1:5090)"
    )
    run.add_argument(
        "--password", default=os.environ.get("CARRIER_PASS", ""), help="or CARRIER_PASS"
    )
    add_json(run)
    run.set_defaults(run=_run)


def add_to_assistants(verbs: Any) -> None:
    coverage = verbs.add_parser(
        "coverage", help="list routes, slots and choices that no case or scenario reaches"
    )
    coverage.add_argument("folder", type=Path)
    add_json(coverage)
    coverage.set_defaults(run=_coverage)


def _run(options: argparse.Namespace) -> int:
    from fond_echo.documents.scenario import read_scenario_file

    found = {path: read_scenario_file(text_in(path), str(path)) for path in options.files}
    by_phone = {path: scenario for path, scenario in found.items() if scenario.people}
    _fits(options, by_phone)
    played = asyncio.run(_play_all({k: v for k, v in found.items() if k not in by_phone}, options))
    called = _through_a_carrier(by_phone, options) if by_phone else []
    results = [*map(_plain, played), *called]
    failed = [each for each in results if not each["passed"]]
    if options.json and results:
        print_json(results)
    elif results:
        print(f"{len(results) - len(failed)} of {len(results)} scenarios passed")
    if options.junit:
        _junit(options.junit, results)
    return 1 if failed else 0


def _fits(options: argparse.Namespace, by_phone: Mapping[Path, Any]) -> None:
    """Raises OptionsClash for options that scenarios with people have no use for."""
    given = {"--on": options.on, "--speakers": options.speakers, "--noise": options.noise}
    if by_phone and (unused := [name for name, value in given.items() if value]):
        raise OptionsClash(
            f"{', '.join(unused)}: only for scenarios in simulated time",
            where=str(next(iter(by_phone))), remedy="its people have voices and impairments",
        )  # fmt: skip


async def _play_all(scenarios: Mapping[Path, Any], options: argparse.Namespace) -> list[Any]:
    from fond_echo.documents.digest import digest
    from fond_echo.documents.reading import read_assistant
    from fond_echo.scenarios.playing import fragile, play

    results = []
    for path, scenario in scenarios.items():
        files = files_in(options.assistant or path.resolve().parent.parent)
        assistant = read_assistant(files)
        here = around(assistant.language)
        for where in [options.on] if options.on else scenario.on:
            if options.speakers:
                voices, noises = _voices(options.speakers), _noises(options.noise or NOISES)
                found = await fragile(
                    scenario, where, assistant, digest(files), here, voices, noises
                )
                _show_fragile(scenario.scenario, where, found, options, len(voices))
                continue
            played = await play(scenario, where, assistant, digest(files), here)
            results.append(played)
            if not options.json:
                _show(played)
    return results


def around(language: str) -> Any:
    """Who hears and speaks here, and no business logic."""
    from fond_echo.replays.nothing_outside import NoLogic
    from fond_echo.scenarios.simulated import Around, clip_of
    from fond_echo.speech.heard import as_heard
    from fond_echo.speech.material import recognizer, synthesizer
    from fond_echo.stages.transcribe import speech_in

    @lru_cache(maxsize=500)
    def speak(words: str, voice: str) -> Any:
        return clip_of(words, voice, synthesizer(language).speak)

    async def hear(clip: Any, expected: Any) -> Any:
        found = await asyncio.to_thread(recognizer(language).transcribe, clip, expected)
        return speech_in(as_heard(found, language))

    return Around(hear, speak, NoLogic())


def _voices(count: int) -> list[str]:
    from fond_echo.core.synthesis.speaker import VOICES

    return list(VOICES)[: min(count, MAX_SPEAKERS)]


def _noises(given: Any) -> list[Any]:
    from fond_echo.documents.scenario import Noise

    found: list[Any] = []
    for each in given:
        kind, _, decibels = each.partition(":")
        found.append(
            None if kind == "none" else Noise.model_validate({"kind": kind, "decibels": decibels})
        )
    return found


def _show(played: Any) -> None:
    print(f"{played.scenario}, {played.where}")
    rows = []
    for each in played.steps:
        form = each.came.outcome
        happened = [n for n in ("reminded", "interrupted", "ended") if getattr(each.came, n)]
        rows.append((
            str(each.number), each.what, form.text if form else "", form.route if form else "",
            _answer(form, played.where) if form else ", ".join(happened),
            "; ".join(each.failures) if each.failures else "✓",
        ))  # fmt: skip
    table(("", "does", "heard", "route", "answer", ""), rows)


def _answer(form: Any, where: str) -> str:
    """The beginning of an answer, as it is given there."""
    words = form.not_run or (form.spoken if where == "phone" else form.written)
    return " ".join(words.split())[:60]


def _show_fragile(name: str, where: str, found: Any, options: Any, speakers: int) -> None:
    noises = list(options.noise or NOISES)
    if options.json:
        print_json([{"scenario": name, "on": where, "phrase": each.phrase, "speakers": speakers,
                     **dict(zip(noises, each.passed, strict=True))} for each in found])  # fmt: skip
        return
    print(f"{name}, {where}: by how many of {speakers} speakers each phrase is taken as it must be")
    table(("phrase", *noises), [(each.phrase, *map(str, each.passed)) for each in found])


def _plain(played: Any) -> JsonObject:
    return {
        "scenario": played.scenario, "on": played.where, "seconds": round(played.seconds, 1),
        "passed": not played.failures, "failures": list(played.failures),
        "steps": [
            {"number": each.number, "does": each.what, "failures": list(each.failures),
             "reminded": each.came.reminded, "interrupted": each.came.interrupted,
             "ended": each.came.ended,
             "turn": each.came.outcome.model_dump(mode="json") if each.came.outcome else None}
            for each in played.steps
        ],
    }  # fmt: skip


def _junit(file: Path, results: list[JsonObject]) -> None:
    failed = sum(not each["passed"] for each in results)
    suite = ElementTree.Element(
        "testsuite",
        {"name": "scenarios", "tests": str(len(results)), "failures": str(failed)},
    )
    for each in results:
        case = ElementTree.SubElement(
            suite, "testcase", {"name": each["scenario"], "classname": each["on"]}
        )
        if not each["passed"]:
            first = {"message": each["failures"][0]}
            ElementTree.SubElement(case, "failure", first).text = "\n".join(each["failures"])
    ElementTree.ElementTree(suite).write(file, encoding="utf-8", xml_declaration=True)


def _through_a_carrier(
    scenarios: Mapping[Path, Any], options: argparse.Namespace
) -> list[JsonObject]:
    from fond_echo.core.synthesis.synthesizer import Synthesizer
    from fond_echo.core.telephony.sip.values import Hop
    from fond_echo.scenarios.by_phone import PhonePlay
    from fond_echo.speech.material import lexicon, recognizer
    from fond_echo.standins.carrier.voices import ALL

    host, _, port = options.carrier.rpartition(":")
    voice, engine = Synthesizer(lexicon(), ALL), recognizer()
    results = []
    for path, scenario in scenarios.items():
        begun = time.monotonic()
        play = PhonePlay(
            scenario, Hop(host, int(port)), options.password, voice, engine,
            (lambda line: None) if options.json else say, path.parent,
        )  # fmt: skip
        asyncio.run(play.run())
        results.append({
            "scenario": scenario.scenario, "on": "phone",
            "seconds": round(time.monotonic() - begun, 1),
            "passed": not play.problems, "failures": play.problems, "steps": [],
        })  # fmt: skip
    return results


def say(line: str) -> None:
    print(line, flush=True)


def _coverage(options: argparse.Namespace) -> int:
    files = files_in(options.folder)
    missing = asyncio.run(_covered(files))
    if options.json:
        print_json(missing)
    else:
        rows = [(kind, ", ".join(names)) for kind, names in missing.items() if names]
        if rows:
            table(("no case or scenario reaches", ""), rows)
        else:
            print("Every route, slot and choice is reached by a case or a scenario.")
    return 1 if any(missing.values()) else 0


async def _covered(files: Mapping[str, str]) -> dict[str, list[str]]:
    from fond_echo.cli.replaying import run_here
    from fond_echo.documents.case import read_cases
    from fond_echo.documents.digest import digest
    from fond_echo.documents.reading import read_assistant
    from fond_echo.documents.scenario import read_scenarios
    from fond_echo.scenarios.playing import Coverage, play

    assistant, found = read_assistant(files), Coverage()
    cases = read_cases(files)
    for case, result in zip(cases, await run_here(files, cases), strict=True):
        if result.form is not None:
            found.case(case, result.form.route, result.form.outcome, list(result.form.slots))
    here = around(assistant.language)
    for scenario in read_scenarios(files).values():
        for where in scenario.on:
            for step in (await play(scenario, where, assistant, digest(files), here)).steps:
                found.saw(step.came)
    return found.missing(assistant)
