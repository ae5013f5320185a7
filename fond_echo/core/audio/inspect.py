"""What a sound file is, and whether it is a proper voice note."""

from __future__ import annotations

from dataclasses import dataclass, field

from fond_echo.core.audio import sniff as known
from fond_echo.core.audio.containers import Decoded, Limits, decode
from fond_echo.core.audio.level import loudness
from fond_echo.core.audio.opus import RATE
from fond_echo.core.audio.voicenote import OpusStream, read_opus
from fond_echo.core.audio.waveform import heights

CONVERT = "convert it: fond-echo clip convert FILE -o note.ogg"


@dataclass(frozen=True)
class Finding:
    """One reason why a file is not a proper voice note, and what to do."""

    what: str
    remedy: str


@dataclass(frozen=True)
class Report:
    """A file looked at closely.

    Attributes:
        seconds: counted in decoded samples, not read from a field.
        pre_skip: samples at 48 kHz; None where the file is not Ogg Opus.
        granules: "valid", "cut short" (no page is marked as the last) or "off" (positions that
            do not add up); None where the file is not Ogg Opus.
        loudness: LUFS, None where not defined.
        waveform: `waveform.POINTS` heights of 0..1.
        findings: empty for a proper voice note.
    """

    container: str
    codec: str
    channel_count: int
    rate: int
    seconds: float
    size: int
    pre_skip: int | None
    granules: str | None
    loudness: float | None
    waveform: list[float] = field(repr=False)
    findings: list[Finding]

    @property
    def voice_note(self) -> bool:
        return not self.findings

    @property
    def bits_per_second(self) -> float:
        return self.size * 8 / self.seconds


def inspect(data: bytes, limits: Limits | None = None) -> Report:
    """Look at a file.

    Raises:
        SoundError: the file cannot be decoded at all, as `containers.decode` says.
    """
    return inspected(data, decode(data, limits))


def inspected(data: bytes, decoded: Decoded) -> Report:
    """Look at a file that was decoded elsewhere. Raises BrokenSound where the bytes are not Ogg
    pages."""
    stream = _stream(data, decoded)
    return Report(
        container=decoded.container.name,
        codec=decoded.codec,
        channel_count=decoded.channel_count,
        rate=decoded.clip.rate,
        seconds=decoded.clip.seconds,
        size=len(data),
        pre_skip=stream.head.pre_skip if stream else None,
        granules=_granules(stream) if stream else None,
        loudness=loudness(decoded.clip),
        waveform=heights(decoded.clip),
        findings=_findings(decoded, stream),
    )


def findings_of(data: bytes, decoded: Decoded) -> list[Finding]:
    """Why a file that was decoded elsewhere is not a proper voice note; nothing where it is. Raises
    BrokenSound where the bytes are not Ogg pages."""
    return _findings(decoded, _stream(data, decoded))


def _stream(data: bytes, decoded: Decoded) -> OpusStream | None:
    ogg_opus = decoded.container is known.OGG and decoded.codec in ("opus", "libopus")
    return read_opus(data) if ogg_opus else None


def _granules(stream: OpusStream) -> str:
    if not stream.complete:
        return "cut short"
    return "valid" if stream.steady and not stream.damaged_pages else "off"


def _findings(decoded: Decoded, stream: OpusStream | None) -> list[Finding]:
    if stream is None:
        what = f"it is {decoded.codec} in {decoded.container.name}, not Opus in Ogg"
        return [Finding(what, CONVERT)]
    found: list[Finding] = []
    if decoded.channel_count != 1:
        found.append(Finding(f"it has {decoded.channel_count} channels, not one", CONVERT))
    if stream.damaged_pages:
        what = f"{stream.damaged_pages} page(s) fail their checksum"
        found.append(Finding(what, "fetch it again; if it stays so, " + CONVERT))
    if not stream.complete:
        what = "no page is marked as the last: the file is probably cut short"
        found.append(Finding(what, "fetch it again; if it is all there is, " + CONVERT))
    if stream.complete and not stream.steady:
        what = "its granule positions do not add up: players will show a wrong length"
        found.append(Finding(what, CONVERT))
    if stream.lead:
        what = f"it begins {stream.lead / RATE:.2f} s into a longer stream"
        found.append(Finding(what, CONVERT))
    if stream.head.pre_skip < 80:
        what = f"its pre-skip of {stream.head.pre_skip} samples leaves the encoder's run-in audible"
        found.append(Finding(what, CONVERT))
    if decoded.clip.peak < 1e-3:
        found.append(Finding("it is silent", "record it again, nearer to the microphone"))
    return found
