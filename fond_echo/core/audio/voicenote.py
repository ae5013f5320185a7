"""Voice notes: mono Ogg Opus, written by page and read back sample for sample."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass

import av
import numpy as np
import numpy.typing as npt
from av.audio.codeccontext import AudioCodecContext
from av.codec.context import CodecContext

from fond_echo.core.audio import ogg
from fond_echo.core.audio.clip import Clip, Samples
from fond_echo.core.audio.errors import BrokenSound, EmptySound
from fond_echo.core.audio.opus import RATE, OpusHead, OpusTags, packet_samples
from fond_echo.core.audio.resample import at_rate

FRAME = 960
"""Samples in a packet: 20 ms at 48 kHz."""

PACKETS_A_SECOND = 50
OPUS_RATES = frozenset((8_000, 12_000, 16_000, 24_000, 48_000))
"""Sample rates that the encoder takes (RFC 6716 §2)."""

PACKETS_PER_PAGE = 50
BITS_PER_SECOND = 24_000
COMPLEXITY = 5
"""From 7 on, libopus codes speech at this rate as music, in files a fifth larger."""

VENDOR = "Fond Echo"
LAYOUTS = {1: "mono", 2: "stereo"}


def opus_encoder(
    bits_per_second: int = BITS_PER_SECOND, rate: int = RATE, channel_count: int = 1
) -> AudioCodecContext:
    """libopus set for speech: 20 ms packets."""
    encoder = CodecContext.create("libopus", "w")
    assert isinstance(encoder, AudioCodecContext)
    encoder.sample_rate = rate
    encoder.layout = LAYOUTS[channel_count]
    encoder.format = "flt"
    encoder.bit_rate = bits_per_second
    encoder.options = {
        "application": "voip",
        "compression_level": str(COMPLEXITY),
        "frame_duration": "20",
    }
    encoder.open()
    return encoder


class VoiceNoteWriter:
    """Writes a voice note, or another recording, as the sound arrives, a page at a time.

    `write` takes samples and gives the bytes that are complete; `finish` gives the rest. The
    granule position of the last page says where the sound ends, so that the length read back is the
    length written (RFC 7845 §4.5).
    """

    def __init__(
        self,
        serial: int,
        *,
        bits_per_second: int = BITS_PER_SECOND,
        comments: tuple[str, ...] = (),
        input_rate: int = RATE,
        rate: int = RATE,
        channel_count: int = 1,
        per_page: int = PACKETS_PER_PAGE,
    ) -> None:
        """`serial` names the logical stream: any 32-bit number, unique within the file. `rate` is
        that of the samples: 8, 12, 16, 24 or 48 kHz."""
        self._encoder = opus_encoder(bits_per_second, rate, channel_count)
        self._rate, self._channel_count, self._per_page = rate, channel_count, per_page
        self._frame = rate // PACKETS_A_SECOND
        head = self._encoder.extradata or b""
        self.pre_skip = OpusHead.from_bytes(head).pre_skip
        self._head = OpusHead(channel_count, self.pre_skip, input_rate)
        self._tags = OpusTags(VENDOR, comments)
        self._serial = serial
        self._pending = np.zeros((0, channel_count), np.float32)
        self._packets: list[bytes] = []
        self._sequence = 0
        self._laid_out = 0
        self.samples = 0

    def write(self, samples: Samples) -> bytes:
        """Take any number of samples, shape (length,), or (length, channel_count)."""
        self.samples += len(samples)
        pending = np.concatenate((self._pending, samples.reshape(-1, self._channel_count)))
        frame = self._frame
        whole = len(pending) // frame * frame
        for start in range(0, whole, frame):
            self._encode(pending[start : start + frame])
        self._pending = pending[whole:]
        ready = (len(self._packets) - 1) // self._per_page * self._per_page
        return self._lay_out(max(0, ready))

    def finish(self) -> bytes:
        """Give what is left, its last page flagged and trimmed.

        Raises:
            EmptySound: nothing was written.
        """
        if not self.samples:
            raise EmptySound("there is no sound to write as a voice note")
        end = self.pre_skip + self.samples * RATE // self._rate
        needed = -(-end // FRAME)
        frame = self._frame
        rest = np.concatenate(
            (self._pending, np.zeros((2 * frame, self._channel_count), np.float32))
        )
        for start in range(0, len(rest) // frame * frame, frame):
            self._encode(rest[start : start + frame])
        left = needed - self._laid_out // FRAME
        return self._lay_out(left, end)

    def _encode(self, samples: Samples) -> None:
        flat = np.ascontiguousarray(samples).reshape(1, -1)
        frame = av.AudioFrame.from_ndarray(flat, format="flt", layout=LAYOUTS[self._channel_count])
        frame.sample_rate = self._rate
        self._packets += [bytes(packet) for packet in self._encoder.encode(frame)]

    def _lay_out(self, count: int, end: int | None = None) -> bytes:
        """Pages for the first `count` packets that wait; `end` is given for the last of all."""
        data = bytearray()
        if self._sequence == 0 and count:
            head = ogg.pages_of([(self._head.to_bytes(), 0)], self._serial, 0, per_page=1)
            tags = ogg.pages_of([(self._tags.to_bytes(), 0)], self._serial, 1, per_page=1)
            for page in [*head, *tags]:
                first = page.sequence == 0
                data += _flagged(page, first=first, last=False).to_bytes()
                self._sequence = page.sequence + 1
        taken, self._packets = self._packets[:count], self._packets[count:]
        timed = [(packet, self._laid_out + (k + 1) * FRAME) for k, packet in enumerate(taken)]
        self._laid_out += count * FRAME
        if end is not None:
            timed[-1] = (timed[-1][0], end)
        pages = list(ogg.pages_of(timed, self._serial, self._sequence, per_page=self._per_page))
        for page in pages:
            last = end is not None and page is pages[-1]
            data += _flagged(page, first=False, last=last).to_bytes()
        self._sequence += len(pages)
        return bytes(data)


def _flagged(page: ogg.Page, *, first: bool, last: bool) -> ogg.Page:
    return ogg.Page(
        page.serial,
        page.sequence,
        page.granule,
        page.segments,
        page.body,
        page.continued,
        first,
        last,
    )


def encode_voice_note(clip: Clip, serial: int, *, bits_per_second: int = BITS_PER_SECOND) -> bytes:
    """A clip of any rate as a voice note. A rate that Opus has is encoded as it is: 16 kHz takes a
    third less time than the same sound at 48 kHz.

    Raises:
        EmptySound: the clip has no samples.
    """
    rate = clip.rate if clip.rate in OPUS_RATES else RATE
    writer = VoiceNoteWriter(
        serial, bits_per_second=bits_per_second, input_rate=clip.rate, rate=rate
    )
    data = writer.write(at_rate(clip, rate).samples)
    return data + writer.finish()


@dataclass(frozen=True)
class OpusStream:
    """An Ogg Opus file taken apart.

    Attributes:
        packets: the audio packets.
        samples: what plays, at 48 kHz: after pre-skip, up to the last granule position.
        lead: samples of the first page that are missing because the stream begins in the middle
            of a longer one (RFC 7845 §4.3); 0 for a file that begins at its beginning.
        complete: the last page says that it is the last.
        steady: every page's granule position is what its packets add up to.
    """

    head: OpusHead
    tags: OpusTags
    packets: tuple[bytes, ...]
    samples: int
    lead: int
    complete: bool
    steady: bool
    damaged_pages: int

    @property
    def seconds(self) -> float:
        return self.samples / RATE


def read_opus(data: bytes) -> OpusStream:
    """Take an Ogg Opus file apart without decoding its sound.

    Raises:
        BrokenSound: no pages, no Opus headers, several streams, packets that are not Opus.
    """
    reader = ogg.PageReader()
    pages = reader.feed(data)
    if not pages:
        raise BrokenSound("there is no whole Ogg page in the file")
    packets = list(ogg.packets_of(pages))
    if len(packets) < 2:
        raise BrokenSound("the file ends before its Opus headers do")
    head = OpusHead.from_bytes(packets[0][0])
    tags = OpusTags.from_bytes(packets[1][0])
    audio = packets[2:]
    position, lead, steady = 0, 0, True
    total = sum(packet_samples(packet) for packet, _ in audio)
    final = audio[-1][1] if audio else None
    for packet, page, ends_page in _with_page_ends(audio):
        position += packet_samples(packet)
        if not ends_page or page.granule == ogg.NO_GRANULE:
            continue
        if page is final and page.last:
            steady &= page.granule <= position + lead
        elif page.granule != position + lead:
            steady &= lead == 0 and page.sequence == 2
            lead = page.granule - position
    end = total + lead
    if final is not None and final.last and final.granule != ogg.NO_GRANULE:
        end = min(end, final.granule)
    return OpusStream(
        head,
        tags,
        tuple(packet for packet, _ in audio),
        max(0, end - lead - head.pre_skip),
        lead,
        final is not None and final.last,
        steady,
        reader.damaged,
    )


def _with_page_ends(
    audio: list[tuple[bytes, ogg.Page]],
) -> Iterator[tuple[bytes, ogg.Page, bool]]:
    for k, (packet, page) in enumerate(audio):
        yield packet, page, k + 1 == len(audio) or audio[k + 1][1] is not page


def decode_opus(stream: OpusStream, *, max_samples: int | None = None) -> Clip:
    """The sound of an Ogg Opus file at 48 kHz, stereo averaged, exactly `stream.samples` long.

    Args:
        max_samples: decoding stops with an error before it gives more than this.

    Raises:
        BrokenSound: more than two channels in one stream (mapping families other than 0), or
            packets that libopus refuses.
        EmptySound: nothing is left after pre-skip.
    """
    if stream.head.family != 0 or stream.head.channel_count > 2:
        raise BrokenSound(
            f"Opus with {stream.head.channel_count} channels in mapping family "
            f"{stream.head.family} "
            "is not a voice note"
        )
    if not stream.samples:
        raise EmptySound("the voice note holds no sound after its pre-skip")
    if max_samples is not None and stream.samples > max_samples:
        raise BrokenSound("longer than announced")
    decoder = CodecContext.create("libopus", "r")
    assert isinstance(decoder, AudioCodecContext)
    decoder.sample_rate = RATE
    decoder.layout = "mono" if stream.head.channel_count == 1 else "stereo"
    decoder.extradata = OpusHead(
        stream.head.channel_count, 0, output_gain=stream.head.output_gain
    ).to_bytes()
    frames: list[npt.NDArray[np.int16]] = []
    try:
        for packet in stream.packets:
            frames += map(_interleaved, decoder.decode(av.Packet(packet)))
        frames += map(_interleaved, decoder.decode(None))
    except av.FFmpegError as error:
        raise BrokenSound(f"libopus refuses a packet: {error.strerror}") from error
    whole = np.concatenate(frames) if frames else np.zeros(0, np.int16)
    samples = whole.reshape(-1, stream.head.channel_count).mean(axis=1, dtype=np.float32)
    skip = stream.head.pre_skip
    return Clip(samples[skip : skip + stream.samples] / np.float32(32_768), RATE)


def _interleaved(frame: av.AudioFrame) -> npt.NDArray[np.int16]:
    """A frame as libopus gives it. All frames are made floating point at once: one by one that
    takes longer than decoding them."""
    count = frame.samples * len(frame.layout.channels)
    return np.frombuffer(bytes(frame.planes[0]), np.int16, count)
