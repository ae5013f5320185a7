"""The jobs of a speech worker, and the loop that does them, one at a time.

The process that hands out jobs imports this too, so the material is imported only where a job
runs: in a worker, where `fond_echo.speech.warm` has loaded it before the fork.
"""

from __future__ import annotations

import signal
from dataclasses import dataclass
from multiprocessing.connection import Connection
from typing import Any

from fond_echo.core.audio.clip import Clip, Samples
from fond_echo.core.errors import FondEchoError
from fond_echo.core.recognition.transcript import Expected, Transcript
from fond_echo.core.synthesis.synthesizer import SpokenPart


@dataclass(frozen=True)
class Hear:
    """Transcribe at most 30 s of sound."""

    samples: Samples
    rate: int
    expected: Expected
    language: str

    def run(self) -> Transcript:
        from fond_echo.speech.material import recogniser

        clip = Clip(self.samples, self.rate)
        return recogniser().transcribe(clip, self.expected, language=self.language)


@dataclass(frozen=True)
class Say:
    """Speak a few sentences."""

    text: str
    voice: str
    seed: int | None

    def run(self) -> list[SpokenPart]:
        from fond_echo.speech.material import synthesizer

        return list(synthesizer().speak(self.text, self.voice, seed=self.seed))


@dataclass(frozen=True)
class Failed:
    """A job that failed with a typed error, as it travels back."""

    error: FondEchoError


def serve(pipe: Connection) -> None:
    """Serve jobs until the pipe closes."""
    signal.signal(signal.SIGINT, signal.SIG_IGN)
    while True:
        try:
            job: Hear | Say = pipe.recv()
        except EOFError:
            return
        try:
            result: Any = job.run()
        except FondEchoError as error:
            result = Failed(error)
        except Exception as error:  # the pool tells it apart from a crash
            result = Failed(FondEchoError(f"{type(error).__name__}: {error}"))
        pipe.send(result)
