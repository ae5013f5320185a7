"""What can go wrong in `turns`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class StageError(FondEchoError):
    """A stage failed in a way of its own."""

    code = "stage"


class SoundNotFetched(StageError):
    """The network did not give the sound of a message."""

    code = "sound-not-fetched"


class FileNotFetched(StageError):
    """The network did not give a picture or a file of a message."""

    code = "file-not-fetched"


class NothingHeard(StageError):
    """There was no speech in the sound."""

    code = "nothing-heard"


class AnswerCutShort(StageError):
    """An engine failed after sentences of its answer had been said."""

    code = "answer-cut-short"


class StageTooEarly(FondEchoError):
    """A stage was begun before those that it builds on were done."""

    code = "stage-too-early"
