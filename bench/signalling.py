"""How many calls a second are set up and ended, how well who answers is told, how well keys are
heard in the sound.

Set-ups: an endpoint of ours is handed whole calls as bytes (INVITE, ACK, BYE), parsed and checked
in full, with the description answered; no socket and no record is in it. Greetings: a hundred, half
of people, half of machines, in voices that are none of ours, with noise and speed that vary; some
machines beep. Keys: random digits of 50 to 100 ms, 0 to -25 dBm0, up to 8 dB of twist, frequencies
off by up to 1.5 %, 15 dB over noise, through mu law; then an hour of speech, without any.

    python -m bench.signalling
"""

from __future__ import annotations

import random
import time
from collections.abc import Iterator
from random import Random

import numpy as np
import numpy.typing as npt

from bench.report import options, show
from fond_echo.core.audio.clip import Clip, join, silence
from fond_echo.core.audio.resample import at_rate
from fond_echo.core.synthesis.speaker import Speaker
from fond_echo.core.synthesis.synthesizer import Synthesizer
from fond_echo.core.telephony.conversation.answering_machine import AnsweringMachineDetector
from fond_echo.core.telephony.media.g711 import decoded, encoded
from fond_echo.core.telephony.media.tones import (
    BLOCK,
    COLUMNS,
    FULL,
    HOP,
    KEYS,
    ROWS,
    ToneReceiver,
    beep,
)
from fond_echo.core.telephony.sip.calls import Call, Offered
from fond_echo.core.telephony.sip.endpoint import Endpoint
from fond_echo.core.telephony.sip.message import Response, read_message
from fond_echo.core.telephony.sip.sdp import Terms, answer, offer, read_description
from fond_echo.core.telephony.sip.values import Hop
from fond_echo.speech.material import lexicon

RATE = 8_000
THEM = Hop("192.0.2.2", 5060)
PEOPLE = (
    "Hello?", "Yes?", "Hello, this is Isla.", "Piet Oduya.", "Good morning.", "Who is there?",
    "Hello, Sunniva speaking.", "Yes, hello?", "Brandt.", "Hi, it's Tobin.",
)  # fmt: skip
MACHINES = (
    "Hello, you have reached Isla Quennell. I cannot take your call. Please leave a message.",
    "This is the harbour office. We are closed today. Please call again tomorrow after eight.",
    "The person you are calling is not available. Please leave your message after the tone.",
    "Hi, this is Piet. I am out on the boat, so say what you want and I will ring you back.",
    "Nobody can come to the telephone at the moment. Leave your name and number, please.",
)  # fmt: skip


class Media:
    """Describes the same thing every time."""

    def describe(self, call: Call, offered: bytes) -> bytes:
        return answer(read_description(offered), Terms("192.0.2.1", 20_000, 1))[0]


COMMON = """\
Via: SIP/2.0/UDP 192.0.2.2:5060;branch=z9hG4bK{method}{n};rport
Max-Forwards: 70
From: <sip:isla@192.0.2.2>;tag=t{n}
To: <sip:2001@192.0.2.1>{tag}
Call-ID: c{n}@192.0.2.2
CSeq: {number} {method}
Contact: <sip:isla@192.0.2.2:5060>
Supported: timer
User-Agent: bench
"""


def request(method: str, n: int, number: int, tag: str = "", body: str = "") -> bytes:
    """A request of the caller's in their call of that number."""
    mark = f";tag={tag}" if tag else ""
    head = COMMON.format(method=method, n=n, number=number, tag=mark)
    kind = "Content-Type: application/sdp\n" if body else ""
    length = f"Content-Length: {len(body)}\n\n"
    text = f"{method} sip:2001@192.0.2.1 SIP/2.0\n{head}{kind}{length}"
    return (text.replace("\n", "\r\n") + body).encode()


def setups(count: int) -> float:
    """Calls a second, from the first INVITE to the last answer to a BYE."""
    ours = Endpoint("192.0.2.1", 5060, Media(), Random(1))
    body = offer(Terms("192.0.2.2", 30_000, 1)).decode()
    begun = time.perf_counter()
    for n in range(count):
        now = n / 500
        out = ours.receive(request("INVITE", n, 1, body=body), THEM, now)
        (call,) = [event.call for event in out.events if isinstance(event, Offered)]
        ours.ring(call, now)
        described = Media().describe(call, call.remote_sdp)
        (reported, _), *_ = ours.accept(call, described, now).send
        response = read_message(reported)
        assert isinstance(response, Response)
        tag = response.target.tag
        ours.receive(request("ACK", n, 1, tag), THEM, now)
        ours.receive(request("BYE", n, 2, tag), THEM, now)
        if (due := ours.due) is not None and due <= now:
            ours.wake(now)
    seconds = time.perf_counter() - begun
    assert not ours.open_calls
    return count / seconds


def voices(count: int, chance: random.Random) -> dict[str, Speaker]:
    """Voices that are none of ours."""
    return {
        f"v{n}": Speaker(
            formant_scale=chance.uniform(0.92, 1.24), pitch=chance.uniform(85, 240),
            rate=chance.uniform(0.88, 1.2), breath=chance.uniform(0.02, 0.1),
            tilt=chance.uniform(0.25, 0.6), vowel_mix=chance.random(),
        )
        for n in range(count)
    }  # fmt: skip


def frames(samples: npt.NDArray[np.int16]) -> Iterator[npt.NDArray[np.int16]]:
    for start in range(0, len(samples) - 159, 160):
        yield samples[start : start + 160]


def on_the_line(clip: Clip, noise: float, rng: np.random.Generator) -> npt.NDArray[np.int16]:
    """As it comes by telephone: mu law, with noise."""
    whole = at_rate(clip, RATE).samples * 32_767
    noisy = np.clip(whole + noise * rng.standard_normal(len(whole)), -32_768, 32_767)
    return decoded(encoded(noisy.astype(np.int16), "PCMU"), "PCMU")


def answerers() -> tuple[int, int, dict[str, int]]:
    """Right ones, all, and what was said of the others."""
    chance, rng = random.Random(5), np.random.default_rng(5)
    mouth = Synthesizer(lexicon(), voices(20, chance))
    right, wrong = 0, dict[str, int]()
    for n in range(100):
        person = n % 2 == 0
        words = PEOPLE[n // 2 % len(PEOPLE)] if person else MACHINES[n // 2 % len(MACHINES)]
        said = join([part.clip for part in mouth.speak(words, f"v{n // 2 % 20}", seed=n)])
        parts = [silence(chance.uniform(0.1, 1.2), RATE), at_rate(said, RATE)]
        if not person and chance.random() < 0.5:
            parts += [silence(0.4, RATE), beep(0.4, chance.choice((440.0, 1_000.0, 1_400.0)))]
        parts.append(silence(4.5, RATE))
        detector = AnsweringMachineDetector()
        for frame in frames(on_the_line(join(parts), chance.uniform(2, 60), rng)):
            if detector.feed(frame):
                break
        wanted = "person" if person else "machine"
        right += detector.who == wanted
        if detector.who != wanted:
            wrong[f"{wanted} as {detector.who}"] = wrong.get(f"{wanted} as {detector.who}", 0) + 1
    return right, 100, wrong


def keys(count: int) -> int:
    """How many of so many digits are heard, each once and as what it is."""
    chance, rng = random.Random(7), np.random.default_rng(7)
    found = 0
    for _ in range(count):
        place = chance.randrange(16)
        time_ = np.arange(round(chance.uniform(0.05, 0.1) * RATE)) / RATE
        level, twist = chance.uniform(-25, 0), chance.uniform(-8, 8)
        sound = np.zeros(len(time_))
        for frequency, gain in ((ROWS[place // 4], twist / 2), (COLUMNS[place % 4], -twist / 2)):
            off = frequency * (1 + chance.uniform(-0.015, 0.015))
            power = FULL * 10 ** ((level - 3 + gain) / 20)
            sound += power * np.sin(2 * np.pi * off * time_ + chance.uniform(0, 6.28))
        noise = np.sqrt(np.mean(sound**2)) * 10 ** (-15 / 20)
        whole = np.concatenate([np.zeros(800), sound, np.zeros(800)])
        whole += noise * rng.standard_normal(len(whole))
        samples = np.clip(whole, -32_768, 32_767).astype(np.int16)
        receiver = ToneReceiver()
        heard = [
            key
            for f in frames(decoded(encoded(samples, "PCMU"), "PCMU"))
            for key in receiver.feed(f)
        ]
        found += heard == [KEYS[place]]
    return found


def false_keys(seconds: float) -> int:
    """Keys that are heard in so much speech."""
    chance, rng = random.Random(9), np.random.default_rng(9)
    mouth = Synthesizer(lexicon(), voices(40, chance))
    receiver, done, count = ToneReceiver(), 0.0, 0
    words = " ".join((*PEOPLE, *MACHINES))
    number = 0
    while done < seconds:
        number += 1
        clip = join([part.clip for part in mouth.speak(words, f"v{number % 40}", seed=number)])
        for _ in range(10):
            # The same words at other levels and with other noise are other sound.
            loud = Clip(clip.samples * np.float32(chance.uniform(0.1, 1.6)), clip.rate)
            for frame in frames(on_the_line(loud, chance.uniform(0, 200), rng)):
                count += len(receiver.feed(frame))
            done += clip.seconds
            if done >= seconds:
                break
    return count


def main() -> None:
    chosen = options(__doc__, calls=3_000, digits=5_000, minutes=60)
    assert (BLOCK, HOP) == (160, 80)
    right, all_, wrong = answerers()
    rows = [
        ("set-ups a second", f"{setups(chosen.calls):.0f}", "500"),
        ("person or machine, right", f"{right} of {all_} {wrong or ''}", "95"),
        ("keys heard", f"{keys(chosen.digits)} of {chosen.digits}", "99.9 %"),
        (f"false keys in {chosen.minutes} min", str(false_keys(60.0 * chosen.minutes)), "1"),
    ]
    show("signalling and what is heard on the channel", ("", "measured", "aim"), rows, chosen.json)


if __name__ == "__main__":
    main()
