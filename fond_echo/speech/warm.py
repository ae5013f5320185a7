"""Imported by the server that speech workers are forked from: lexicon, weights and compiled code
are loaded here once, and shared by all of them."""

from __future__ import annotations

from fond_echo.core.recognition.transcript import Expected
from fond_echo.speech.material import recognizer, synthesizer


def warm() -> None:
    """Load everything and run every compiled function once."""
    clip = next(synthesizer().speak("One two three.", "tern")).clip
    recognizer().transcribe(clip, Expected(("one two three",)))
    recognizer().transcribe(clip)


warm()
