"""Calls made of our voices for `bench.listening_in_calls`: what the assistant plays and what comes
back, 8 kHz, 16 bits: echoes, talkers, noises, other voices.

One half of voices and sentences is for choosing, the other for reporting.
"""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import lru_cache

import numpy as np
import numpy.typing as npt
from scipy import signal

from fond_echo.core.audio.clip import join
from fond_echo.speech.material import synthesizer
from training import rooms

RATE, FRAME = 8_000, 160
OUR_LEVEL = 3_900.0
"""RMS at which prompts leave."""

Sound = npt.NDArray[np.float64]
Rng = np.random.Generator

VOICES = {
    "choose": ("whimbrel", "curlew", "dunlin", "tern"),
    "report": ("petrel", "eider", "guillemot", "sanderling"),
}
PROMPTS = {
    "choose": (
        "Good evening, you have reached the bakery. Say which bread you would like us to keep.",
        "The swimming hall is open until nine today. Would you like to know what a ticket costs?",
        "I have found two appointments, on Tuesday at ten, and on Friday at a quarter to four.",
        "Your bicycle is repaired and can be fetched. Shall I tell you when the workshop is open?",
        "Nobody could be reached just now. Leave your name and number, and we will call you back.",
        "The bus to the castle leaves every twenty minutes from the stop in front of the station.",
        "Please tell me the number on your card, one figure after the other, without any haste.",
    ),
    "report": (
        "Hello, this is the lending library of tools. Which of them do you need, and for how long?",
        "The doctor is on holiday until the ninth. In urgent cases we can give you another name.",
        "We have your deposit. The boat is yours from Saturday at eight until Sunday evening.",
        "The line for faults is open day and night. Tell me your street first, and then a number.",
        "Sorry, that day is taken. The next free ones are the fourth, the sixth and the eleventh.",
        "Your daughter's class is back from the mountains at about four. The coach is on its way.",
        "If you know the extension, dial it now. If not, stay on the line, and somebody will come.",
    ),
}
TALK = {
    "choose": (
        "do you still have rye bread", "no that is too late for me", "stop please",
        "yes the second one", "I would like to talk to a human being", "what was that again",
        "how much is it for a family of five", "my name is Martin Weber from the mill road",
        "never mind I will call again",
    ),
    "report": (
        "I need a long ladder for a day", "no the other one", "hold on a minute",
        "yes that suits me", "could you put me through to her", "is it open at Easter",
        "what did you say the deposit was", "it is two eight oh one five",
        "leave it I have found it",
    ),
}  # fmt: skip

ECHOES = ("room", "hybrid", "saturating", "jumps")
NOISES = ("white", "pink", "hum", "wind")


@dataclass
class MadeCall:
    """A call.

    Attributes:
        sent, got: samples, shape (frames, 160).
        prompts: (first, last) frame of each time that we play.
        answers: (first, last) frame in which the talker answers while we listen.
        barges_in: the frame in which the talker begins over a prompt; -1 where he does not.
    """

    sent: npt.NDArray[np.int16]
    got: npt.NDArray[np.int16]
    prompts: list[tuple[int, int]] = field(default_factory=list)
    answers: list[tuple[int, int]] = field(default_factory=list)
    barges_in: int = -1


@lru_cache(maxsize=4)
def material(half: str) -> tuple[list[tuple[int, Sound]], list[tuple[int, Sound]]]:
    """Prompts and talk, each with the number of its voice; 16-bit units."""
    make = synthesizer()

    def said(text: str, voice: str) -> Sound:
        whole = join([part.clip for part in make.speak(text, voice)]).samples
        return np.asarray(signal.resample_poly(whole, 1, 2) * 32_768, np.float64)

    found = [
        [(k, said(text, voice)) for k, voice in enumerate(VOICES[half]) for text in texts[half]]
        for texts in (PROMPTS, TALK)
    ]
    return found[0], found[1]


def at_level(x: Sound, level: float) -> Sound:
    """At an RMS over the frames within 30 dB of the loudest."""
    power = np.square(x[: len(x) // FRAME * FRAME].reshape(-1, FRAME)).mean(axis=1)
    return np.asarray(x * (level / np.sqrt(power[power > power.max() * 1e-3].mean())))


def trimmed(x: Sound) -> Sound:
    """Without the silence before and after it."""
    level = np.sqrt(np.square(x[: len(x) // FRAME * FRAME].reshape(-1, FRAME)).mean(axis=1))
    on = np.flatnonzero(level > 0.05 * level.max())
    return x[on[0] * FRAME : (on[-1] + 1) * FRAME]


def _wide(change, x: Sound, *rest) -> Sound:  # type: ignore[no-untyped-def]
    """One of `training.rooms`, which work at 16 kHz."""
    y = change(signal.resample_poly(x, 2, 1).astype(np.float32), *rest)
    return np.asarray(signal.resample_poly(y, 1, 2)[: len(x)], np.float64)


def telephone(x: Sound, law: str = "a") -> npt.NDArray[np.int16]:
    """The telephone's band and a companding law, in frames."""
    wide = signal.resample_poly(x / 32_768, 2, 1).astype(np.float32)
    narrow = signal.resample_poly(rooms.companded(wide, law), 1, 2)[: len(x)]
    whole = np.clip(np.round(narrow * 32_768), -32_768, 32_767).astype(np.int16)
    return whole[: len(whole) // FRAME * FRAME].reshape(-1, FRAME)


def echo(sent: Sound, kind: str, decibels: float, rng: Rng) -> Sound:
    """What comes back of what was sent, so many dB below it, 30 to 400 ms later."""
    delay = int(rng.integers(30 * 8, 400 * 8))
    x = np.concatenate([np.zeros(delay), sent])[: len(sent)]
    if kind == "jumps":
        # The way changes once, by 20 to 200 ms.
        by = int(rng.choice([-1, 1])) * int(rng.integers(20 * 8, 200 * 8))
        other = int(np.clip(delay + by, 240, 3_200))
        at = int(len(sent) * rng.uniform(0.35, 0.65))
        x[at:] = np.concatenate([np.zeros(other), sent])[at : len(sent)]
    if kind == "hybrid":
        taps = rng.standard_normal(80) * np.exp(-np.arange(80) / rng.uniform(8, 25))
        x = signal.fftconvolve(x, taps)[: len(x)]
    elif kind == "saturating":
        x = _wide(rooms.microphone, x, rng)
        x = _wide(rooms.room, np.tanh(at_level(x, rng.uniform(1, 4))), rng)
    else:
        x = _wide(rooms.microphone, _wide(rooms.room, x, rng), rng)
    return at_level(x, OUR_LEVEL * 10 ** (decibels / 20))


def noise(kind: str, count: int, rng: Rng) -> Sound:
    """Steady noise, or gusts, of RMS 1."""
    if kind == "wind":
        low = signal.butter(2, 350, "low", fs=RATE, output="sos")
        gusts = np.interp(np.arange(count) / RATE, np.arange(60) * 0.7, rng.uniform(0.3, 1.6, 60))
        x = signal.sosfilt(low, rng.standard_normal(count)) * gusts
    elif kind == "street":
        hum = signal.sosfilt(
            signal.butter(1, 500, "low", fs=RATE, output="sos"), rng.standard_normal(count)
        )
        passing = np.interp(np.arange(count) / RATE, np.arange(30) * 1.7, rng.gamma(1.2, 1.0, 30))
        x = hum * (0.4 + passing)
    else:
        x = signal.resample_poly(rooms.noise(kind, 2 * count, rng), 1, 2)[:count]
    return np.asarray(x / np.sqrt(np.square(x).mean()), np.float64)


def others(half: str, count: int, many: int, without: set[int], rng: Rng) -> Sound:
    """So many other people who talk on and on, at RMS 1 where they do."""
    _, talk = material(half)
    whole = np.zeros(count)
    free = [voice for voice in range(4) if voice not in without]
    for _ in range(many):
        voice = int(rng.choice(free))
        lines = [x for v, x in talk if v == voice]
        order = rng.permutation(len(lines) * 2) % len(lines)
        row = [np.pad(lines[k], (0, int(rng.integers(800, 6_000)))) for k in order]
        line = np.concatenate(row)
        whole += np.roll(np.resize(line, count), int(rng.integers(len(line))))
    return at_level(whole, 1.0)


def over_prompt(half: str, kind: str, decibels: float, talker: float | None, seed: int) -> MadeCall:
    """A prompt with its echo (none where `decibels` is -inf), and over it a talker at an RMS."""
    rng = np.random.default_rng([seed, *f"{kind}{decibels}{talker is not None}".encode()])
    prompts, talk = material(half)
    voice, prompt = prompts[rng.integers(len(prompts))]
    prompt = at_level(prompt, OUR_LEVEL)
    lead = int(rng.integers(2, 15)) * FRAME
    sent = np.concatenate([np.zeros(lead), prompt, np.zeros(-len(prompt) % FRAME + 25 * FRAME)])
    quiet = decibels == -np.inf
    got = np.zeros(len(sent)) if quiet else echo(sent, kind, decibels, rng)
    got += rng.standard_normal(len(got)) * rng.uniform(3, 30)
    call = MadeCall(telephone(sent), np.zeros((0, FRAME), np.int16))
    call.prompts = [(lead // FRAME, len(sent) // FRAME)]
    if talker is not None:
        lines = [x for v, x in talk if v != voice]
        said = at_level(trimmed(lines[rng.integers(len(lines))]), talker)
        at = lead + int(rng.uniform(0.6, 3.2) * RATE) // FRAME * FRAME
        said = said[: len(got) - at]
        got[at : at + len(said)] += said
        call.barges_in = at // FRAME
    call.got = telephone(got)
    return call


def with_background(
    half: str, behind: str, decibels: float, seed: int, *, sets_in: bool = False,
    again: bool = False, level: float | None = None,
) -> MadeCall:  # fmt: skip
    """A prompt, an answer, a second prompt, a wait of four seconds, all over a background.

    Args:
        behind: a noise, or voice, babble, television; "" for none.
        decibels: so far below the talker.
        sets_in: it begins within the first prompt.
        again: the talker speaks over the second prompt too.
        level: RMS of the talker; a usual one without.
    """
    rng = np.random.default_rng([seed, *f"{behind}{decibels}{sets_in}{again}".encode()])
    prompts, talk = material(half)
    voice, prompt = prompts[rng.integers(len(prompts))]
    second = prompts[rng.integers(len(prompts))][1]
    talker = int(rng.choice([v for v in range(4) if v != voice]))
    lines = [x for v, x in talk if v == talker]
    level = level or 32_768 * 10 ** (rng.uniform(-28, -20) / 20)
    answer = at_level(trimmed(lines[rng.integers(len(lines))]), level)
    call = MadeCall(np.zeros((0, FRAME), np.int16), np.zeros((0, FRAME), np.int16))
    sent, got, at = list[Sound](), list[Sound](), 0
    for what, x in (
        ("lead", np.zeros(int(rng.integers(2, 15)) * FRAME)),
        ("prompt", at_level(prompt, OUR_LEVEL)),
        ("answer", np.pad(answer, (30 * FRAME, 60 * FRAME))), ("think", np.zeros(RATE)),
        ("prompt", at_level(second, OUR_LEVEL)), ("wait", np.zeros(4 * RATE)),
    ):  # fmt: skip
        whole = np.pad(x, (0, -len(x) % FRAME))
        sent.append(whole if what == "prompt" else np.zeros(len(whole)))
        got.append(whole if what == "answer" else np.zeros(len(whole)))
        span = (at // FRAME, (at + len(whole)) // FRAME)
        if what == "prompt":
            call.prompts.append(span)
        elif what == "answer":
            call.answers.append(span)
        at += len(whole)
    ours, theirs = np.concatenate(sent), np.concatenate(got)
    theirs = theirs + rng.standard_normal(len(theirs)) * rng.uniform(3, 30)
    if again:
        said = at_level(trimmed(lines[rng.integers(len(lines))]), level)
        start = call.prompts[1][0] * FRAME + int(rng.uniform(0.6, 2.5) * RATE) // FRAME * FRAME
        said = said[: call.prompts[1][1] * FRAME - start]
        theirs[start : start + len(said)] += said
        call.barges_in = start // FRAME
    if behind:
        many = {"voice": 1, "television": int(rng.integers(2, 4)), "babble": 6}.get(behind, 0)
        x = (others(half, len(theirs), many, {voice, talker}, rng) if many
             else noise(behind, len(theirs), rng))  # fmt: skip
        if sets_in:
            x[: call.prompts[0][0] * FRAME + int(rng.uniform(0.5, 2.5) * RATE)] = 0
        theirs = theirs + x * level * 10 ** (-decibels / 20)
    call.sent, call.got = telephone(ours), telephone(theirs)
    return call
