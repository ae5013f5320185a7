"""The media of one call: packets in and out, one of each every 20 ms, with keys and reports.

Sound is taken from the address that was agreed on, or, where the other side is behind a translator
of addresses, from the host that its signalling comes from; from anybody only where that is asked
for, and then from the first that sends two valid packets in a row. Whoever else sends to our port
is counted and not heard.
"""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass, replace

import numpy as np

from fond_echo.core.telephony.errors import MalformedPacket
from fond_echo.core.telephony.media.g711 import SILENCE, Law, decoded
from fond_echo.core.telephony.media.jitter import FRAME, Frame, JitterBuffer
from fond_echo.core.telephony.media.quality import Quality, rated
from fond_echo.core.telephony.media.reframing import Reframer
from fond_echo.core.telephony.media.rtp import (
    Reception,
    Report,
    Rtcp,
    RtpPacket,
    middle,
    ntp,
    read_rtcp,
    read_rtp,
)
from fond_echo.core.telephony.media.telephone_events import KeyReceiver, key_packets
from fond_echo.core.telephony.media.tones import ToneReceiver
from fond_echo.core.telephony.randomness import RandomSource
from fond_echo.core.telephony.sip.sdp import Agreed

Place = tuple[str, int]
REPORT_SECONDS = 5.0
BETWEEN_KEYS = 3
"""Frames."""

MAX_JUMP = 500
"""Packets: numbers that lie farther apart are not of one row."""

MOVED_SECONDS = 2.0
"""Nothing came from where sound came from: it may come from another port by now."""


@dataclass(frozen=True)
class Identity:
    """What our packets begin with: chosen at random (RFC 3550 §5.1)."""

    source: int
    sequence: int
    timestamp: int

    @classmethod
    def chosen(cls, chance: RandomSource) -> Identity:
        """One that nobody can guess."""
        return cls(chance.getrandbits(32), chance.getrandbits(16), chance.getrandbits(32))


class Stream:
    """Both directions of a call in G.711.

    Args:
        agreed: what both sides agreed on; it may change (`changed`).
        signalling: the host that the call's signalling comes from.
        any_source: sound may come from anywhere.

    Attributes:
        unknown_source_packets: packets that were not the call's.
        locked: where the call's sound comes from, once that is known.
        under: is given what leaves, and gives it with what else is to be heard.
        said: our last 20 ms, in the call's law.
        heard_at: when the last packet came.
    """

    def __init__(
        self, agreed: Agreed, identity: Identity, signalling: str = "", *, any_source: bool = False
    ) -> None:
        self.agreed = agreed
        self._signalling, self._any_source = signalling, any_source
        self._packets = Reframer()
        self.unknown_source_packets = 0
        self.locked: Place | None = None
        self._identity = identity
        self._sequence, self._timestamp = identity.sequence, identity.timestamp
        self.said = bytes([SILENCE[self.law]]) * FRAME
        self.heard_at: float | None = None
        self._playing: deque[bytes] = deque()
        self._follows: int | None = None
        self.under: Callable[[bytes, Law], bytes] | None = None
        self._events: deque[tuple[int, RtpPacket]] = deque()
        self._pressed: deque[str] = deque()
        self._event_frame, self._pause = 0, 0
        self._sent, self._sent_bytes = 0, 0
        self._candidate: tuple[Place, int, int] | None = None
        self._reception: Reception | None = None
        self._buffer = JitterBuffer()
        self._keys = KeyReceiver()
        self._tones = ToneReceiver()
        self._reported_at: float | None = None
        self._their_report = (0, 0.0)
        self._round_trip = 0.0

    @property
    def law(self) -> Law:
        return "PCMA" if self.agreed.codec.name == "PCMA" else "PCMU"

    @property
    def _silence(self) -> bytes:
        return bytes([SILENCE[self.law]]) * FRAME

    @property
    def place(self) -> Place:
        """Where our packets go."""
        return self.locked or (self.agreed.host, self.agreed.port)

    @property
    def playing(self) -> bool:
        """Whether there is something left to be said."""
        return bool(self._playing)

    @property
    def waiting(self) -> int:
        """How many frames are left to be said."""
        return len(self._playing)

    def changed(self, agreed: Agreed) -> None:
        """The other side described its media anew; if it moved, it is looked for again."""
        if (agreed.host, agreed.port) != (self.agreed.host, self.agreed.port):
            self.locked, self._candidate = None, None
        self.agreed = agreed

    def play(self, data: bytes) -> None:
        """Say something after what is being said: bytes of the agreed law, 8,000 a second."""
        pad = bytes([SILENCE[self.law]]) * (-len(data) % FRAME)
        whole = data + pad
        self._playing.extend(whole[at : at + FRAME] for at in range(0, len(whole), FRAME))

    def hush(self) -> None:
        """Stop saying it."""
        self._playing.clear()

    def press(self, key: str) -> None:
        """Send a key, by an event where those were agreed on."""
        if self.agreed.events is not None:
            self._pressed.append(key)

    def tick(self) -> list[bytes]:
        """The packets of the next 20 ms: sound, silence where there is none, or a key."""
        self.said = self._silence
        if self.agreed.direction not in ("sendrecv", "sendonly"):
            self._timestamp = (self._timestamp + FRAME) & 0xFFFFFFFF
            return []
        if self._pressed and not self._events and self._pause <= 0:
            self._begin_key(self._pressed.popleft())
        if self._events:
            return self._tick_of_key()
        self._pause -= 1
        payload = self._playing.popleft() if self._playing else self._silence
        if self.under is not None:
            payload = self.under(payload, self.law)
        self.said = payload
        packet = RtpPacket(
            self.agreed.payload, self._sequence, self._timestamp, self._identity.source, payload,
            marker=self._sent == 0,
        )  # fmt: skip
        self._count(len(payload))
        self._timestamp = (self._timestamp + FRAME) & 0xFFFFFFFF
        return [packet.to_bytes()]

    def _begin_key(self, key: str) -> None:
        events = self.agreed.events or 0
        begin = RtpPacket(events, self._sequence, self._timestamp, self._identity.source, b"")
        self._events.extend(key_packets(key, begin))
        self._event_frame, self._pause = 0, BETWEEN_KEYS

    def _tick_of_key(self) -> list[bytes]:
        found = []
        while self._events and self._events[0][0] <= self._event_frame:
            _, packet = self._events.popleft()
            found.append(replace(packet, sequence=self._sequence).to_bytes())
            self._count(4)
        self._event_frame += 1
        self._timestamp = (self._timestamp + FRAME) & 0xFFFFFFFF
        return found

    def _count(self, size: int) -> None:
        self._sequence = (self._sequence + 1) & 0xFFFF
        self._sent += 1
        self._sent_bytes += size

    def receive(self, data: bytes, place: Place, now: float) -> str:
        """A packet that came; gives the key that began with it, or ""."""
        try:
            packet = read_rtp(data)
        except MalformedPacket:
            self.unknown_source_packets += 1
            return ""
        known = (self.agreed.payload, self.agreed.events)
        if packet.payload_type not in known or not self._is_theirs(packet, place, now):
            self.unknown_source_packets += packet.payload_type in known
            return ""
        self.heard_at = now
        if self._reception is None or self._reception.source != packet.source or self._anew(packet):
            self._reception = Reception(packet.source, self.agreed.codec.rate)
            # Another sender's numbers have nothing to do with those of the one before.
            self._packets = Reframer()
            self._buffer.restart()
        if self._follows is not None:
            return ""
        number = self._reception.count(packet, now)
        if packet.payload_type == self.agreed.events:
            try:
                return self._keys.receive(packet) or ""
            except MalformedPacket:
                return ""
        for k, frame in self._packets.put(number, decoded(packet.payload, self.law)):
            self._buffer.put(k, frame, now)
        return ""

    def _anew(self, packet: RtpPacket) -> bool:
        """Whether the same sender has begun to number anew: its numbers jumped, and go on from
        there (RFC 3550 A.1)."""
        assert self._reception is not None
        far = abs(self._reception.extended(packet.sequence) - self._reception.highest)
        follows, self._follows = self._follows, None
        if far <= MAX_JUMP:
            return False
        if packet.sequence == follows:
            return True
        self._follows = (packet.sequence + 1) & 0xFFFF
        return False

    def _is_theirs(self, packet: RtpPacket, place: Place, now: float) -> bool:
        """Whether a packet comes from where the call's sound comes from; that is found out here
        (symmetric RTP, RFC 4961). After a silence it may have moved."""
        if place == self.locked:
            return True
        if place == (self.agreed.host, self.agreed.port):
            # Where it said that it is, whatever came from elsewhere before.
            self.locked = place
            return True
        known = place[0] in (self.agreed.host, self._signalling)
        moved = self.heard_at is not None and now - self.heard_at > MOVED_SECONDS
        if self.locked is not None and not (known and moved):
            return False
        if known:
            self.locked = place
            return True
        if not self._any_source:
            return False
        follows = self._candidate is not None and self._candidate == (
            place,
            packet.source,
            (packet.sequence - 1) & 0xFFFF,
        )
        if follows:
            self.locked = place
            return True
        self._candidate = place, packet.source, packet.sequence
        return False

    def heard(self) -> tuple[Frame, list[str]]:
        """What the caller's side sounds like in the next 20 ms, and keys that are in the sound
        where there are no events for them."""
        if self.agreed.direction not in ("sendrecv", "recvonly"):
            return np.zeros(FRAME, np.int16), []
        frame = self._buffer.take()
        keys = self._tones.feed(frame) if self.agreed.events is None else []
        return frame, keys

    def report(self, now: float, wall: float) -> bytes:
        """An RTCP packet where it is time for one, else b"".

        Args:
            wall: seconds since 1970.
        """
        if self._reported_at is not None and now - self._reported_at < REPORT_SECONDS:
            return b""
        self._reported_at = now
        reports: tuple[Report, ...] = ()
        if self._reception is not None:
            stamp, at = self._their_report
            delay = int((now - at) * 65_536) if stamp else 0
            reports = (self._reception.report(stamp, delay),)
        sent = (ntp(wall), self._timestamp, self._sent, self._sent_bytes)
        return Rtcp(self._identity.source, sent, reports, "fond-echo").to_bytes()

    def receive_report(self, data: bytes, now: float, wall: float) -> None:
        """An RTCP packet that came."""
        try:
            reported = read_rtcp(data)
        except MalformedPacket:
            self.unknown_source_packets += 1
            return
        if reported.sent is not None:
            self._their_report = middle(reported.sent[0]), now
        for each in reported.reports:
            if each.source == self._identity.source and each.last_report:
                trip = ((middle(ntp(wall)) - each.last_report - each.delay) & 0xFFFFFFFF) / 65_536
                if trip < 60:
                    self._round_trip = trip

    def quality(self) -> Quality | None:
        """How the call sounded, as it came to us; None where nothing came."""
        seen = self._reception
        if seen is None:
            return None
        requested = self._buffer.played + self._buffer.lost
        loss = (self._buffer.lost + self._buffer.late) / requested if requested else 0.0
        jitter = seen.jitter / seen.rate * 1_000
        delay = self._round_trip * 500 + self._buffer.target * 20 + 20
        return rated(self.agreed.codec.name, loss=min(1.0, loss), jitter_ms=jitter, delay_ms=delay)
