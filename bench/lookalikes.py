"""Whether an assistant with more routes takes more of what it does not know for one of its phrases.

Forty sentences that are no example of a made-up assistant (other things to be done, in the same
frames), spoken by the built-in voices, are held against assistants of growing size; beside them
forty of its own examples. Both as they are and in 10 dB of noise.

    python -m bench.lookalikes [--largest 1000]
"""

from __future__ import annotations

import random

from bench.hearing import noisy, said
from bench.large_assistants import alike
from bench.report import options, show
from fond_echo.core.audio.clip import Clip
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.registry import language
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.material import recognizer, synthesizer

SIZES = (10, 200, 1_000)
COUNT = 40
OTHER_SEED = 77


def spoken(texts: list[str]) -> list[Clip]:
    voices = sorted(synthesizer().voices)
    return [
        at_rate(said(text, voices[number % len(voices)]), 16_000)
        for number, text in enumerate(texts)
    ]


def others() -> list[str]:
    """Sentences that are in none of the assistants."""
    known = {text for texts in alike(max(SIZES)) for text in texts}
    return [next(text for text in texts if text not in known) for texts in alike(COUNT, OTHER_SEED)]


def main() -> None:
    given = options(__doc__, largest=1_000)
    strange = spoken(others())
    rows = []
    for size in (each for each in SIZES if each <= given.largest):
        examples = [text for texts in alike(size) for text in texts]
        chosen = random.Random(3).sample(examples, COUNT)
        own = spoken(chosen)
        expected = Expected((*examples, *language().everywhere))
        for name, spoil in (("clean", lambda clip: clip), ("10 dB", lambda c: noisy(c, 10))):
            taken = [recognizer().transcribe(spoil(clip), expected) for clip in strange]
            wrong = [each.confidence for each in taken if each.source == "expected"]
            heard = [recognizer().transcribe(spoil(clip), expected) for clip in own]
            right = sum(
                each.source == "expected"
                and each.spoken == " ".join(language().writing.spoken_tokens(text))
                for each, text in zip(heard, chosen, strict=True)
            )
            surest = f"{max(wrong):.2f}" if wrong else "–"
            rows.append((f"{size} routes, {name}", f"{right} of {COUNT}",
                         f"{len(wrong)} of {COUNT}", surest))  # fmt: skip
    show("Own examples taken, others taken for one, and how surely at most",
         ("assistant", "own taken", "others taken", "surest"), rows, given.json)  # fmt: skip


if __name__ == "__main__":
    main()
