"""What happens to speech on its way: rooms, noise, microphones, lines and codecs.

All samples are float32 at 16 kHz, shape (n,). `TEST` noises never occur in training: they are made
by other means.
"""

from __future__ import annotations

import io

import av
import numpy as np
import numpy.typing as npt
from scipy import signal

RATE = 16_000
Samples = npt.NDArray[np.float32]
Rng = np.random.Generator

TRAINING_NOISES = (
    "white", "pink", "brown", "hum", "resonant", "talkers", "clicks", "engine", "murmur", "murmur",
    "murmur", "texture", "texture", "texture",
)  # fmt: skip
TEST_NOISES = ("rain", "rail", "crowd")


def room(samples: Samples, rng: Rng) -> Samples:
    """In a room of random size: decaying noise after the direct sound, with early reflections."""
    seconds = rng.uniform(0.12, 0.9)
    length = int(seconds * RATE * 0.8)
    tail = rng.standard_normal(length) * np.exp(-6.9 * np.arange(length) / RATE / seconds)
    tail[: int(rng.uniform(0.002, 0.02) * RATE)] = 0
    tail = signal.lfilter([1], [1, -rng.uniform(0, 0.7)], tail)
    tail *= rng.uniform(0.1, 1.1) / np.sqrt(np.square(tail).sum())
    for _ in range(rng.integers(0, 6)):
        tail[rng.integers(16, min(length, 900))] += rng.normal(0, 0.25)
    tail[0] = 1
    return signal.fftconvolve(samples, tail)[: len(samples)].astype(np.float32)


def microphone(samples: Samples, rng: Rng) -> Samples:
    """Through a random smooth frequency response of ±8 dB."""
    bends = np.cumsum(rng.normal(0, 2.5, 9))
    gains = 10 ** (np.clip(bends - bends.mean(), -8, 8) / 20)
    taps = signal.firwin2(63, np.linspace(0, 1, 9), gains)
    return signal.fftconvolve(samples, taps, mode="same").astype(np.float32)


def rumble(count: int, rng: Rng) -> Samples:
    """What a hand, a desk or the mains add below the voice, with a power of about 1."""
    low = signal.butter(2, rng.uniform(60, 180), "low", fs=RATE, output="sos")
    made = signal.sosfilt(low, rng.standard_normal(count))
    t = np.arange(count) / RATE
    made = made / (made.std() + 1e-9) + rng.uniform(0, 2) * np.sin(
        2 * np.pi * rng.choice([50.0, 60.0, 100.0, 120.0]) * t
    )
    return np.asarray(made / (made.std() + 1e-9), np.float32)


def texture(count: int, rng: Rng) -> Samples:
    """What falls, rattles, rolls or blows: noise and bursts of any density, any colour, and a beat
    of any pace."""
    bursts = (rng.random(count) < 10 ** rng.uniform(-3.6, -0.6)) * rng.standard_normal(count)
    pole = rng.uniform(-0.6, 0.97)
    bursts = signal.lfilter([1], [1, -pole], bursts)
    share = rng.uniform(0, 1)
    made = share * bursts / (bursts.std() + 1e-9) + (1 - share) * rng.standard_normal(count)
    bends = np.cumsum(rng.normal(0, 5, 9)) + np.linspace(0, rng.uniform(-30, 6), 9)
    gains = 10 ** (np.clip(bends - bends.max(), -45, 0) / 20)
    made = signal.fftconvolve(
        made, signal.firwin2(127, np.linspace(0, 1, 9) ** 1.6, gains), mode="same"
    )
    if rng.random() < 0.5:
        t = np.arange(count) / RATE
        pace, sharp = 10 ** rng.uniform(-0.3, 1.1), rng.uniform(0.2, 12)
        beat = (0.5 + 0.5 * np.sin(2 * np.pi * pace * t + rng.uniform(0, 6))) ** sharp
        depth = rng.uniform(0.3, 1)
        made = made * (1 - depth + depth * beat)
    return np.asarray(made / (made.std() + 1e-9), np.float32)


def noise(kind: str, count: int, rng: Rng, others: list[Samples] | None = None) -> Samples:
    """Noise of a kind, with a power of about 1."""
    white = rng.standard_normal(count)
    t = np.arange(count) / RATE
    if kind == "white":
        made = white
    elif kind == "pink":
        made = signal.lfilter([0.05, -0.0959, 0.0507], [1, -2.4944, 2.0173, -0.5220], white)
    elif kind == "brown":
        made = signal.lfilter([0.05], [1, -0.97], white) + 0.05 * white
    elif kind == "hum":
        base = rng.uniform(48, 130)
        made = 0.2 * white + 2 * ((t * base) % 1 - 0.5)
    elif kind == "resonant":
        angle = 2 * np.pi * rng.uniform(200, 3_500) / RATE
        radius = rng.uniform(0.85, 0.97)
        made = signal.lfilter([1], [1, -2 * radius * np.cos(angle), radius**2], white) + 0.5 * white
    elif kind == "talkers" and others:
        made = 0.02 * white
        for _ in range(rng.integers(1, 6)):
            one = others[rng.integers(len(others))]
            made = made + np.roll(np.resize(one, count), rng.integers(count)) / (one.std() + 1e-9)
    elif kind == "murmur" and others:
        made = 0.02 * white
        for _ in range(rng.integers(4, 13)):
            one = others[rng.integers(len(others))]
            made = made + np.roll(np.resize(one, count), rng.integers(count)) * rng.uniform(
                0.3, 1
            ) / (one.std() + 1e-9)
    elif kind == "texture":
        made = texture(count, rng)
    elif kind == "clicks":
        made = 0.1 * white
        for at in rng.integers(0, count, max(1, count // 6_000)):
            span = min(count - at, int(rng.integers(30, 800)))
            made[at : at + span] += (
                8 * rng.standard_normal(span) * np.exp(-np.arange(span) / (span / 4))
            )
    elif kind == "engine":
        speed = rng.uniform(15, 45) * (1 + 0.1 * np.sin(2 * np.pi * t * rng.uniform(0.05, 0.5)))
        turns = np.cumsum(speed) / RATE
        made = sum(np.sin(2 * np.pi * k * turns + k) / k for k in range(1, 12)) + 0.4 * white
    elif kind == "rain":
        drops = (rng.random(count) < 0.01) * rng.standard_normal(count) * 10
        made = signal.lfilter([1, -0.6], [1, -1.2, 0.55], drops) + 0.3 * white
    elif kind == "rail":
        rumble = signal.lfilter([0.02], [1, -0.98], white)
        beat = 1 + 2 * (np.sin(2 * np.pi * 1.7 * t) > 0.9)
        made = 6 * rumble * beat + 0.2 * white
    elif kind == "crowd" and others:
        made = 0.01 * white
        for k in range(8):
            one = others[(k * 7 + int(rng.integers(len(others)))) % len(others)]
            made = made + np.roll(np.resize(one[::-1], count), rng.integers(count)) / (
                one.std() + 1e-9
            )
    else:
        made = white
    if rng.random() < 0.3:
        swell = np.interp(t, np.linspace(0, t[-1] + 1e-3, 7), rng.uniform(0.2, 1.5, 7))
        made = made * swell
    return np.asarray(made / (np.sqrt(np.mean(np.square(made))) + 1e-9), np.float32)


def with_noise(samples: Samples, added: Samples, decibels: float) -> Samples:
    """Speech with noise; the ratio is taken over the frames in which there is speech."""
    loud = np.abs(samples) > 0.02 * np.abs(samples).max()
    power = np.mean(np.square(samples[loud])) if loud.any() else 1e-6
    return samples + added * np.float32(np.sqrt(power / 10 ** (decibels / 10)))


def companded(samples: Samples, law: str) -> Samples:
    """Through G.711 at 8 kHz, with a telephone's band; the formulas, not the tables."""
    low = signal.resample_poly(samples, 1, 2)
    band = signal.butter(3, [250, 3_450], "band", fs=8_000, output="sos")
    low = np.clip(signal.sosfilt(band, low), -1, 1)
    sign, size = np.sign(low), np.abs(low)
    if law == "mu":
        coded = np.round(np.log1p(255 * size) / np.log(256) * 127) / 127
        low = sign * (256**coded - 1) / 255
    else:
        a = 87.6
        whole = 1 + np.log(a)
        coded = np.where(size < 1 / a, a * size, 1 + np.log(np.maximum(a * size, 1e-9))) / whole
        coded = np.round(coded * 127) / 127
        low = sign * np.where(coded < 1 / whole, coded * whole / a, np.exp(coded * whole - 1) / a)
    return signal.resample_poly(low, 2, 1)[: len(samples)].astype(np.float32)


def opus(samples: Samples, kilobits: float, lost: float, rng: Rng) -> Samples:
    """Through Opus and back, so many of its packets lost (the decoder is told nothing)."""
    whole = (np.clip(samples, -1, 1) * 32_767).astype(np.int16)
    file = io.BytesIO()
    with av.open(file, "w", format="ogg") as out:
        stream = out.add_stream("libopus", rate=RATE)
        stream.layout = "mono"
        stream.bit_rate = int(kilobits * 1_000)
        stream.options = {"compression_level": "1", "application": "voip"}
        for start in range(0, len(whole), RATE):
            part = np.ascontiguousarray(whole[None, start : start + RATE])
            frame = av.AudioFrame.from_ndarray(part, format="s16", layout="mono")
            frame.sample_rate, frame.pts = RATE, start
            out.mux(stream.encode(frame))
        out.mux(stream.encode(None))
    file.seek(0)
    found = []
    with av.open(file) as read:
        for packet in read.demux(audio=0):
            if packet.size and rng.random() < lost and found:
                found.append(np.zeros_like(found[-1]))
                continue
            found += [frame.to_ndarray()[0] for frame in packet.decode()]
    heard = np.concatenate(found)
    if heard.dtype == np.int16:
        heard = heard / 32_768
    heard = signal.resample_poly(heard, 1, 3)[: len(samples)]
    return np.pad(heard, (0, len(samples) - len(heard))).astype(np.float32)


AMR_RATES = (4_750, 5_900, 7_400, 12_200)


def amr(samples: Samples, bits: int) -> Samples:
    """Through AMR at 8 kHz and back, as between mobile telephones.

    Args:
        bits: a second, one of `AMR_RATES`.
    """
    low = np.clip(signal.resample_poly(samples, 1, 2), -1, 1)
    coder = av.CodecContext.create("libopencore_amrnb", "w")
    coder.sample_rate, coder.layout, coder.format = 8_000, "mono", "s16"
    coder.bit_rate = bits
    reader = av.CodecContext.create("amrnb", "r")
    reader.sample_rate, reader.layout = 8_000, "mono"
    whole = (low * 32_767).astype(np.int16)
    whole = np.pad(whole, (0, -len(whole) % 160))
    found = []
    for start in range(0, len(whole), 160):
        frame = av.AudioFrame.from_ndarray(
            np.ascontiguousarray(whole[None, start : start + 160]), format="s16", layout="mono"
        )
        frame.sample_rate, frame.pts = 8_000, start
        for packet in coder.encode(frame):
            found += [decoded.to_ndarray()[0] for decoded in reader.decode(packet)]
    heard = signal.resample_poly(np.concatenate(found), 2, 1)[: len(samples)]
    return np.pad(heard, (0, len(samples) - len(heard))).astype(np.float32)


def holes(samples: Samples, share: float, rng: Rng) -> Samples:
    """Packets of 20 ms lost on a call: the one before is played again, softer."""
    heard = samples.copy()
    for start in range(320, len(heard) - 320, 320):
        if rng.random() < share:
            heard[start : start + 320] = heard[start - 320 : start] * 0.6
    return heard


def world(samples: Samples, rng: Rng, others: list[Samples]) -> Samples:
    """A clean utterance as it might arrive: what one shard of training is made of."""
    heard = samples / (np.abs(samples).max() + 1e-9)
    if rng.random() < 0.6:
        heard = microphone(heard, rng)
    if rng.random() < 0.4:
        heard = room(heard, rng)
    if rng.random() < 0.7:
        kind = str(rng.choice(TRAINING_NOISES))
        decibels = rng.uniform(3, 15) if rng.random() < 0.5 else rng.uniform(0, 28)
        heard = with_noise(heard, noise(kind, len(heard), rng, others), decibels)
    if rng.random() < 0.7:
        kind = str(rng.choice(("white", "pink", "brown")))
        heard = with_noise(heard, noise(kind, len(heard), rng), rng.uniform(30, 65))
    if rng.random() < 0.2:
        heard = with_noise(heard, rumble(len(heard), rng), rng.uniform(-3, 25))
    heard = heard / (np.abs(heard).max() + 1e-9) * np.float32(10 ** rng.uniform(-1.5, -0.05))
    chance = rng.random()
    if chance < 0.27:
        heard = companded(heard, "mu" if rng.random() < 0.5 else "a")
        if rng.random() < 0.3:
            heard = holes(heard, rng.uniform(0.005, 0.05), rng)
    elif chance < 0.40:
        heard = opus(heard, rng.uniform(6, 32), 0.02 if rng.random() < 0.3 else 0.0, rng)
    elif chance < 0.46:
        heard = amr(heard, int(rng.choice(AMR_RATES)))
    if rng.random() < 0.05:
        heard = np.clip(heard * rng.uniform(2, 8), -1, 1)
    return np.asarray(np.round(heard * 32_767) / 32_767, np.float32)
