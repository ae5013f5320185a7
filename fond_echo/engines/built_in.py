"""Our own engines: recognizer and synthesizer, both in the speech process, and a summarizer that
picks sentences."""

from __future__ import annotations

from fond_echo.core.dialogue.shaping import summary
from fond_echo.core.language.registry import codes
from fond_echo.core.language.registry import language as language_of
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


class Summarizer:
    """Picks the sentences of a text that tell most of it; it makes none of its own."""

    async def summarize(self, text: str, language: str, sentences: int, asking: object) -> str:
        return summary(text, sentences, language_of(language))


def _summarizer(settings: EngineSettings, purpose: Purpose) -> Summarizer:
    return Summarizer()


ENGINES = (
    Engine(NAME, "transcribe", _speech, LANGUAGES, last=True),
    Engine(NAME, "speak", _speech, LANGUAGES, last=True),
    Engine(NAME, "summarize", _summarizer, LANGUAGES, last=True),
)
