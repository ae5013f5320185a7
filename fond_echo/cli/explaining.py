"""turn explain: why a turn was heard and routed as it was, and what another outcome would have
needed."""

from __future__ import annotations

import argparse
from typing import Any

from fond_echo.cli.output import add_service, print_json, service, table
from fond_echo.contract.api import TurnDetail
from fond_echo.contract.base import JsonObject
from fond_echo.contract.replay import CorrectionIn
from fond_echo.core.dialogue.outcomes import FALLBACK

BELIEVED = 0.75
"""From this confidence on, dictated words are believed (`stages.route`)."""


def add_to_turns(verbs: Any) -> None:
    explain = verbs.add_parser("explain", help="show why a turn was heard and routed as it was")
    explain.add_argument("id", help="of the turn, whole or as `turn list` shows it")
    add_service(explain)
    explain.set_defaults(run=_explain)
    correct = verbs.add_parser(
        "correct",
        help="add its words to a route of the draft, hear it again there, keep it as a case",
    )
    correct.add_argument("id", help="of the turn, whole or as `turn list` shows it")
    correct.add_argument("--route", required=True, help="the route that was meant")
    correct.add_argument("--example", default="", help="the example, if not what was heard")
    correct.add_argument(
        "--case", default="", metavar="NAME", help="keep the turn as a case of this name"
    )
    add_service(correct)
    correct.set_defaults(run=_correct)


def add_to_assistants(verbs: Any) -> None:
    gaps = verbs.add_parser("gaps", help="list what people said that no route took, in groups")
    gaps.add_argument("name")
    gaps.add_argument("--last", type=int, default=1_000, help="turns to look at (1000)")
    add_service(gaps)
    gaps.set_defaults(run=_gaps)
    doubts = verbs.add_parser(
        "mispronounced", help="list words of replies that the recognizer heard as others"
    )
    doubts.add_argument("name")
    doubts.add_argument("--last", type=int, default=1_000, help="replies to look at (1000)")
    doubts.add_argument("--lexicon", action="store_true",
                        help="print a lexicon with an entry for each, to be put right")  # fmt: skip
    add_service(doubts)
    doubts.set_defaults(run=_doubts)


def explained(turn: TurnDetail) -> list[str]:
    """Why, line by line."""
    stages = _outputs(turn)
    heard, routed = stages.get("transcribe"), stages.get("route")
    lines = []
    if heard:
        how = {"expected": "one of what was expected", "dictation": "dictation",
               "nothing": "no words"}.get(heard["source"], heard["source"])  # fmt: skip
        lines.append(f"Heard “{heard['written']}”: {how}, {heard['confidence']:.0%} sure.")
        others = [each.get("written") or each.get("text") for each in heard.get("alternatives", [])]
        if others := [each for each in others if each]:
            lines.append(f"It may also have been: {'; '.join(others[:4])}.")
        for each in heard.get("uncovered", []):
            said = f"“{each['text']}”" if each["text"] else "no words that could be made out"
            lines.append(
                f"From {each['start']:.1f} to {each['end']:.1f} s something was said beside what"
                f" was expected: {said}."
            )
        if heard["source"] == "dictation" and heard["confidence"] < BELIEVED:
            lines.append(f"Below {BELIEVED:.0%} it is not believed unless it is near an example.")
    if not routed:
        return [*lines, "It was never routed."]
    lines.append(f"Took {routed['route']} ({routed['by']}): {routed['because']}.")
    needed = routed.get("needed") or 0.0
    scores = routed.get("scores") or []
    if (
        scores
        and needed
        and (routed["by"] in ("example", "fallback") or routed["route"] == FALLBACK)
    ):
        best = scores[0]
        lines.append(
            f"An example of {best['route']}, the nearest, needs {needed:.0%} to be taken and had"
            f" {best['confidence']:.0%}: {best['because']}."
        )
        if best["confidence"] < needed:
            lines.append(
                f"As an example of {best['route']}, “{turn.text}” would have led there:"
                f" add it if that is what was meant."
            )
    led = stages.get("answer", {}).get("routed")
    if led is not None:
        lines.append(f"Then it went to {led['route']} instead: {led['because']}.")
    for brief in stages.get("answer", {}).get("briefs", []):
        lines.append(f"The engine handed the talk to the brief {brief}.")
    judged = stages.get("answer", {}).get("verdict")
    if judged is not None:
        kind, why = judged["kind"].replace("-", " "), judged["reason"]
        what = f"The free answer was judged: {kind}" + (f" ({why})" if why else "") + "."
        again = {
            "asked-again": " The engine had been asked once more.",
            "not-known": " It was no better once more: that it is not known was said.",
        }
        lines.append(what + again.get(judged["again"], ""))
    return lines


def _outputs(turn: TurnDetail) -> dict[str, JsonObject]:
    """What each stage of its live run gave."""
    return {each.name: each.output or {} for run in turn.runs[:1] for each in run.stages}


def _explain(options: argparse.Namespace) -> int:
    with service(options) as echo:
        turn = echo.turn(options.id)
    lines = explained(turn)
    if options.json:
        print_json({"turn": turn.id, "why": lines})
        return 0
    for line in lines:
        print(line)
    scores = _outputs(turn).get("route", {}).get("scores") or []
    rows = [
        (each["route"], f"{each['confidence']:.0%}", f"{each['score']:.2f}", each["because"])
        for each in scores[:8]
    ]  # fmt: skip
    if rows:
        table(("route", "likely", "score", "why"), rows)
    return 0


def _correct(options: argparse.Namespace) -> int:
    given = CorrectionIn(route=options.route, example=options.example, case=options.case)
    with service(options) as echo:
        found = echo.correct_turn(options.id, given)
    if options.json:
        print_json(found)
        return 0 if found.draft else 1
    before, after = found.replay.before, found.replay.after
    print(f"“{found.example}” was {before.route}; on the draft it would be {after.route}.")
    if not found.draft:
        print(f"Nothing was changed: {after.because or after.error}.")
        return 1
    what = f"The example and the case {found.case} are" if found.case else "The example is"
    print(f"{what} in the draft {found.draft[:12]}. Publish it when its cases hold.")
    return 0


def _gaps(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.gaps(options.name, options.last)
    if options.json:
        print_json([each.model_dump(mode="json") for each in found])
        return 0
    rows = [
        (str(each.count), each.example,
         f"{each.nearest} {each.confidence:.0%}" if each.nearest else "",
         ", ".join(f"{count} {kind}" for kind, count in each.verdicts.items()),
         (each.heard or each.turns[0])[-12:])
        for each in found
    ]  # fmt: skip
    if rows:
        table(("times", "proposed example", "nearest route", "judged", "turn"), rows)
    total = sum(each.count for each in found)
    print(f"{total} turns fell to no route or were not answered, in {len(found)} groups.")
    return 0


LEXICON = """\
<lexicon version="1.0" xmlns="http://www.w3.org/2005/01/pronunciation-lexicon"
    alphabet="ipa" xml:lang="{language}">
{lexemes}
</lexicon>"""


def _doubts(options: argparse.Namespace) -> int:
    with service(options) as echo:
        found = echo.mispronounced(options.name, options.last)
    if options.json:
        print_json([each.model_dump(mode="json") for each in found])
        return 0
    if options.lexicon:
        lexemes = "\n".join(f"  {each.lexeme}" for each in found)
        print(LEXICON.format(language="en", lexemes=lexemes))
        return 0
    rows = [
        (each.word, f"{each.missed} of {each.said}", ", ".join(each.heard) or "nothing",
         each.turns[0][-12:])
        for each in found
    ]  # fmt: skip
    if rows:
        table(("word", "missed", "heard instead", "turn"), rows)
        print("As the lexicon's entries they are printed by --lexicon; put their sounds right.")
    else:
        print("Every word that was heard again came back; or verify_speech: true is not set.")
    return 0
