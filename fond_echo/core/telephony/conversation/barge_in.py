"""Whether somebody speaks while we do, and it is not our own sound, noise, or the next table."""

from __future__ import annotations

import math
from collections import deque
from dataclasses import dataclass

import numpy as np
import numpy.typing as npt
from scipy import fft

from fond_echo.core.telephony.conversation.echo import (
    FRAME,
    SMOOTHED,
    WINDOW,
    EchoEstimate,
    stands_out,
)
from fond_echo.core.telephony.media.loudness import rms

Frame = npt.NDArray[np.int16]

BEGUN_OF, BEGUN, VOICED = 8, 5, 2
"""Of so many frames so many stand out, and so many of them repeat themselves as a voice does."""


TOGETHER = 8
"""So many frames in which it is too quiet for anybody are taken at once."""


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


@dataclass
class _Loud:
    """A frame that stands out: how strongly it must repeat itself; whether it does, once known."""

    frame: int
    needed: float
    voiced: bool | None = None


class BargeInDetector:
    """Fed every frame of a call, also while nothing is played: it learns the line."""

    def __init__(self, settings: BargeInSettings | None = None) -> None:
        self._settings = settings or BargeInSettings()
        self._echo = EchoEstimate()
        self._talker = 0.0
        self._waits = 0
        self._loud: deque[_Loud | None] = deque(maxlen=BEGUN_OF)

    def reset(self) -> None:
        """Something else is played: what was loud before counts no more."""
        self._loud.clear()

    def knows(self, level: float) -> None:
        """Somebody has answered at this RMS: others are softer."""
        old = self._talker
        self._talker = level if level > 2 * old else 0.7 * old + 0.3 * level

    def feed(self, sent: Frame, got: Frame, watched: bool = True) -> bool:
        """20 ms of either side, shape (160,) each; whether somebody has begun to speak.

        Args:
            watched: we are speaking. Where we are not and nothing of ours may come back, nobody
                asks, and the answer is no.
        """
        how, echo = self._settings, self._echo
        echo.keep(sent, got)
        self._waits -= 1
        level, least = rms(got), self.least
        nobody_asks = not (watched or echo.sounding)
        if nobody_asks or (level < least / 2 and echo.waiting < TOGETHER):
            self._loud.append(None)
            return False
        at_first = echo.sounding and echo.active < how.known
        pace = how.hurry if at_first else 1.0
        echo.take(pace * how.up, pace * how.down)
        out = stands_out(echo.got, echo.expected, echo.noise)
        loud = out > (how.over_at_first if at_first else how.over) and level > least
        echo.learn(how.up_talking if loud and not at_first else pace * how.up, pace * how.down)
        # Who stands out clearly need not sing.
        needed = how.voiced - how.eased * min(1.0, max(0.0, (out - how.over) / how.clearly))
        self._loud.append(_Loud(echo.frames, needed) if loud else None)
        if self._waits > 0 or not self._begun():
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
        return float(self._echo.got.sum()) > most

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

    def _begun(self) -> bool:
        """Whether enough of the last frames stand out, and enough of those are a voice's."""
        loud = [frame for frame in self._loud if frame is not None]
        if len(loud) < BEGUN:
            return False
        unknown = [frame for frame in loud if frame.voiced is None]
        if unknown:
            tails = self._echo.came_in(np.array([frame.frame for frame in unknown]))
            for frame, strength in zip(unknown, _repeats(tails), strict=True):
                frame.voiced = bool(strength > frame.needed)
        return sum(bool(frame.voiced) for frame in loud) >= VOICED

    def _alike(self, frames: int = 12) -> float:
        """How much the last 240 ms are like something that was sent, at their best delay."""
        size = 8_192
        a = np.diff(self._echo.lately(1, frames))
        b = np.diff(self._echo.lately(0, 33 + frames))
        dots = fft.irfft(np.conj(fft.rfft(a, size)) * fft.rfft(b, size))[: len(b) - len(a) + 1]
        run = np.concatenate(([0.0], np.cumsum(np.square(b, dtype=np.float64))))
        norms = run[len(a) :] - run[: -len(a)]
        own = float(np.dot(a, a))
        return float(np.max(np.abs(dots) / np.sqrt((norms + 1e-3 * own + 1e4) * (own + 1e4))))


_HANN = np.hanning(WINDOW).astype(np.float32)


def _repeats(tails: npt.NDArray[np.float32]) -> npt.NDArray[np.float32]:
    """How strongly 40 ms repeat themselves after 2.5 to 17 ms, their bands first made alike: speech
    does, wind and hum do not. Shape (n, 320) in, (n,) out."""
    heard = fft.rfft(tails * _HANN, 2 * WINDOW)
    heard[:, :20] = 0
    same = fft.irfft(np.abs(heard) ** np.float32(0.6))
    strongest: npt.NDArray[np.float32] = same[:, 20:140].max(axis=1)
    strongest /= np.maximum(same[:, 0], np.float32(1e-9))
    return strongest
