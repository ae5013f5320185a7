"""How much work sound that goes on is, and how soon its words are there.

Sentences in the built-in voices, with a second and a half of silence after each, are fed 20 ms at a
time to one process, once freely and once held against the harbour desk. The work is the share of
real time on one core; the result is timed from the call in which the end was found to its return.

    python -m bench.listening [--sentences 40]
"""

from __future__ import annotations

import time

from bench.report import options, percentile, show
from fond_echo.core.audio.clip import join, silence
from fond_echo.core.recognition.hearing import Hearing, Partial, Utterance
from fond_echo.core.recognition.symbols import RATE
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.speaker import VOICES
from fond_echo.demo.world import files_of
from fond_echo.documents.reading import read_assistant
from fond_echo.speech.material import recognizer, synthesizer
from fond_echo.turns.expected import understood_by

STEP = 320
SENTENCES = (
    "I left my umbrella on the boat, could somebody look for it?",
    "When is the next boat to Brannick?",
    "I would like to book a table for four people tomorrow evening.",
    "How much is a ticket for two adults and three children?",
    "My number is zero one six three two, nine six zero, one four seven.",
)


def main() -> None:
    chosen = options(__doc__, sentences=40)
    understood = understood_by("bench", read_assistant(files_of("harbour-desk")))
    rows = []
    for name, expected in (("freely", Expected()), ("harbour desk", understood)):
        ends: list[float] = []
        firsts: list[float] = []
        spent = total = 0.0
        found = 0
        for number in range(chosen.sentences):
            voice = list(VOICES)[number % len(VOICES)]
            spoken = synthesizer().speak(SENTENCES[number % len(SENTENCES)], voice)
            clip = join([*(part.clip for part in spoken), silence(1.8, RATE)])
            hearing = Hearing(recognizer(), expected)
            first = None
            for start in range(0, len(clip), STEP):
                begun = time.perf_counter()
                heard = hearing.feed(clip.samples[start : start + STEP])
                taken = time.perf_counter() - begun
                spent += taken
                if heard and first is None and isinstance(heard[0], Partial):
                    first = start / RATE
                    firsts.append(first)
                if any(isinstance(each, Utterance) for each in heard):
                    ends.append(taken * 1_000)
                    found += 1
            total += clip.seconds
        rows.append(
            (name, f"{found} of {chosen.sentences}", f"{spent / total:.4f}",
             f"{percentile(ends, 0.5):.0f}", f"{percentile(ends, 0.95):.0f}",
             f"{percentile(firsts, 0.5):.2f}")
        )  # fmt: skip
    show(
        "sound that goes on",
        ("", "ends found", "of real time", "result p50 ms", "p95 ms", "first words after s"),
        rows,
        chosen.json,
    )


if __name__ == "__main__":
    main()
