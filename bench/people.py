"""How well the recognizer hears people: recordings from five Debian packages, each set a closed
set.

Nothing is trained on them. `places` (eight of one person) is for judging; what is chosen is chosen
on the others: `words` and `letters` (one person), `animals` (one person, "a red kangaroo") and
`shouts` (nine actors of a game, 45 phrases, mostly in put-on voices). bench/data/people.tsv says
where each lies and what is said; packages that are not there are left out.

    apt-get download alsa-utils ktuberling-data klettres-data tuxpaint-stamps-default hedgewars-data
    for each in *.deb; do dpkg -x $each people/${each%%_*}; done
    python -m bench.people --folder people
"""

from __future__ import annotations

import argparse
import csv
import random
from collections import defaultdict
from collections.abc import Callable
from dataclasses import dataclass
from functools import partial
from pathlib import Path

import numpy as np

from bench.report import show
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.containers import decode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.recognition.hearing import Hearing, Partial, Utterance
from fond_echo.core.recognition.offering import offered
from fond_echo.core.recognition.transcript import NOTHING, Expected, Transcript
from fond_echo.speech.material import recognizer
from training.rooms import RATE, companded
from training.testing import phrases as phrases_of

LIST = Path(__file__).parent / "data" / "people.tsv"
BELIEVED = 0.75
BESIDE = (0, 30, 100)
"""So many other phrases stand beside the set of places."""

Spoil = Callable[[Clip], Clip]
Hear = Callable[[Clip, Expected], Transcript]


@dataclass(frozen=True)
class Recording:
    """A person's, and what is said in it."""

    said: str
    file: Path

    def clip(self) -> Clip:
        return at_rate(decode(self.file.read_bytes()).clip, RATE)


def recordings(folder: Path) -> dict[str, list[Recording]]:
    """Those that are there, by set."""
    found: dict[str, list[Recording]] = defaultdict(list)
    with LIST.open(newline="") as lines:
        for row in csv.DictReader(lines, delimiter="\t"):
            file = folder / row["package"] / row["file"]
            if file.is_file():
                found[row["set"]].append(Recording(row["said"], file))
    return found


def clean(clip: Clip) -> Clip:
    return clip


def through_telephone(clip: Clip) -> Clip:
    return Clip(companded(clip.samples, "mu"), RATE)


PACKET, LEAD, TAIL = RATE // 50, 0.6, 1.0
"""Samples of 20 ms; seconds of a quiet telephone line before and after what is said."""

QUIET_LINE = 4e-4


def at_once(clip: Clip, expected: Expected) -> Transcript:
    """As a voice note."""
    return recognizer().transcribe(clip, expected)


def as_it_comes(clip: Clip, expected: Expected) -> Transcript:
    """Fed 20 ms at a time by telephone; of several utterances that with most words."""
    rng = np.random.default_rng(len(clip.samples))
    line = np.concatenate(
        [np.zeros(int(LEAD * RATE)), clip.samples, np.zeros(int(TAIL * RATE))]
    ) + rng.normal(0, QUIET_LINE, len(clip.samples) + int(LEAD * RATE) + int(TAIL * RATE))
    samples = companded(line.astype(np.float32), "mu")
    hearing = Hearing(recognizer(), expected)
    found: list[Partial | Utterance] = []
    for start in range(0, len(samples), PACKET):
        found += hearing.feed(samples[start : start + PACKET])
    found += hearing.finish()
    said = [each.transcript for each in found if isinstance(each, Utterance)]
    return max(said, key=lambda each: len(each.words), default=NOTHING)


def best_of(heard: Transcript) -> str:
    """The best hypothesis of a closed set, accepted or not."""
    if heard.source == "expected":
        return heard.spoken
    return heard.alternatives[0].text if heard.alternatives else ""


WAYS: dict[str, tuple[Spoil, Hear]] = {
    "clean": (clean, at_once),
    "telephone": (through_telephone, at_once),
    "stream": (clean, as_it_comes),
}  # fmt: skip
"""What is done to a recording, and how it is heard then."""


def row_of(name: str, said: list[Recording], expected: Expected, way: str) -> tuple[object, ...]:
    """A set's figures, by one way."""
    best = right = wrong = asked = helped = 0
    spoil, hear = WAYS[way]
    for each in said:
        heard = hear(spoil(each.clip()), expected)
        taken = heard.source == "expected"
        best += best_of(heard) == each.said
        right += taken and heard.spoken == each.said
        wrong += taken and heard.spoken != each.said
        phrases = [] if taken else offered(heard.alternatives)
        asked += bool(phrases)
        helped += each.said in phrases
    return (
        f"{name}, {way}", len(set(expected.phrases)), f"{best} of {len(said)}", right, wrong,
        f"{helped} of {asked}", right + helped, len(said) - right - wrong - asked,
    )  # fmt: skip


def freely(said: list[Recording]) -> tuple[int, int]:
    """How many are taken down right without a set; how many wrong, and believed."""
    right = wrong = 0
    for each in said:
        heard = recognizer().transcribe(each.clip())
        right += heard.spoken == each.said
        wrong += heard.spoken != each.said and heard.confidence >= BELIEVED
    return right, wrong


def main() -> None:
    parser = argparse.ArgumentParser(
        description=__doc__, formatter_class=argparse.RawDescriptionHelpFormatter
    )
    parser.add_argument("--folder", type=Path, default=Path("/"), help="of unpacked packages")
    parser.add_argument("--way", choices=WAYS, action="append", help="all of them without it")
    parser.add_argument("--json", type=Path)
    chosen = parser.parse_args()
    sets = recordings(chosen.folder)
    if not sets:
        parser.error(f"none of the recordings is in {chosen.folder}: unpack the packages there")
    rows = []
    for name, said in sets.items():
        phrases = tuple(dict.fromkeys(each.said for each in said))
        for beside in BESIDE if name == "places" else (0,):
            others = [" ".join(each) for each in phrases_of(random.Random(7), beside)]
            expected = Expected((*phrases, *others))
            rows += map(partial(row_of, name, said, expected), chosen.way or WAYS)
    columns = (
        "set", "phrases", "best hypothesis right", "correct accepts", "false accepts",
        "offered, it is among them", "answered in one or two turns", "neither",
    )  # fmt: skip
    show("people, in closed sets", columns, rows, chosen.json)
    if chosen.way:
        return
    free = [(name, len(said), *freely(said)) for name, said in sets.items()]
    show("people, free dictation", ("set", "said", "right", "false accepts"), free)


if __name__ == "__main__":
    main()
