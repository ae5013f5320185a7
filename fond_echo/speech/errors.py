"""What can go wrong in `speech`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class SpeechCrashed(FondEchoError):
    """A worker died or hung on the job; another has taken its place."""

    code = "speech-crashed"


class SoundLost(FondEchoError):
    """The worker that heard a sound is not there any more."""

    code = "speech-lost"


class SpeechUnreachable(FondEchoError):
    """The speech process does not answer."""

    code = "speech-unreachable"


class SpeechFailed(FondEchoError):
    """The speech process could not do what it was asked."""

    code = "speech-failed"


class NotAFrame(FondEchoError):
    """Bytes that are not laid out as a frame."""

    code = "speech-frame"


class UnitTooLong(FondEchoError):
    """More sound than one unit of work may have; whoever asks cuts it."""

    code = "speech-unit-too-long"


class ExpectedUnknown(FondEchoError):
    """What is expected was named by a digest that is not known here; it is to be sent whole."""

    code = "speech-expected-unknown"
