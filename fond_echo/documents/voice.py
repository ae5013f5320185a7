"""A voice file: a built-in voice with some of its settings changed."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import replace

from pydantic import Field, field_validator

from fond_echo.contract.base import Name, Schema
from fond_echo.core.synthesis.speaker import VOICES, Speaker
from fond_echo.documents.errors import InvalidFile, nearest
from fond_echo.documents.source import read_yaml
from fond_echo.documents.validate import validated

ADJUSTABLE: dict[str, tuple[float, float]] = {
    "pitch": (50, 400), "pitch_range": (0, 12), "rate": (0.5, 2.0), "formant_scale": (0.8, 1.45),
    "tilt": (0, 0.9), "breath": (0, 0.3), "air": (0, 0.1), "open_quotient": (0.3, 0.9),
    "jitter": (0, 0.05), "shimmer": (0, 0.2), "bandwidth": (0.6, 2.0), "vowel_mix": (0, 1),
    "frication": (-20, 6), "softness": (0, 1), "careful": (0, 1), "creak": (0, 1),
    "movement": (0, 1), "nasality": (0, 2), "release": (0, 1), "unevenness": (0, 0.3),
}  # fmt: skip
"""The settings that a file may change, and from and to where; `Speaker` says what each is."""


class VoiceFile(Schema):
    """A voice: its own name, the built-in voice that it begins from, and what is changed."""

    voice: Name
    begins_from: Name
    settings: dict[str, float] = Field(default_factory=dict)

    @field_validator("begins_from")
    @classmethod
    def _is_built_in(cls, value: str) -> str:
        if value not in VOICES:
            raise ValueError(f"there is no voice {value!r}{_hint(value, VOICES)}")
        return value

    @field_validator("settings")
    @classmethod
    def _can_be(cls, value: dict[str, float]) -> dict[str, float]:
        for name, wanted in value.items():
            if name not in ADJUSTABLE:
                raise ValueError(f"there is no setting {name!r}{_hint(name, ADJUSTABLE)}")
            low, high = ADJUSTABLE[name]
            if not low <= wanted <= high:
                raise ValueError(f"{name} {wanted:g} is not between {low:g} and {high:g}")
        return value

    @property
    def speaker(self) -> Speaker:
        """The voice as the synthesizer takes it."""
        return replace(VOICES[self.begins_from], **self.settings)  # type: ignore[arg-type]


def _hint(name: str, known: object) -> str:
    hint = nearest(name, known)  # type: ignore[arg-type]
    return f" ({hint})" if hint else ""


def written(voice: str, begins_from: str, settings: Mapping[str, float | str]) -> str:
    """The text of a voice file."""
    lines = [f"voice: {voice}", f"begins_from: {begins_from}"]
    if settings:
        lines.append("settings:")
    for name, value in settings.items():
        lines.append(f"  {name}: {value if isinstance(value, str) else format(value, 'g')}")
    return "\n".join(lines) + "\n"


def read_voice(text: str, name: str) -> VoiceFile:
    """Read a voice file.

    Raises:
        InvalidFile: with the place of everything that is wrong.
    """
    return validated(read_yaml(text, name), VoiceFile)


__all__ = ["ADJUSTABLE", "InvalidFile", "VoiceFile", "read_voice", "written"]
