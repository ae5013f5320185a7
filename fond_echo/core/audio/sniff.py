"""What a file is, by its first bytes: names and declared types are not believed."""

from __future__ import annotations

from dataclasses import dataclass


@dataclass(frozen=True)
class Container:
    """A container that is read here.

    Attributes:
        name: what a person would call it.
        demuxer: the one demuxer that may open it.
        media_type: RFC 6838 type for sound in it.
        suffix: the usual file ending.
    """

    name: str
    demuxer: str
    media_type: str
    suffix: str


OGG = Container("Ogg", "ogg", "audio/ogg", ".ogg")
WEBM = Container("WebM", "matroska", "audio/webm", ".webm")
MP3 = Container("MP3", "mp3", "audio/mpeg", ".mp3")
MP4 = Container("MPEG-4", "mov", "audio/mp4", ".m4a")
AMR = Container("AMR", "amr", "audio/amr", ".amr")
WAV = Container("WAV", "wav", "audio/wav", ".wav")
FLAC = Container("FLAC", "flac", "audio/flac", ".flac")

CONTAINERS = (OGG, WEBM, MP3, MP4, AMR, WAV, FLAC)


def sniff(data: bytes) -> Container | None:
    """The container these bytes begin with, or None for anything not read here."""
    if data[:4] == b"OggS":
        return OGG
    if data[:4] == b"\x1a\x45\xdf\xa3":
        return WEBM
    if data[:4] == b"RIFF" and data[8:12] == b"WAVE":
        return WAV
    if data[:4] == b"fLaC":
        return FLAC
    if data[:5] == b"#!AMR":
        return AMR
    if data[4:8] == b"ftyp":
        return MP4
    if data[:3] == b"ID3" or _mpeg_audio_frame(data):
        return MP3
    return None


def _mpeg_audio_frame(data: bytes) -> bool:
    """Whether an MPEG-1/2 layer III frame header stands at the start (ISO 11172-3 §2.4.1.3)."""
    if len(data) < 4 or data[0] != 0xFF or data[1] & 0xE0 != 0xE0:
        return False
    version, layer = data[1] >> 3 & 3, data[1] >> 1 & 3
    bit_rate, rate = data[2] >> 4, data[2] >> 2 & 3
    return version != 1 and layer == 1 and bit_rate not in (0, 15) and rate != 3
