"""Sound in the usual containers, from memory to clips and back.

Decoding trusts nothing: the container is found by its bytes, its demuxer named, and the length
counted while it is decoded. What cannot be bounded from inside (memory and time of the codec
library) is bounded around it by `fond_echo.speech.decoding`, which runs this in a child.
"""

from __future__ import annotations

import io
from collections.abc import Iterator
from contextlib import contextmanager
from dataclasses import dataclass
from typing import Any, BinaryIO

import av
import numpy as np
import soxr
from av.audio.stream import AudioStream

from fond_echo.core.audio import sniff as known
from fond_echo.core.audio.clip import Clip, Samples
from fond_echo.core.audio.errors import BrokenSound, EmptySound, SoundTooLong, UnknownSound
from fond_echo.core.audio.opus import RATE
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.audio.sniff import Container, sniff
from fond_echo.core.audio.voicenote import decode_opus, encode_voice_note, read_opus

CODECS = frozenset(
    [
        "aac",
        "alac",
        "amr_nb",
        "amr_wb",
        "amrnb",
        "amrwb",
        "flac",
        "mp3",
        "mp3float",
        "opus",
        "libopus",
        "vorbis",
        "pcm_alaw",
        "pcm_mulaw",
        "pcm_u8",
        "pcm_s16le",
        "pcm_s24le",
        "pcm_s32le",
        "pcm_f32le",
        "pcm_f64le",
    ]
)


@dataclass(frozen=True)
class Limits:
    """What a sound may cost before it is refused.

    Attributes:
        size: bytes of the file.
        seconds: of sound.
        channel_count: in the stream.
    """

    size: int = 50 * 2**20
    seconds: float = 3 * 3600.0
    channel_count: int = 8


OUR_OWN = Limits(size=2**31, seconds=24 * 3_600.0)
"""For files that we wrote ourselves: what they were made of was within limits."""


@dataclass(frozen=True)
class Decoded:
    """A decoded file: its sound, averaged to mono at its own rate, and what it was."""

    clip: Clip
    container: Container
    codec: str
    channel_count: int


def decode(data: bytes, limits: Limits | None = None) -> Decoded:
    """Decode a file held in memory.

    Raises:
        EmptySound: no bytes, or no samples in them.
        UnknownSound: not a container read here, or one without sound.
        BrokenSound: recognised, but not decodable.
        SoundTooLong: over the limits.
    """
    limits = limits or Limits()
    if not data:
        raise EmptySound("the file has no bytes")
    if len(data) > limits.size:
        raise SoundTooLong(
            f"the file has {len(data):,} bytes", remedy=f"at most {limits.size:,} are read"
        )
    container = sniff(data)
    if container is None:
        names = ", ".join(each.name for each in known.CONTAINERS)
        raise UnknownSound("the bytes are not sound in a known container", remedy=f"send {names}")
    if container is known.OGG and b"OpusHead" in data[:512]:
        stream = read_opus(data)
        _check_length(stream.seconds, limits)
        if stream.head.family == 0:
            return Decoded(decode_opus(stream), container, "opus", stream.head.channel_count)
    return _decode_with_library(data, container, limits)


def _check_length(seconds: float, limits: Limits) -> None:
    if seconds > limits.seconds:
        raise SoundTooLong(
            f"the sound is longer than {limits.seconds:g} s", remedy="send it in parts"
        )


@dataclass(frozen=True)
class Opened:
    """A sound that is being decoded: what it is, and its samples, mono, part by part."""

    rate: int
    codec: str
    channel_count: int
    parts: Iterator[Samples]


@contextmanager
def opened(source: BinaryIO, container: Container, limits: Limits) -> Iterator[Opened]:
    """A file in a container that the codec library reads; its parts raise like `decode`."""
    with (
        _reported(container),
        av.open(source, "r", format=container.demuxer, metadata_errors="replace") as file,
    ):
        if not file.streams.audio:
            raise UnknownSound(f"the {container.name} file holds no sound")
        stream = file.streams.audio[0]
        if stream.codec_context is None:
            raise UnknownSound(f"the {container.name} file does not say how its sound is coded")
        codec, channel_count = stream.codec_context.name, len(stream.layout.channels)
        if codec not in CODECS:
            raise UnknownSound(f"sound coded as {codec} is not read here")
        if channel_count > limits.channel_count:
            raise BrokenSound(f"{channel_count} channels; at most {limits.channel_count} are read")
        rate = stream.rate or 0
        if not rate:
            raise BrokenSound("the file does not say at which rate it was sampled")

        def parts() -> Iterator[Samples]:
            planar = av.AudioResampler(format="fltp")
            count = 0
            with _reported(container):
                for frame in file.decode(stream):
                    for part in planar.resample(frame):
                        if part.sample_rate != rate:
                            raise BrokenSound("the rate changes in the middle of the file")
                        count += part.samples
                        _check_length(count / rate, limits)
                        yield _mono(part)

        yield Opened(rate, codec, channel_count, parts())


def _mono(part: av.AudioFrame) -> Samples:
    """The mean of a planar frame's channels; of one channel itself, which takes a third of the
    time."""
    if len(part.layout.channels) == 1:
        return np.frombuffer(bytes(part.planes[0]), np.float32, part.samples)
    return np.asarray(part.to_ndarray().mean(axis=0), np.float32)


@contextmanager
def _reported(container: Container) -> Iterator[None]:
    """The codec library's errors as ours."""
    try:
        yield
    except av.FFmpegError as error:
        reason = error.strerror or type(error).__name__
        raise BrokenSound(f"the {container.name} file cannot be decoded: {reason}") from error


def _decode_with_library(data: bytes, container: Container, limits: Limits) -> Decoded:
    with opened(io.BytesIO(data), container, limits) as sound:
        blocks = list(sound.parts)
        if not blocks or not sum(map(len, blocks)):
            raise EmptySound(f"the {container.name} file holds no samples")
        clip = Clip(np.concatenate(blocks), sound.rate)
        return Decoded(clip, container, sound.codec, sound.channel_count)


def decode_at(data: bytes, rate: int, limits: Limits | None = None) -> Decoded:
    """Decode a long file at a rate, without ever holding it at its own.

    Raises:
        what `decode` raises.
    """
    limits = limits or Limits()
    container = sniff(data)
    if container is None or len(data) > limits.size:
        return decode(data, limits)
    with opened(io.BytesIO(data), container, limits) as sound:
        resampler = soxr.ResampleStream(sound.rate, rate, 1, dtype="float32", quality="HQ")
        blocks = [resampler.resample_chunk(part) for part in sound.parts]
        blocks.append(resampler.resample_chunk(np.zeros(0, np.float32), last=True))
        if not sum(map(len, blocks)):
            raise EmptySound(f"the {container.name} file holds no samples")
        clip = Clip(np.concatenate(blocks), rate)
        return Decoded(clip, container, sound.codec, sound.channel_count)


FORMATS = {
    "ogg": "Ogg Opus voice note",
    "wav": "WAV, 16 bit",
    "flac": "FLAC, 16 bit",
    "mp3": "MP3, 64 kbit/s",
}
"""What clips can be written as."""

_MP3_RATES = (48_000, 44_100, 32_000, 24_000, 22_050, 16_000)


def encode(clip: Clip, format: str, *, serial: int = 1) -> bytes:
    """Write a clip in one of `FORMATS`.

    Raises:
        EmptySound: the clip has no samples.
        UnknownSound: the format is not written here.
    """
    if not len(clip):
        raise EmptySound("there is no sound to write")
    if format == "ogg":
        return encode_voice_note(clip, serial)
    if format not in FORMATS:
        raise UnknownSound(
            f"{format!r} is not a format that is written here", remedy=f"use {', '.join(FORMATS)}"
        )
    if format == "mp3" and clip.rate not in _MP3_RATES:
        clip = at_rate(clip, RATE)
    codec = {"wav": "pcm_s16le", "flac": "flac", "mp3": "libmp3lame"}[format]
    sample_format = "fltp" if format == "mp3" else "s16"
    target = io.BytesIO()
    with av.open(target, "w", format=format) as sink:
        stream = sink.add_stream(codec, rate=clip.rate, layout="mono", format=sample_format)
        assert isinstance(stream, AudioStream)
        if format == "mp3":
            stream.bit_rate = 64_000
        size = stream.codec_context.frame_size or 4_096
        values = clip.samples if format == "mp3" else as_int16(clip.samples)
        for start in range(0, len(values), size):
            block: Any = np.ascontiguousarray(values[np.newaxis, start : start + size])
            frame = av.AudioFrame.from_ndarray(block, format=sample_format, layout="mono")
            frame.sample_rate = clip.rate
            frame.pts = start
            sink.mux(stream.encode(frame))
        sink.mux(stream.encode(None))
    return target.getvalue()


def as_int16(samples: Samples) -> np.ndarray[tuple[int], np.dtype[np.int16]]:
    """Samples of ±1 as 16 bit, clipped at full scale."""
    return np.asarray(np.round(np.clip(samples, -1.0, 1.0) * 32_767.0), np.int16)
