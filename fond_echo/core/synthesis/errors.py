"""What can go wrong in `synthesis`."""

from __future__ import annotations

from fond_echo.core.errors import FondEchoError


class VoiceError(FondEchoError):
    """The text cannot be spoken as asked."""

    code = "voice"


class UnknownVoice(VoiceError):
    """There is no voice of that name."""

    code = "voice-unknown"


class NothingToSay(VoiceError):
    """The text holds no word that can be spoken."""

    code = "voice-nothing-to-say"
