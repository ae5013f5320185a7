"""How much our Ogg writer costs: voice notes against the bare codec on the same samples.

Both run in turn, in one process, and each pair gives a ratio; the median of the ratios counts.
The aim is at least 0.9 of the codec's speed.

    python -m bench.encode
"""

from __future__ import annotations

import time

import av
import numpy as np

from bench.report import options, percentile, show
from fond_echo.core.audio.clip import Clip, join
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.audio.voicenote import FRAME, RATE, encode_voice_note, opus_encoder
from fond_echo.speech.material import synthesizer

TEXT = "The next boat to Brannick leaves at ten past four. A crossing is four pounds. "


def bare(samples: np.ndarray) -> int:
    """The codec alone: packets counted and thrown away."""
    encoder = opus_encoder()
    size = 0
    for start in range(0, len(samples) // FRAME * FRAME, FRAME):
        frame = av.AudioFrame.from_ndarray(
            samples[np.newaxis, start : start + FRAME], format="flt", layout="mono"
        )
        frame.sample_rate = RATE
        size += sum(packet.size for packet in encoder.encode(frame))
    return size + sum(packet.size for packet in encoder.encode(None))


def main() -> None:
    chosen = options(__doc__, seconds=30, pairs=15)
    speech = join([part.clip for part in synthesizer().speak(TEXT * 4, "whimbrel")])
    samples = np.resize(at_rate(speech, RATE).samples, chosen.seconds * RATE)
    clip = Clip(samples, RATE)
    ratios, ours, theirs = [], [], []
    for _ in range(chosen.pairs):
        begun = time.perf_counter()
        bare(samples)
        middle = time.perf_counter()
        encode_voice_note(clip, 1)
        ended = time.perf_counter()
        theirs.append(middle - begun)
        ours.append(ended - middle)
        ratios.append(theirs[-1] / ours[-1])
    rows = [
        ("bare codec", percentile(theirs, 0.5), chosen.seconds / percentile(theirs, 0.5), 1.0),
        (
            "voice note",
            percentile(ours, 0.5),
            chosen.seconds / percentile(ours, 0.5),
            percentile(ratios, 0.5),
        ),
    ]
    show(
        f"Encoding {chosen.seconds} s of speech, medians of {chosen.pairs} pairs",
        ("what", "seconds", "x real time", "speed against the codec"),
        rows,
        chosen.json,
    )


if __name__ == "__main__":
    main()
