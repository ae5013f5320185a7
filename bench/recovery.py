"""How soon a voice note is answered whose worker was killed in the middle of it.

The demo runs with one work process. A passenger sends a voice note, 0.2 s later the worker is
killed (SIGKILL), and the supervisor starts another, as `serve` does.

    python -m bench.recovery
"""

from __future__ import annotations

import time

from bench.passengers import answers, running, tell, voice_notes
from bench.report import options, percentile, show


def main() -> None:
    chosen = options(__doc__, kills=20)
    note = voice_notes()[0]
    plain, after = [], []
    with running() as world:
        work = world.part("work")
        for number in range(2 * chosen.kills):
            kill = number % 2 == 1
            post = world.network.post("/people/isla/record", content=note).json()
            begun = time.monotonic()
            if kill:
                time.sleep(0.2)
                assert work.process is not None
                work.process.kill()
                begun = time.monotonic()
            while not answers(world.network, "isla", post["number"]):
                time.sleep(0.02)
            (after if kill else plain).append(time.monotonic() - begun)
            tell(f"{'killed' if kill else 'left alone'}: {time.monotonic() - begun:.2f} s")
            time.sleep(1.5)
    rows = [
        (name, percentile(seconds, 0.5), max(seconds))
        for name, seconds in (("left alone", plain), ("from the kill", after))
    ]
    show(
        f"Seconds to the answer, {chosen.kills} each", ("what", "p50", "longest"), rows, chosen.json
    )


if __name__ == "__main__":
    main()
