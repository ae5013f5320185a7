"""The jobs of a speech worker, and the loop that does them, one at a time.

The process that hands out jobs imports this too, so the material is imported only where a job
runs: in a worker, where `fond_echo.speech.warm` has loaded it before the fork.
"""

from __future__ import annotations

import signal
from collections.abc import Mapping
from dataclasses import dataclass, field
from functools import lru_cache
from multiprocessing.connection import Connection
from typing import TYPE_CHECKING, Any

from fond_echo.core.audio.clip import Clip, Samples
from fond_echo.core.errors import FondEchoError
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.prosody import PLAIN, Prosody
from fond_echo.core.recognition.transcript import Expected, Transcript
from fond_echo.core.synthesis.synthesizer import SpokenPart, Synthesizer
from fond_echo.speech.errors import SoundLost
from fond_echo.speech.expectations import Known

if TYPE_CHECKING:
    from fond_echo.core.recognition.hearing import Hearing, Partial, Utterance


@dataclass(frozen=True)
class Hear:
    """Transcribe at most 30 s of sound.

    Attributes:
        expected: what the digest stands for, where the worker may not know it.
    """

    samples: Samples
    rate: int
    digest: str
    language: str
    expected: Expected | None = None

    def run(self) -> Transcript:
        """Raises ExpectedUnknown."""
        from fond_echo.speech.material import recognizer

        clip = Clip(self.samples, self.rate)
        return recognizer(self.language).transcribe(clip, _KNOWN.of(self.digest, self.expected))


@dataclass(frozen=True)
class Prepare:
    """Build what is made of what is expected, before there is any sound.

    Attributes:
        expected: what the digest stands for.
    """

    digest: str
    language: str
    expected: Expected

    def run(self) -> None:
        from fond_echo.speech.material import recognizer

        recognizer(self.language).prepare(_KNOWN.of(self.digest, self.expected))


@dataclass(frozen=True)
class Listen:
    """The next samples of a sound that goes on, at 16 kHz; the first of a name begin it.

    Attributes:
        name: of the sound, in this worker.
        expected: with the first samples.
        over: whether it ends here.
    """

    name: str
    samples: Samples
    language: str
    end_seconds: float
    expected: Expected | None = None
    over: bool = False

    def run(self) -> list[Partial | Utterance]:
        from fond_echo.core.recognition.hearing import Hearing
        from fond_echo.speech.material import recognizer

        if self.expected is not None:
            _HEARINGS[self.name] = Hearing(
                recognizer(self.language),
                self.expected,
                end_seconds=self.end_seconds,
            )
        if self.name not in _HEARINGS:
            raise SoundLost("what was heard of this sound is lost", remedy="send it again")
        hearing = _HEARINGS[self.name]
        found = hearing.feed(self.samples)
        if self.over:
            del _HEARINGS[self.name]
            found += hearing.finish()
        return found


_HEARINGS: dict[str, Hearing] = {}
_KNOWN = Known()
"""Of this worker."""


@dataclass(frozen=True)
class Say:
    """Speak some parts of a text; gives them, and how many there are in all.

    Attributes:
        window: from and to which part.
        recordings: what markup may play, by name.
    """

    text: str
    voice: str
    seed: int | None
    sounds: Sounds = ()
    language: str = "en"
    prosody: Prosody = PLAIN
    recordings: Mapping[str, Clip] = field(default_factory=dict)
    window: tuple[int, int] = (0, 1_000_000)

    def run(self) -> tuple[list[SpokenPart], int]:
        mouth = _mouth(self.language, self.sounds)
        count = len(mouth.planned(self.text, self.voice, self.recordings.keys()))
        parts = mouth.speak(
            self.text, self.voice, seed=self.seed, prosody=self.prosody,
            recordings=self.recordings, window=self.window,
        )  # fmt: skip
        return list(parts), count


@lru_cache(maxsize=4)
def _mouth(language: str, sounds: Sounds) -> Synthesizer:
    """The synthesizer of a language, with an assistant's own words where it has some."""
    from fond_echo.speech.material import lexicon, synthesizer

    if not sounds:
        return synthesizer(language)
    return Synthesizer(lexicon(language).with_sounds(sounds), synthesizer(language).voices)


@dataclass(frozen=True)
class Failed:
    """A job that failed with a typed error, as it travels back."""

    error: FondEchoError


def serve(pipe: Connection) -> None:
    """Serve jobs until the pipe closes."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    while True:
        try:
            job: Hear | Prepare | Listen | Say = pipe.recv()
        except EOFError:
            return
        try:
            result: Any = job.run()
        except FondEchoError as error:
            result = Failed(error)
        except Exception as error:  # the pool tells it apart from a crash
            result = Failed(FondEchoError(f"{type(error).__name__}: {error}"))
        pipe.send(result)
