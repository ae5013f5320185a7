"""A language of warbles, for tests of calls: each text is a sound of its own, two tones that take
turns. It is made and read in no time, and survives what a busy machine does to a call. Real speech
in calls is heard in the demo's tests."""

import numpy as np

from fond_echo.contract.turn import Heard
from fond_echo.core.audio.clip import Clip, join, silence
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.language.en.spoken import spoken_tokens
from fond_echo.core.synthesis.sound import SpokenSound

RATE = 8_000
SECONDS = 0.5
MIN_HZ, STEP, LOWS = 400.0, 110.0, 12
APARTS = (300.0, 520.0, 740.0)
MAX_WARBLES = LOWS * len(APARTS)
TURN = RATE // 25
"""Samples until the other tone: 40 ms."""

LOUD = 0.02
GAP = 4
"""Frames of silence between two texts, at least."""

_known: list[str] = []


def forget() -> None:
    """Begin anew: the fewer texts there are, the less they are alike."""
    _known.clear()


def _tones(text: str) -> tuple[float, float]:
    """The two tones of a text."""
    if text not in _known:
        assert len(_known) < MAX_WARBLES, "there are no more warbles"
        _known.append(text)
    row, place = divmod(_known.index(text), LOWS)
    low = MIN_HZ + STEP * place
    return low, low + APARTS[row]


def warble(text: str, seconds: float = SECONDS) -> Clip:
    """A text as sound, with a little silence around it, as speech has."""
    low, upper = _tones(text)
    count = round(seconds * RATE)
    high = (np.arange(count) // TURN) % 2
    phase = np.cumsum(2 * np.pi * (low + (upper - low) * high) / RATE)
    sound = Clip((0.25 * np.sin(phase)).astype(np.float32), RATE)
    return join([silence(0.16, RATE), sound, silence(0.2, RATE)])


def read(clip: Clip) -> list[str]:
    """The texts in a sound, one after the other."""
    samples = at_rate(clip, RATE).samples
    frames = samples[: len(samples) // 160 * 160].reshape(-1, 160)
    loud = np.sqrt(np.mean(frames**2, axis=1)) > LOUD
    found, start, quiet = [], None, 0
    for place, here in enumerate([*loud, *[False] * (GAP + 1)]):
        if here:
            start = place if start is None else start
            quiet = 0
            continue
        quiet += 1
        if start is not None and quiet > GAP:
            part = frames[start : place - quiet + 1].ravel()
            start = None
            if len(part) >= RATE // 10:
                found.append(_nearest(part))
    # One that a pause broke in two is one.
    return [text for text, before in zip(found, [None, *found], strict=False) if text != before]


def _nearest(samples) -> str:
    times = np.arange(len(samples)) / RATE

    def energy(hertz: float) -> float:
        return abs(np.sum(samples * np.exp(-2j * np.pi * hertz * times)))

    return max(_known, key=lambda text: min(map(energy, _tones(text))))


def understood(clip: Clip) -> str:
    """What was heard, as words."""
    return " ".join(word for text in read(clip) for word in spoken_tokens(text))


class WarbleSpeech:
    """a recognizer and a voice for warbles."""

    async def transcribe(self, clip, expected, *, language, long):
        texts = read(clip)
        spoken = " ".join(word for text in texts for word in spoken_tokens(text))
        return Heard(
            spoken=spoken, written=" ".join(texts), confidence=0.99 if texts else 0.0,
            source="expected" if texts else "nothing", speech_seconds=clip.seconds,
        )  # fmt: skip

    async def speak(self, text, voice, *, seed, sounds=(), language="en", **_):
        yield SpokenSound(warble(text), text)
