"""How well the recognizer hears the demo's closed set, and how well it keeps out what is not in it.

Every built-in voice says every example of the harbour desk, and sentences about other things;
clean, in noise and through a telephone's band. The voices are not those the recognizer was trained
on, but the synthesizer is of the same kind, so read the figures as "inside the synthetic world".
Real people are in bench/people.

    python -m bench.hearing
"""

from __future__ import annotations

from collections.abc import Callable

import numpy as np

from bench.report import options, show
from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.speaker import VOICES
from fond_echo.demo.world import files_of
from fond_echo.documents.reading import read_assistant
from fond_echo.speech.material import recognizer, synthesizer

OTHER = (
    "The quick brown fox jumps over the lazy dog.",
    "Can you tell me what the capital of France is?",
    "I would like to order two pizzas.",
    "My sister is coming to stay on Sunday.",
    "Please turn the lights off in the kitchen.",
    "What is the weather like in the mountains?",
    "Where can I buy some bread?",
    "When is the next train to London?",
    "How much is a kilo of apples?",
    "I have two dogs and a cat.",
)


def noisy(clip: Clip, decibels: float) -> Clip:
    power = float(np.mean(np.square(clip.samples)))
    hiss = np.random.default_rng(1).standard_normal(len(clip))
    level = (power / 10 ** (decibels / 10)) ** 0.5
    return Clip((clip.samples + level * hiss).astype(np.float32), clip.rate)


CONDITIONS: dict[str, Callable[[Clip], Clip]] = {
    "clean": lambda clip: clip,
    "20 dB noise": lambda clip: noisy(clip, 20),
    "10 dB noise": lambda clip: noisy(clip, 10),
    "telephone band": lambda clip: at_rate(clip, 8_000),
}


def said(text: str, voice: str) -> Clip:
    return join([part.clip for part in synthesizer().speak(text, voice)])


def main() -> None:
    chosen = options(__doc__)
    assistant = read_assistant(files_of("harbour-desk"))
    phrases = assistant.router().examples
    expected = Expected(phrases)
    rows = []
    for name, spoil in CONDITIONS.items():
        right = wrong = let_in = 0
        for voice in VOICES:
            for text in phrases:
                heard = recognizer().transcribe(spoil(said(text, voice)), expected)
                if heard.source == "expected":
                    same = heard.spoken == " ".join(spoken_tokens(text))
                    right, wrong = right + same, wrong + (not same)
            for text in OTHER:
                heard = recognizer().transcribe(spoil(said(text, voice)), expected)
                let_in += heard.source == "expected"
        total, others = len(VOICES) * len(phrases), len(VOICES) * len(OTHER)
        refused = total - right - wrong
        rows.append((name, f"{right} of {total}", wrong, refused, f"{let_in} of {others}"))
    show(
        f"The harbour desk's {len(phrases)} examples in {len(VOICES)} voices",
        ("condition", "right", "another example", "refused", "let in from outside"),
        rows,
        chosen.json,
    )


if __name__ == "__main__":
    main()
