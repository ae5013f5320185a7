"""Our own recognizer and synthesizer as engines: both in the speech process."""

from __future__ import annotations

from fond_echo.core.language.registry import codes
from fond_echo.engines.registry import Engine, EngineSettings, Purpose
from fond_echo.speech.priority import Priority
from fond_echo.speech.remote import RemoteSpeech

PRIORITIES: dict[Purpose, Priority] = {
    "call": Priority.CALL, "voice-note": Priority.VOICE_NOTE, "long-file": Priority.LONG_FILE,
    "program": Priority.VOICE_NOTE,
}  # fmt: skip
NAME = "built-in"
LANGUAGES = frozenset(codes())


def _speech(settings: EngineSettings, purpose: Purpose) -> RemoteSpeech:
    return RemoteSpeech(settings.speech_url, settings.speech_token, PRIORITIES[purpose])


ENGINES = (
    Engine(NAME, "transcribe", _speech, LANGUAGES, last=True),
    Engine(NAME, "speak", _speech, LANGUAGES, last=True),
)
