"""Whether somebody speaks while we do, and it is not our own sound, noise, or the next table."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import fft

from fond_echo.core.telephony.conversation.echo import (
    BANDS,
    FRAME,
    WINDOW,
    EchoEstimate,
    stands_out,
)
from fond_echo.core.telephony.media.loudness import rms

Frame = npt.NDArray[np.int16]

SMOOTHED = 3
"""Frames whose power is taken together."""

BEGUN_OF, BEGUN, VOICED = 8, 5, 2
"""Of so many frames so many stand out, and so many of them repeat themselves as a voice does."""


@dataclass(frozen=True)
class BargeInSettings:
    """Chosen on one half of `bench.listening_in_calls`.

    Attributes:
        known: frames of our own sound after which the way that it comes back is known.
        over: dB by which what comes stands over what is expected; `over_at_first` until then.
        voiced: how strongly 40 ms repeat themselves, 0 to 1; `eased` less where what comes stands
            out `clearly` dB more than it has to.
        alike: correlation with what was sent, over which it is our own: `alike_at_first` until the
            way is known, `alike_louder` where it has `louder` times the power that could come back;
            `surely_echo` is where the way has changed.
        least: RMS of a talker who is not known.
        below: dB under the talker's own level that still count as them.
        up, down, up_talking: how fast what comes back is learned as it grows, as it shrinks, and
            while somebody may be talking; `hurry` times as fast at first.
    """

    known: int = 40
    over: float = 2.5
    over_at_first: float = 6.0
    voiced: float = 0.28
    eased: float = 0.06
    clearly: float = 3.5
    alike: float = 0.28
    alike_at_first: float = 0.25
    alike_louder: float = 0.40
    louder: float = 8.0
    surely_echo: float = 0.5
    least: float = 130.0
    below: float = 12.0
    up: float = 0.3
    down: float = 0.3
    up_talking: float = 0.03
    hurry: float = 2.0


def level_of(samples: Frame) -> float:
    """RMS of speech: of the frames within 15 dB of the loudest."""
    whole = samples[: len(samples) // FRAME * FRAME].astype(np.float32).reshape(-1, FRAME)
    if not len(whole):
        return 0.0
    power = np.square(whole).mean(axis=1)
    return math.sqrt(float(power[power >= 0.03 * power.max()].mean()))


def warm() -> None:
    """Compile it, or load what was compiled, before a call waits for it."""
    detector, noise = BargeInDetector(), np.random.default_rng(1)
    for _ in range(3):
        frame = noise.normal(0, 2_000, FRAME).astype(np.int16)
        detector.feed(frame, frame)


class BargeInDetector:
    """Fed every frame of a call, also while nothing is played: it learns the line."""

    def __init__(self, settings: BargeInSettings | None = None) -> None:
        self._settings = settings or BargeInSettings()
        self._echo = EchoEstimate()
        self._got = np.zeros((SMOOTHED, BANDS), np.float32)
        self._expected = np.zeros((SMOOTHED, BANDS), np.float32)
        self._sent_lately = np.zeros(50 * FRAME, np.float32)
        self._got_lately = np.zeros(50 * FRAME, np.float32)
        self._talker = 0.0
        self._waits = 0
        self.reset()

    def reset(self) -> None:
        """Something else is played: what was loud before counts no more."""
        self._loud: deque[bool] = deque(maxlen=BEGUN_OF)
        self._voiced: deque[bool] = deque(maxlen=BEGUN_OF)

    def knows(self, level: float) -> None:
        """Somebody has answered at this RMS: others are softer."""
        old = self._talker
        self._talker = level if level > 2 * old else 0.7 * old + 0.3 * level

    def feed(self, sent: Frame, got: Frame) -> bool:
        """20 ms of either side, shape (160,) each; whether somebody has begun to speak."""
        how, echo = self._settings, self._echo
        echo.feed(sent, got)
        at = echo.frames
        place = (at % 50) * FRAME
        self._sent_lately[place : place + FRAME] = sent
        self._got_lately[place : place + FRAME] = got
        self._got[at % SMOOTHED], self._expected[at % SMOOTHED] = echo.got, echo.expected
        out = stands_out(self._got, self._expected, echo.noise)
        at_first = echo.sounding and echo.active < how.known
        over = how.over_at_first if at_first else how.over
        loud = out > over and rms(got) > self.least
        if at_first:
            echo.learn(how.hurry * how.up, how.hurry * how.down)
        else:
            echo.learn(how.up_talking if loud else how.up, how.down)
        self._loud.append(loud)
        # Who stands out clearly need not sing.
        needed = how.voiced - how.eased * min(1.0, max(0.0, (out - how.over) / how.clearly))
        self._voiced.append(loud and self._repeats(echo.tail) > needed)
        self._waits -= 1
        if self._waits > 0 or sum(self._loud) < BEGUN or sum(self._voiced) < VOICED:
            return False
        if echo.sounding:
            alike = (
                how.alike_at_first if at_first
                else how.alike_louder if self._louder
                else how.alike
            )  # fmt: skip
            found = self._alike()
            if found > alike:
                self._waits = 3
                if found > how.surely_echo:
                    # It comes on a way that was not known.
                    echo.learn(1.0, 0.1, 8.0)
                return False
        return True

    @property
    def may_be_echo(self) -> bool:
        """Whether what came last may be something of ours, returned."""
        if not self._echo.sounding:
            return False
        known = self._echo.active >= self._settings.known
        return not (known and self._louder)

    @property
    def _louder(self) -> bool:
        """Whether what came lately has far more power than could come back."""
        most = SMOOTHED * self._settings.louder * self._echo.most
        return float(self._got.sum()) > most

    @property
    def least(self) -> float:
        """RMS under which nobody is taken for the talker."""
        if not self._talker:
            return self._settings.least
        share = 10 ** (-self._settings.below / 20)
        return min(max(60.0, self._talker * share), 1_000.0)

    @property
    def least_to_listen(self) -> float:
        """RMS under which nobody is listened to while we are silent: that of softer talkers, once
        one is known; before, nobody is too soft."""
        return self.least if self._talker else 0.0

    def _repeats(self, tail: npt.NDArray[np.float32]) -> float:
        """How strongly 40 ms repeat themselves after 2.5 to 17 ms, their bands first made alike:
        speech does, wind and hum do not."""
        heard = fft.rfft(tail * _HANN, 2 * WINDOW)
        heard[:20] = 0
        same = fft.irfft(np.abs(heard) ** np.float32(0.6))
        return float(np.max(same[20:140]) / same[0]) if same[0] > 0 else 0.0

    def _alike(self, frames: int = 12) -> float:
        """How much the last 240 ms are like something that was sent, at their best delay."""
        size = 8_192
        last = (self._echo.frames % 50 + 1) * FRAME
        got = np.roll(self._got_lately, -last)[-FRAME * frames :]
        sent = np.roll(self._sent_lately, -last)[-FRAME * (33 + frames) :]
        a, b = np.diff(got), np.diff(sent)
        dots = fft.irfft(np.conj(fft.rfft(a, size)) * fft.rfft(b, size))[: len(b) - len(a) + 1]
        run = np.concatenate(([0.0], np.cumsum(np.square(b, dtype=np.float64))))
        norms = run[len(a) :] - run[: -len(a)]
        own = float(np.dot(a, a))
        return float(np.max(np.abs(dots) / np.sqrt((norms + 1e-3 * own + 1e4) * (own + 1e4))))


_HANN = np.hanning(WINDOW).astype(np.float32)
