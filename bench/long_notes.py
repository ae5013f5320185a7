"""A long report for the deck log, from its file to its transcript, in one process: seconds of each
step, how many times faster than the sound that is, and the memory that it took at most.

    python -m bench.long_notes --minutes 180

The sound is made by our own voice, and kept nowhere.
"""

from __future__ import annotations

import asyncio
import random
import resource
import time
from collections.abc import Iterator
from pathlib import Path

from bench.report import options, show
from fond_echo.core.audio.activity import pieces
from fond_echo.core.audio.clip import Clip, join, silence
from fond_echo.core.audio.containers import encode
from fond_echo.core.audio.voicenote import VoiceNoteWriter
from fond_echo.core.language.paragraphs import Stretch, paragraphs
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.recognition.pieces import MAX_PIECE
from fond_echo.core.recognition.recognizer import Recognizer
from fond_echo.core.recognition.scoring import edits
from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.decoding import GuardedDecoder
from fond_echo.speech.heard import as_heard, joined, later
from fond_echo.speech.material import recognizer, synthesizer

WHO = ("The skipper", "A passenger", "The deck hand", "Somebody from the office", "The engineer")
DID = ("looked at", "asked about", "cleaned", "moved", "counted", "corrected", "forgot", "paid for")
WHAT = ("the engine", "the bicycles", "the green rope", "the life vests", "two boxes of fish",
        "the water filter", "the tickets", "the lamp on the bow")  # fmt: skip
WHEN = ("at Pell", "before noon", "in the rain", "on the way to Brannick", "after we had landed",
        "while the tide was low", "near Little Marrow")  # fmt: skip


def sentences(chance: random.Random) -> Iterator[str]:
    """What a report says, without end."""
    while True:
        parts = (chance.choice(each) for each in (WHO, DID, WHAT, WHEN))
        yield f"{' '.join(parts)}."


def spoken(minutes: int, seed: int) -> tuple[bytes, list[str]]:
    """A report of so many minutes as a voice note, and its sentences. Each sentence is spoken once
    in each voice, and used as often as it comes."""
    chance, voices = random.Random(seed), ("dunlin", "tern", "curlew")
    made: dict[tuple[str, str], Clip] = {}
    writer, said, seconds = VoiceNoteWriter(7, input_rate=16_000, rate=16_000), [], 0.0
    data = bytearray()
    for text in sentences(chance):
        voice = voices[int(seconds // 600) % len(voices)]
        if (text, voice) not in made:
            parts = [part.clip for part in synthesizer().speak(text, voice)]
            pause = silence(chance.choice((0.6, 0.8, 1.3, 2.4)), parts[-1].rate)
            made[text, voice] = join([*parts, pause])
        clip = made[text, voice]
        data += writer.write(clip.samples)
        said.append(text)
        seconds += clip.seconds
        if seconds >= 60 * minutes:
            return bytes(data) + writer.finish(), said
    raise AssertionError


def peak() -> float:
    """The memory that this process and its children took at most, in MB."""
    kinds = (resource.RUSAGE_SELF, resource.RUSAGE_CHILDREN)
    return max(resource.getrusage(kind).ru_maxrss for kind in kinds) / 1_024


async def measured(minutes: int, seed: int, ear: Recognizer, file: Path | None) -> None:
    data, said = await asyncio.to_thread(spoken, minutes, seed)
    language = language_of("en")
    rows = []

    def row(step: str, begun: float) -> None:
        spent = time.perf_counter() - begun
        rows.append((step, f"{spent:,.1f}", f"{60 * minutes / max(spent, 1e-6):,.0f}",
                     f"{peak():,.0f}"))  # fmt: skip

    begun = time.perf_counter()
    clip = (await GuardedDecoder().decode(data)).clip
    row("decoded, in a process of its own", begun)
    begun = time.perf_counter()
    kept = encode(clip, "flac")
    row(f"kept, {len(kept) / 2**20:.0f} MB", begun)
    begun, parts = time.perf_counter(), []
    for span in pieces(clip, MAX_PIECE):
        found = ear.transcribe(clip.part(span.start, span.end), Expected())
        parts.append(later(as_heard(found, "en"), span.start))
    heard = joined([each for each in parts if each.words])
    row("heard, on one thread", begun)
    begun = time.perf_counter()
    goes_on = language.wording.GOES_ON
    stretches = [Stretch(each.text, each.start, each.end) for each in heard.segments]
    made = paragraphs(stretches, goes_on.__contains__)
    row("sentences and paragraphs", begun)
    tokens = language.writing.spoken_tokens
    sample = len(said) // 10
    # Alignment of hours of words takes longer than hearing them: the first tenth is enough.
    wanted = [word for text in said[:sample] for word in tokens(text)]
    got = heard.spoken.split()[: len(wanted)]
    wrong = await asyncio.to_thread(edits, wanted[:3_000], got[:3_000])
    count = sum(len(each.sentences) for each in made)
    show(
        f"{minutes} min of a report, {len(data) / 2**20:.1f} MB of Ogg Opus",
        ("step", "seconds", "times real time", "peak MB"), rows, file,
    )  # fmt: skip
    print(
        f"{len(said)} sentences said, {count} found in {len(made)} paragraphs; of the first"
        f" {len(wanted[:3_000])} words {wrong.rate:.1%} are wrong"
    )


def main() -> None:
    chosen = options(__doc__, minutes=180, seed=18)
    asyncio.run(measured(chosen.minutes, chosen.seed, recognizer(), chosen.json))


if __name__ == "__main__":
    main()
