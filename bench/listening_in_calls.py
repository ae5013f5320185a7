"""Who is taken to speak while we do, in calls that are made (`bench/calls_made.py`), in simulated
time: echoes of our own prompts, talkers over them, noises, other tables.

A barge-in is false where nobody speaks; a talker is missed who is not noticed within a second.
`--rule before` is the rule that there was: anything loud for 100 ms. The settings were chosen with
`--half choose`; `report` has other voices and other sentences, and was run once.

    python -m bench.listening_in_calls --half report --each 50
"""

from __future__ import annotations

import argparse
import time
from collections import defaultdict
from collections.abc import Iterator
from dataclasses import dataclass, field
from multiprocessing import Pool
from pathlib import Path

import numpy as np

from bench.calls_made import (
    ECHOES,
    NOISES,
    OUR_LEVEL,
    MadeCall,
    over_prompt,
    with_background,
)
from bench.report import percentile, show
from fond_echo.core.telephony.conversation.barge_in import BargeInDetector, level_of, warm
from fond_echo.core.telephony.conversation.listening import Began, Listener

NOTICED = 50
"""Frames within which a talker is noticed."""

USUAL = "usual"
"""A talker at −32 to −20 dB of full scale."""


@dataclass(frozen=True)
class Kind:
    """A kind of call: what comes back, who talks over it, what is behind it."""

    group: str
    echo: str = ""
    decibels: float = -np.inf
    talker: float | str | None = None
    behind: str = ""
    sets_in: bool = False
    again: bool = False
    times: int = 4
    """Alone in its group, it has so many times the calls."""

    def call(self, half: str, seed: int) -> MadeCall:
        if self.behind or self.again:
            level = self.talker if isinstance(self.talker, float) else None
            return with_background(
                half, "" if self.again else self.behind, self.decibels, seed,
                sets_in=self.sets_in, again=self.again, level=level,
            )  # fmt: skip
        level = self.talker
        if level == USUAL:
            level = 32_768 * 10 ** (np.random.default_rng(seed).uniform(-32, -20) / 20)
        assert not isinstance(level, str)
        return over_prompt(half, self.echo, self.decibels, level, seed)


def kinds() -> Iterator[Kind]:
    """All kinds, each with the group that it is reported in."""
    for decibels in (-6, -12, -20, -30):
        for echo in ECHOES:
            yield Kind(f"echo {decibels} dB", echo, decibels, times=1)
    for decibels, over in ((-6, 10), (-12, 10), (-20, 10), (-12, 5), (-20, 5)):
        level = OUR_LEVEL * 10 ** ((decibels + over) / 20)
        for echo in ECHOES:
            group = f"echo {decibels} dB, talker {over} dB over it"
            yield Kind(group, echo, decibels, level, times=1)
    yield Kind("no echo, usual talker", "none", talker=USUAL)
    yield Kind("no echo, RMS 400", "none", talker=400.0)
    yield Kind("no echo, RMS 250", "none", talker=250.0)
    for decibels in (10, 15):
        for noise in (*NOISES, "street"):
            group = f"noise {decibels} dB below"
            yield Kind(group, behind=noise, decibels=decibels, times=1)
    for noise in (*NOISES, "street"):
        yield Kind("noise 15 dB below sets in", behind=noise, decibels=15, sets_in=True, times=1)
    for behind in ("voice", "television", "babble"):
        for decibels in (15, 20, 26):
            yield Kind(f"{behind} {decibels} dB below", behind=behind, decibels=decibels)
    yield Kind("known talker, second prompt", again=True)
    yield Kind("known talker of RMS 400, second prompt", again=True, talker=400.0)


@dataclass
class Counted:
    """Of a kind's calls."""

    calls: int = 0
    false: list[int] = field(default_factory=lambda: [0, 0])
    prompts: list[int] = field(default_factory=lambda: [0, 0])
    talkers: int = 0
    missed: int = 0
    delays: list[float] = field(default_factory=list)
    answers: int = 0
    unheard: int = 0
    frames: int = 0
    seconds: float = 0.0


class Before:
    """The rule that there was."""

    def __init__(self) -> None:
        self._listener = Listener()

    def feed(self, sent: np.ndarray, got: np.ndarray) -> bool:  # type: ignore[type-arg]
        return isinstance(self._listener.feed(got), Began)

    def reset(self) -> None:
        self._listener.reset()

    def knows(self, level: float) -> None:
        """It knew nobody."""


def heard(call: MadeCall, rule: str, counted: Counted) -> None:
    """Feed a call, and count."""
    detector = BargeInDetector() if rule == "now" else Before()
    listener = Listener()
    starts = {first: place for place, (first, _) in enumerate(call.prompts)}
    at_prompt, noticed = -1, dict[int, int]()
    answered = False
    begun = time.process_time()
    for frame in range(min(len(call.sent), len(call.got))):
        if frame in starts:
            at_prompt = starts[frame]
            detector.reset()
        if any(frame == first for first, _ in call.answers):
            listener.reset()
        within = [(a, b) for a, b in call.answers if a <= frame < b]
        if within:
            answered |= isinstance(listener.feed(call.got[frame]), Began)
        if any(frame == last for _, last in call.answers):
            first, last = call.answers[0]
            detector.knows(level_of(call.got[first:last].reshape(-1)))
            if isinstance(detector, BargeInDetector):
                listener.least = detector.least_to_listen
        barges_in = detector.feed(call.sent[frame], call.got[frame])
        playing = any(a <= frame < b for a, b in call.prompts)
        if barges_in and playing and at_prompt not in noticed:
            noticed[at_prompt] = frame
    counted.seconds += time.process_time() - begun
    counted.frames += min(len(call.sent), len(call.got))
    counted.calls += 1
    counted.answers += bool(call.answers)
    counted.unheard += bool(call.answers) and not answered
    talked = len(call.prompts) - 1 if call.barges_in >= 0 else -1
    for place in range(len(call.prompts)):
        at = noticed.get(place)
        which = min(place, 1)
        if place != talked:
            counted.prompts[which] += 1
            counted.false[which] += at is not None
            continue
        if at is not None and at < call.barges_in:
            counted.prompts[which] += 1
            counted.false[which] += 1
            continue
        counted.talkers += 1
        if at is None or at >= call.barges_in + NOTICED:
            counted.missed += 1
        else:
            counted.delays.append(20.0 * (at - call.barges_in + 1))


def counted_of(job: tuple[Kind, str, str, int]) -> tuple[Kind, Counted]:
    """A kind's calls, made and counted."""
    kind, half, rule, each = job
    counted, first = Counted(), 0 if half == "choose" else 10_000
    for seed in range(first, first + each * kind.times):
        heard(kind.call(half, seed), rule, counted)
    return kind, counted


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--json", type=Path, help="write the figures to a file too")
    parser.add_argument("--half", choices=("choose", "report"), default="choose")
    parser.add_argument("--rule", choices=("now", "before"), default="now")
    parser.add_argument("--each", type=int, default=10, help="calls of each kind (10)")
    chosen = parser.parse_args()
    warm()
    jobs = [(kind, chosen.half, chosen.rule, chosen.each) for kind in kinds()]
    groups: dict[str, list[Counted]] = defaultdict(list)
    with Pool(2) as pool:
        for kind, counted in pool.imap_unordered(counted_of, jobs):
            groups[kind.group].append(counted)
    rows = []
    order = list(dict.fromkeys(kind.group for kind in kinds()))
    for group in order:
        of = groups[group]
        false = [sum(each.false[k] for each in of) for k in (0, 1)]
        prompts = [sum(each.prompts[k] for each in of) for k in (0, 1)]
        talkers, missed = (sum(getattr(each, n) for each in of) for n in ("talkers", "missed"))
        delays = [delay for each in of for delay in each.delays]
        answers, unheard = (sum(getattr(each, n) for each in of) for n in ("answers", "unheard"))
        rows.append((
            group,
            ", ".join(f"{a} of {b}" for a, b in zip(false, prompts, strict=True) if b),
            f"{missed} of {talkers}" if talkers else "",
            f"{percentile(delays, 0.5):.0f} / {percentile(delays, 0.95):.0f}" if delays else "",
            f"{unheard} of {answers}" if answers else "",
        ))  # fmt: skip
    everything = [each for of in groups.values() for each in of]
    cost = sum(e.seconds for e in everything) / sum(e.frames for e in everything) * 50
    show(
        f"who is taken to speak while we do: {chosen.half}, {chosen.rule}",
        ("calls", "false barge-ins: first prompt, second", "talkers missed", "ms p50 / p95",
         "answers not heard"),
        [*rows, ("a core per call", f"{cost:.2%}", "", "", "")], chosen.json,
    )  # fmt: skip


if __name__ == "__main__":
    main()
