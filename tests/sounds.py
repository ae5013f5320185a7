"""Sounds that tests are made of."""

from __future__ import annotations

import io
from functools import lru_cache

import av
import numpy as np

from fond_echo.core.audio.clip import Clip, join
from fond_echo.speech.material import synthesizer


def tone(
    seconds: float = 1.0, rate: int = 48_000, hertz: float = 440.0, level: float = 0.3
) -> Clip:
    """A sine."""
    clock = np.arange(round(seconds * rate)) / rate
    return Clip((level * np.sin(2 * np.pi * hertz * clock)).astype(np.float32), rate)


def noise(seconds: float = 1.0, rate: int = 16_000, level: float = 0.1, seed: int = 1) -> Clip:
    """White noise."""
    values = np.random.default_rng(seed).standard_normal(round(seconds * rate))
    return Clip((level * values).astype(np.float32), rate)


def silence_of(seconds: float, rate: int = 16_000) -> Clip:
    """Nothing at all."""
    return Clip(np.zeros(round(seconds * rate), np.float32), rate)


@lru_cache(maxsize=256)
def speech(text: str, voice: str = "tern") -> Clip:
    """A sentence spoken by our own synthesizer, at 16 kHz."""
    return join([part.clip for part in synthesizer().speak(text, voice)])


def with_noise(clip: Clip, decibels: float, seed: int = 1) -> Clip:
    """A clip with white noise at a signal-to-noise ratio."""
    power = float(np.mean(np.square(clip.samples)))
    hiss = (
        np.random.default_rng(seed).standard_normal(len(clip))
        * (power / 10 ** (decibels / 10)) ** 0.5
    )
    return Clip((clip.samples + hiss).astype(np.float32), clip.rate)


def in_container(
    clip: Clip,
    container: str,
    codec: str,
    *,
    layout: str = "mono",
    metadata: dict[str, str] | None = None,
) -> bytes:
    """A clip written by the codec library alone, as some other program would."""
    target = io.BytesIO()
    with av.open(target, "w", format=container) as sink:
        sink.metadata.update(metadata or {})
        stream = sink.add_stream(codec, rate=clip.rate, layout=layout)
        context = stream.codec_context
        shaped = av.AudioResampler(
            format=context.format.name, layout=layout, rate=clip.rate, frame_size=context.frame_size
        )
        frame = av.AudioFrame.from_ndarray(clip.samples[np.newaxis], format="flt", layout="mono")
        frame.sample_rate, frame.pts = clip.rate, 0
        for part in shaped.resample(frame) + shaped.resample(None):
            sink.mux(stream.encode(part))
        sink.mux(stream.encode(None))
    return target.getvalue()
