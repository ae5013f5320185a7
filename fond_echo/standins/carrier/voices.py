"""Voices of the people who call: none of those that the service speaks with."""

from __future__ import annotations

from fond_echo.core.synthesis.speaker import VOICES, Speaker

CALLERS: dict[str, Speaker] = {
    "isla": Speaker(formant_scale=1.13, pitch=188, pitch_range=3.8, rate=1.04, tilt=0.42,
                    breath=0.06, vowel_mix=0.45, release=0.8),
    "piet": Speaker(formant_scale=1.02, pitch=124, pitch_range=3.6, rate=0.98, tilt=0.5,
                    bandwidth=1.05, vowel_mix=0.6, jitter=0.01),
    "sunniva": Speaker(formant_scale=1.18, pitch=210, pitch_range=4.4, rate=1.06, tilt=0.33,
                       breath=0.04, fourth=3_550),
    "maren": Speaker(formant_scale=1.1, pitch=171, pitch_range=3.0, rate=0.96, tilt=0.55,
                     breath=0.08, open_quotient=0.68, vowel_mix=0.3),
}  # fmt: skip

ALL: dict[str, Speaker] = {**VOICES, **CALLERS}
