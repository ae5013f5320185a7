"""Our own engines: recognizer and synthesizer, both in the speech process, and a summarizer that
picks sentences."""

from __future__ import annotations

from collections.abc import AsyncIterator, Mapping

from fond_echo.core.audio.clip import Clip
from fond_echo.core.dialogue.shaping import summary
from fond_echo.core.language.pls import Sounds
from fond_echo.core.language.prosody import PLAIN, Prosody
from fond_echo.core.language.registry import codes
from fond_echo.core.language.registry import language as language_of
from fond_echo.core.synthesis.sound import NO_RECORDINGS, SpokenSound
from fond_echo.core.synthesis.speaker import DEFAULT_VOICE, VOICES
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
    return BuiltInSpeech(settings.speech_url, settings.speech_token, PRIORITIES[purpose])


class BuiltInSpeech(RemoteSpeech):
    """Our own recognizer and synthesizer. Where it stands in for an engine whose voice an assistant
    has, it speaks with a voice of its own."""

    async def speak(
        self, text: str, voice: str, *, seed: int, sounds: Sounds = (), language: str = "en",
        prosody: Prosody = PLAIN, recordings: Mapping[str, Clip] = NO_RECORDINGS,
    ) -> AsyncIterator[SpokenSound]:  # fmt: skip
        """Raises SpeechUnreachable or SpeechFailed."""
        own = voice if voice in VOICES else DEFAULT_VOICE
        async for part in super().speak(
            text, own, seed=seed, sounds=sounds, language=language, prosody=prosody,
            recordings=recordings,
        ):  # fmt: skip
            yield part


class Summarizer:
    """Picks the sentences of a text that tell most of it; it makes none of its own."""

    async def summarize(self, text: str, language: str, sentences: int, asking: object) -> str:
        return summary(text, sentences, language_of(language))


def _summarizer(settings: EngineSettings, purpose: Purpose) -> Summarizer:
    return Summarizer()


ENGINES = (
    Engine(NAME, "transcribe", _speech, LANGUAGES, built_in=True),
    Engine(NAME, "speak", _speech, LANGUAGES, built_in=True),
    Engine(NAME, "summarize", _summarizer, LANGUAGES, built_in=True),
)
