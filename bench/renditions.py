"""Text made sound for programs: how soon the first sound comes, and how many a second.

One text of two sentences, never the same twice, over HTTP from the running service: the time to the
first byte of sound while it streams, the whole, what the synthesizer and the encoder take of the
same text by themselves in the same run, renditions a second from four clients at once, and what
an hour of text adds to the memory of the processes.

    python -m bench.renditions
"""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from pathlib import Path

from bench.passengers import running
from bench.report import options, percentile, show
from fond_echo.client import FondEcho
from fond_echo.contract.renditions import RenditionIn
from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.voicenote import encode_voice_note
from fond_echo.speech.material import synthesizer

TEXT = "The {} boat to Pell leaves at ten past four. Please be at the north pier in good time."
CLIENTS = 4


def texts() -> Callable[[], str]:
    """Texts that no cache has."""
    count = iter(range(1, 1_000_000))
    return lambda: TEXT.format(f"{next(count)}th")


def streamed(echo: FondEcho, text: str) -> tuple[float, float]:
    """Milliseconds to the first sound, and to the last."""
    begun = time.perf_counter()
    first = 0.0
    for data in echo.render(RenditionIn(text=text)):
        # The two header pages of Ogg come with the first page of sound.
        first = first or (1_000 * (time.perf_counter() - begun) if len(data) > 200 else 0.0)
    return first, 1_000 * (time.perf_counter() - begun)


def alone(text: str) -> tuple[float, float, float]:
    """Milliseconds of synthesis and of encoding in this process, and seconds of sound."""
    begun = time.perf_counter()
    clip: Clip = join([part.clip for part in synthesizer().speak(text, "whimbrel")])
    spoken = time.perf_counter()
    encode_voice_note(clip, 1)
    done = time.perf_counter()
    return 1_000 * (spoken - begun), 1_000 * (done - spoken), clip.seconds


def at_once(address: str, key: str, seconds: float, next_text: Callable[[], str]) -> float:
    """Renditions a second from several clients."""
    counts = [0] * CLIENTS
    until = time.monotonic() + seconds

    def ask(number: int) -> None:
        with FondEcho(address, key) as echo:
            while time.monotonic() < until:
                echo.rendered(RenditionIn(text=next_text()))
                counts[number] += 1

    threads = [threading.Thread(target=ask, args=(number,)) for number in range(CLIENTS)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    return sum(counts) / seconds


def memory(process: int) -> float:
    """Of a process and all that it began, in MB, each its share of what is shared (PSS)."""
    folder = Path("/proc") / str(process)
    try:
        rollup = (folder / "smaps_rollup").read_text()
        children = (folder / "task" / str(process) / "children").read_text().split()
    except OSError:
        return 0.0
    own = int(next(line for line in rollup.splitlines() if line.startswith("Pss:")).split()[1])
    return own / 1024 + sum(memory(int(child)) for child in children)


def main() -> None:
    chosen = options(__doc__, times=60, seconds=12, sentences=900)
    next_text = texts()
    alone(next_text())
    with running() as world:
        settings, key = world.world.settings, world.world.key
        with FondEcho(settings.address, key) as echo:
            for _ in range(5):
                streamed(echo, next_text())
            pairs = [streamed(echo, next_text()) for _ in range(chosen.times)]
            by_itself = [alone(next_text()) for _ in range(chosen.times)]
            rate = at_once(settings.address, key, chosen.seconds, next_text)
            parts = [world.part(name).process for name in ("web", "speech")]
            processes = [each.pid for each in parts if each is not None]
            before, peak = sum(map(memory, processes)), 0.0
            long = " ".join(next_text() for _ in range(chosen.sentences))
            begun, size = time.perf_counter(), 0
            for data in echo.render(RenditionIn(text=long)):
                size += len(data)
                if size // 400_000 != (size - len(data)) // 400_000:
                    peak = max(peak, sum(map(memory, processes)))
            hour = time.perf_counter() - begun
    rows = [
        ("first sound, streamed", *middle([a for a, _ in pairs])),
        ("whole, streamed", *middle([b for _, b in pairs])),
        ("synthesis by itself", *middle([a for a, _, _ in by_itself])),
        ("encoding by itself", *middle([b for _, b, _ in by_itself])),
    ]
    show("A text of two sentences, ms", ("what", "p50", "p95"), rows, chosen.json)
    length = percentile([c for _, _, c in by_itself], 0.5)
    facts = [
        ("seconds of sound in it", length),
        ("synthesis, of real time", percentile([a for a, _, _ in by_itself], 0.5) / 1_000 / length),
        (f"renditions a second, {CLIENTS} clients", rate),
        (f"{chosen.sentences} such texts in one, seconds", hour),
        ("memory that web and speech add at most, MB", peak - before),
    ]
    show("The rest", ("what", "figure"), facts)


def middle(took: list[float]) -> tuple[float, float]:
    return percentile(took, 0.5), percentile(took, 0.95)


if __name__ == "__main__":
    main()
