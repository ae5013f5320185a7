"""Hearing a sound that goes on: words while it is said, and a transcript at the end of each
utterance.

The network looks half a second ahead, so words come that much later than they are said. Whether
somebody has stopped is told from the energies, which come at once; where noise hides that, from the
network's blanks. What then has not been looked at yet is read at once.
"""

from __future__ import annotations

from dataclasses import dataclass
from functools import partial

import numpy as np
import numpy.typing as npt

from fond_echo.core.recognition.dictation import Dictation
from fond_echo.core.recognition.features import (
    AHEAD,
    BANDS,
    HOP,
    PRE_EMPHASIS,
    WINDOW,
    Features,
    Normalizer,
    energies,
)
from fond_echo.core.recognition.layers import Matrix
from fond_echo.core.recognition.network import FRAME_SECONDS, STRIDE, NetworkStream
from fond_echo.core.recognition.recognizer import (
    MAX_READINGS,
    SOUNDING,
    Recognizer,
    Stretch,
    unsure,
)
from fond_echo.core.recognition.symbols import BLANK, RATE
from fond_echo.core.recognition.transcript import Expected, Transcript

HOP_SECONDS = HOP / RATE
RISE = 2.0
"""Above the line's own noise by so much (a natural logarithm of energy) somebody may speak."""

RANGE = 8.5
"""And within so much of the loudest that was heard lately."""

FLOOR_CLIMBS = 0.008
PEAK_FALLS = 0.004
"""A frame."""

TOGETHER = 12
"""Frames that go through the network at once: its weights are read for few rows as for one."""

TOGETHER_OF_FILES = 50
"""Where nobody waits for the words, which is nearly twice as fast."""

CARRIED = 55
"""Frames of silence before what is said next that the network hears again, so that it knows where
it is when somebody speaks."""

MAX_AGAIN, MARGIN = 330, 12
"""Frames of the network: what is longer is not read once more; so many stand around what sounds."""

KEPT = 150
"""Frames that may have to be heard again."""

WHOLE_NUMBER = 11
"""So many digits and letters in a row may be all there are."""


@dataclass(frozen=True)
class Partial:
    """The words so far, in spoken form; later ones may change them."""

    text: str


@dataclass(frozen=True)
class Utterance:
    """What was said, whole; `cut` where it did not end by itself."""

    transcript: Transcript
    truncated: bool = False


class _Silence:
    """How long nobody has spoken, from the energies."""

    def __init__(self) -> None:
        self._floor, self._peak = 50.0, -50.0
        self.frames = 0

    def feed(self, logs: Features) -> None:
        for level in logs.max(axis=1).tolist():
            self._floor = min(level, self._floor + FLOOR_CLIMBS)
            self._peak = max(level, self._peak - PEAK_FALLS)
            loud = level > max(self._floor + RISE, self._peak - RANGE)
            self.frames = 0 if loud else self.frames + 1


class Hearing:
    """One sound.

    Args:
        recognizer: whose network and words are used.
        expected: what can be understood here.
        end_seconds: silence that ends an utterance.
        number_seconds: silence that ends it where a number or a spelling may go on.
        max_seconds: an utterance is cut there.
        together: frames of 10 ms that go through the network at once.
    """

    def __init__(
        self,
        recognizer: Recognizer,
        expected: Expected | None = None,
        *,
        end_seconds: float = 0.6,
        number_seconds: float = 1.5,
        max_seconds: float = 30.0,
        together: int = TOGETHER,
    ) -> None:
        self._spelled = recognizer.language.spelled
        self._recognizer = recognizer
        self._expected = expected or Expected()
        self._end, self._number_end = end_seconds, number_seconds
        self._longest, self._together = max_seconds, together
        self._vocabulary = recognizer.vocabulary(self._expected)
        self._closely = recognizer.search(self._expected)
        self._normalizer = Normalizer()
        self._emphasised = np.zeros(0, np.float32)
        self._last_sample = np.float32(0)
        self._silence = _Silence()
        self._energies: list[Features] = []
        self._since = _NONE
        self._heard = 0
        self._recent = _NONE
        self._begin(0)

    def _begin(self, carried: int) -> None:
        """Whatever has not been through the network belongs to what is said next, and so many of
        the frames that were fed to it last."""
        kept = self._recent[max(0, len(self._recent) - carried) :]
        self._first = self._heard - self._normalizer.held - self._unread() - len(kept)
        self._since = self._since[max(0, len(self._since) - (self._heard - self._first)) :]
        self._network = NetworkStream(self._recognizer.network)
        self._search = Dictation(self._vocabulary)
        if self._closely is not None:
            self._closely.reset()
        self._logs: list[Matrix] = []
        self._sounding, self._blank = 0, 0
        self._reported = ""
        self._recent = kept
        self._take(self._network.feed(kept))

    def _unread(self) -> int:
        return sum(map(len, self._energies))

    @property
    def seconds(self) -> float:
        """How much was fed."""
        return self._heard * HOP_SECONDS

    def feed(self, samples: npt.NDArray[np.float32]) -> list[Partial | Utterance]:
        """The next samples at 16 kHz, shape (n,), of any length; NaN counts as silence."""
        samples = np.nan_to_num(np.asarray(samples, np.float32), nan=0.0, posinf=1.0, neginf=-1.0)
        found: list[Partial | Utterance] = []
        # Ends are looked for in every fifth of a second, however much is fed at once.
        for start in range(0, len(samples), RATE // 5):
            found += self._feed(samples[start : start + RATE // 5])
        return found

    def _feed(self, samples: npt.NDArray[np.float32]) -> list[Partial | Utterance]:
        before = np.concatenate([[self._last_sample], samples[:-1]])
        self._last_sample = samples[-1]
        fresh = samples - np.float32(PRE_EMPHASIS) * before.astype(np.float32)
        waiting = np.concatenate([self._emphasised, fresh])
        count = (len(waiting) - WINDOW) // HOP + 1 if len(waiting) >= WINDOW else 0
        self._emphasised = waiting[count * HOP :]
        if not count:
            return []
        logs = energies(waiting[: (count - 1) * HOP + WINDOW])
        self._heard += count
        self._silence.feed(logs)
        self._energies.append(logs)
        self._since = np.concatenate([self._since, logs])
        if self._unread() >= self._together:
            self._read_on()
        return self._looked()

    def _read_on(self) -> None:
        ready = self._normalizer.feed(self._not_normalized())
        self._recent = np.concatenate([self._recent, ready])[-KEPT:]
        self._take(self._network.feed(ready))

    def _not_normalized(self) -> Features:
        logs = np.concatenate(self._energies) if self._energies else _NONE
        self._energies = []
        return logs

    def _take(self, logs: Matrix) -> None:
        if not len(logs):
            return
        self._logs.append(logs)
        self._search.feed(logs)
        if self._closely is not None:
            self._closely.feed(logs)
        for symbol in logs.argmax(axis=1).tolist():
            self._blank = self._blank + 1 if symbol == BLANK else 0
            self._sounding += symbol != BLANK

    def _looked(self) -> list[Partial | Utterance]:
        length = (self._heard - self._first) * HOP_SECONDS
        quiet = self._silence.frames * HOP_SECONDS
        if quiet >= self._end and self._unread() > self._silence.frames - AHEAD:
            # Whether it has ended, and whether a number may go on, is told from all of it.
            self._read_on()
        if self._sounding < SOUNDING:
            if length > self._longest or (length > 2.0 and quiet > 1.5):
                # Nothing but silence or noise: it need not be kept.
                self._begin(CARRIED)
            return []
        words = [word.word for word in self._search.so_far()]
        wanted = self._number_end if self._goes_on(words) else self._end
        if quiet >= wanted:
            return [self._ended()]
        if self._blank * FRAME_SECONDS >= wanted:
            return [self._left(self._blank * STRIDE)]
        if length >= self._longest:
            return [self._left(0, truncated=True)]
        text = " ".join(words)
        if text and text != self._reported and not self._expected.only:
            self._reported = text
            return [Partial(text)]
        return []

    def _goes_on(self, words: list[str]) -> bool:
        """Whether a number or a spelling may not be whole yet."""
        count = 0
        for word in reversed(words):
            if word not in self._spelled:
                break
            count += 1
        return 0 < count < WHOLE_NUMBER and (count > 1 or len(words) > 1)

    def _ended(self) -> Utterance:
        """All that was fed is one utterance."""
        rest = self._normalizer.feed(self._not_normalized(), last=True)
        self._recent = np.concatenate([self._recent, rest])[-KEPT:]
        self._take(self._network.feed(rest, last=True))
        found = self._read()
        self._begin(min(CARRIED, self._silence.frames))
        return Utterance(found)

    def _left(self, silent: int, *, truncated: bool = False) -> Utterance:
        """What the network has given is an utterance; what it still holds belongs to the next, with
        so many silent frames before it."""
        found = self._read()
        self._begin(self._network.held + min(CARRIED, silent))
        return Utterance(found, truncated)

    def _read(self) -> Transcript:
        logs = np.concatenate(self._logs) if self._logs else np.zeros((0, 1), np.float32)
        speech = round(self._sounding * FRAME_SECONDS, 2)
        if 0 < len(logs) <= MAX_AGAIN and unsure(logs):
            return self._read_again(logs, speech)
        return self._recognizer.read(
            Stretch(logs, self._first * HOP_SECONDS, speech),
            self._expected,
            closely=self._closely,
            freely=partial(self._search.finish, MAX_READINGS),
        )

    def _read_again(self, logs: Matrix, speech: float) -> Transcript:
        """What was said, as a sound that is whole: how loud it becomes is known now."""
        sounds = np.flatnonzero(logs.argmax(axis=1) != BLANK)
        if not len(sounds):
            return self._recognizer.read(Stretch(logs, 0.0, speech), self._expected)
        start = STRIDE * max(0, int(sounds[0]) - MARGIN)
        end = STRIDE * min(len(logs), int(sounds[-1]) + 1 + MARGIN)
        again = self._recognizer.probabilities_of(self._since[start:end])
        return self._recognizer.read(
            Stretch(again, (self._first + start) * HOP_SECONDS, speech), self._expected
        )

    def finish(self) -> list[Partial | Utterance]:
        """The sound is over; gives what was being said."""
        found = self._ended()
        return [found] if found.transcript.words else []


_NONE = np.zeros((0, BANDS), np.float32)
