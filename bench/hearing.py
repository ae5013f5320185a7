"""How well the ear hears the demo's closed set, and how well it keeps out what is not in it.

Every built-in voice says every example of the harbour desk, and sentences about other things;
clean, in noise and through a telephone's band. The voices are not those the ear was trained on,
but the synthesizer is of the same kind, so read the figures as "inside the synthetic world".
Where Debian's alsa-utils is installed (or its sounds lie where PEOPLE says), its eight short
recordings of a person are read as a closed set too, alone and beside 30 and 100 other phrases.
WORDS may name a folder of recordings of single words.

    python -m bench.hearing
"""

from __future__ import annotations

import os
import random
from collections.abc import Callable
from pathlib import Path

import numpy as np

from bench.report import options, show
from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.containers import decode
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.dialogue.routing import Router
from fond_echo.core.language.spoken import spoken_tokens
from fond_echo.core.recognition.transcript import Expected
from fond_echo.core.synthesis.speaker import VOICES
from fond_echo.demo.world import files_of
from fond_echo.documents.reading import read_assistant
from fond_echo.speech.material import recogniser, synthesizer
from training.rooms import RATE, companded
from training.testing import phrases as phrases_of

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
PEOPLE = Path(os.environ.get("PEOPLE", "/usr/share/sounds/alsa"))
WORDS = Path(os.environ["WORDS"]) if "WORDS" in os.environ else None
BELIEVED = 0.75
SPEAKERS = tuple(
    f"{place} {side}"
    for place, sides in (("Front", "Center Left Right"), ("Rear", "Center Left Right"),
                         ("Side", "Left Right"))
    for side in sides.split()
)  # fmt: skip


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
    phrases = Router(assistant.router_routes()).examples
    expected = Expected(phrases)
    rows = []
    for name, spoil in CONDITIONS.items():
        right = wrong = let_in = 0
        for voice in VOICES:
            for text in phrases:
                heard = recogniser().transcribe(spoil(said(text, voice)), expected)
                if heard.source == "expected":
                    same = heard.spoken == " ".join(spoken_tokens(text))
                    right, wrong = right + same, wrong + (not same)
            for text in OTHER:
                heard = recogniser().transcribe(spoil(said(text, voice)), expected)
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
    if PEOPLE.is_dir():
        of_people()
    if WORDS is not None:
        of_words(WORDS)


def of_people() -> None:
    """Eight recordings of a person, as a closed set alone and beside other phrases, and freely."""
    rng = random.Random(7)
    rows = []
    for others in (0, 30, 100):
        beside = tuple(" ".join(each) for each in phrases_of(rng, others))
        expected = Expected((*SPEAKERS, *beside))
        for way, spoil in (("clean", lambda clip: clip), ("telephone", through_telephone)):
            best = taken = 0
            for text in SPEAKERS:
                heard = recogniser().transcribe(spoil(of_person(text)), expected)
                sure = heard.source == "expected"
                others_said = [each.text for each in heard.alternatives]
                best += text.lower() == (heard.spoken if sure else "".join(others_said[:1]))
                taken += sure and heard.spoken == text.lower()
            rows.append((f"8 beside {others}, {way}", f"{best} of 8", f"{taken} of 8"))
    show("a person, closed sets", ("set", "best reading right", "and taken"), rows)
    rows = []
    for text in SPEAKERS:
        heard = recogniser().transcribe(of_person(text))
        rows.append((text.lower(), heard.spoken, f"{heard.confidence:.2f}"))
    show("a person, taken down freely", ("said", "heard", "confidence"), rows)


def of_words(folder: Path) -> None:
    """Recordings of single words, named by them (after the last underscore), as one closed set."""
    said = {file.stem.split("_")[-1].lower(): file for file in sorted(folder.glob("*.ogg"))}
    expected = Expected(tuple(said))
    rows = []
    for way, spoil in (("clean", lambda clip: clip), ("telephone", through_telephone)):
        best = right = wrong = freely = 0
        for word, file in said.items():
            clip = spoil(decode(file.read_bytes()).clip)
            heard = recogniser().transcribe(clip, expected)
            sure = heard.source == "expected"
            others = [each.text for each in heard.alternatives]
            best += word == (heard.spoken if sure else "".join(others[:1]))
            right += sure and heard.spoken == word
            wrong += sure and heard.spoken != word
            free = recogniser().transcribe(clip)
            freely += free.spoken != word and free.confidence >= BELIEVED
        rows.append(
            (way, f"{best} of {len(said)}", right, wrong, len(said) - right - wrong, freely)
        )
    columns = ("", "best reading right", "taken, right", "taken, wrong", "refused",
               "freely: wrong and believed")  # fmt: skip
    show(f"{len(said)} single words of people", columns, rows)


def through_telephone(clip: Clip) -> Clip:
    clip = at_rate(clip, RATE)
    return Clip(companded(clip.samples, "mu"), RATE)


def of_person(text: str) -> Clip:
    return decode((PEOPLE / f"{text.replace(' ', '_')}.wav").read_bytes()).clip


if __name__ == "__main__":
    main()
