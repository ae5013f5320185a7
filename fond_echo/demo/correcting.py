"""A scene of the tour: a turn goes wrong, and is replayed on a changed draft, which a tester has
while everyone else has what is live; it is kept as a case, and the draft is published."""

from __future__ import annotations

from collections.abc import Callable
from typing import TYPE_CHECKING

import httpx

from fond_echo.client import Refused
from fond_echo.contract.replay import ReplayIn

if TYPE_CHECKING:
    from fond_echo.client import FondEcho
    from fond_echo.demo.run import World

ASSISTANT, CHANNEL, TESTER = "harbour-desk", "desk", "piet"
QUESTION = "Can I hire a canoe?"
ROUTE = """\
  - route: canoes
    examples: [Can I hire a canoe?, Do you rent canoes?]
    reply: {text: We have no canoes. The shop at the quay has.}

fallback:"""


def corrected(
    echo: FondEcho, world: World, say: Callable[[str], None], problem: Callable[[str], None]
) -> None:
    """The scene, which is checked.

    Args:
        say: where lines go.
        problem: takes each thing that went wrong.
    """

    def ask(contact: str = "") -> tuple[str, str]:
        who = {"contact": contact} if contact else {}
        answer = httpx.post(
            f"{world.settings.address}/ask/{CHANNEL}", json={"text": QUESTION, **who},
            headers={"Authorization": f"Bearer {world.key}"}, timeout=60.0, trust_env=False,
        )  # fmt: skip
        found = answer.raise_for_status().json()
        say(f"   asked   {QUESTION}{', by a tester of the draft' * bool(contact)}")
        say(f"   answer  {found['answer'][:90]}")
        return str(found["turn"]), str(found["answer"])

    turn, _ = ask()
    for gap in echo.gaps(ASSISTANT)[:3]:
        say(f"   · no route for “{gap.example}”, {gap.count} ×")
    draft = echo.draft(ASSISTANT)
    changed = draft.files["assistant.yaml"].replace("\nfallback:", f"\n{ROUTE}", 1)
    files = {**draft.files, "assistant.yaml": changed}
    echo.put_assistant(ASSISTANT, files, draft.revision)
    replayed = echo.replay_turn(turn)
    say(f"   replayed on the draft: {replayed.before.route} → {replayed.after.route},"
        f" different: {', '.join(replayed.changed)}")  # fmt: skip
    if replayed.after.route != "canoes":
        problem(f"correcting: the draft takes {replayed.after.route}")
    _, before = ask()
    echo.add_tester(CHANNEL, TESTER, "Piet Oduya")
    tried, answer = ask(TESTER)
    if "no canoes" not in answer or "no canoes" in before or not echo.turn(tried).draft:
        problem(f"correcting: a tester was answered {answer!r}, and everyone else {before!r}")
    echo.remove_tester(CHANNEL, echo.testers(CHANNEL)[0].id)
    case = echo.turn_as_case(turn, "canoes")
    files[case.file] = case.text
    echo.put_assistant(ASSISTANT, files)
    try:
        echo.publish_assistant(ASSISTANT)
        problem("correcting: a draft whose case expects the old route was published")
    except Refused as error:
        say(f"   not published: {error.what[:90]}")
    expected = f"expect:\n  route: canoes\n  contains: [{replayed.after.written!r}]\n"
    files[case.file] = case.text.partition("expect:")[0] + expected
    echo.put_assistant(ASSISTANT, files)
    for each in echo.run_cases(ASSISTANT, ReplayIn()).cases:
        say(f"   case {each.case}: {'passed' if each.passed else '; '.join(each.failures)}")
        if not each.passed:
            problem(f"correcting: the case {each.case} fails")
    echo.publish_assistant(ASSISTANT, why="somebody asked for canoes")
    _, answer = ask()
    if "no canoes" not in answer:
        problem(f"correcting: after publishing, the answer was {answer!r}")
