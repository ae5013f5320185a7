"""Everything that can be wrong with sound."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class SoundError(FondEchoError):
    """The sound cannot be used as it is."""

    code = "sound"


class EmptySound(SoundError):
    """There are no samples at all."""

    code = "sound-empty"


class UnknownSound(SoundError):
    """The bytes are not sound in a container that is read here."""

    code = "sound-unknown"


class BrokenSound(SoundError):
    """The container was recognised, but what is in it cannot be decoded."""

    code = "sound-broken"


class SoundTooLong(SoundError):
    """The sound is longer, or larger, than was allowed."""

    code = "sound-too-long"


class SilentSound(SoundError):
    """Decoded, but nothing in it rises above silence."""

    code = "sound-silent"
