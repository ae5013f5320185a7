"""dial: a handset in the terminal. Words are said, digits are pressed, and what is answered is
shown as the built-in recognizer hears it."""

from __future__ import annotations

import argparse
import asyncio
import re
from collections.abc import Iterator
from typing import TYPE_CHECKING, Any

if TYPE_CHECKING:
    from fond_echo.core.audio.clip import Clip
    from fond_echo.core.recognition.recognizer import Recognizer
    from fond_echo.core.synthesis.synthesizer import Synthesizer
    from fond_echo.softphone.handset import Handset

KEYS = re.compile(r"[0-9*#]+")
VOICE = "curlew"


def add(commands: Any) -> None:
    dial = commands.add_parser(
        "dial",
        help="call a phone channel from the terminal: say things, press keys, see the answers",
    )
    dial.add_argument("number", help="sip:NUMBER@HOST:PORT")
    dial.add_argument(
        "steps", nargs="*", help="words are said, digits pressed; none: read from the terminal"
    )
    dial.add_argument("--name", default="isla", help="the caller's name (isla)")
    dial.add_argument("--voice", default=VOICE, help=f"in which voice things are said ({VOICE})")
    dial.set_defaults(run=_dial)


def _dial(options: argparse.Namespace) -> int:
    steps = iter(options.steps) if options.steps else _typed()
    return asyncio.run(_call(options.number, options.name, options.voice, steps))


def _typed() -> Iterator[str]:
    while True:
        try:
            line = input("> ").strip()
        except EOFError:
            return
        if not line:
            return
        yield line


async def _call(number: str, name: str, voice: str, steps: Iterator[str]) -> int:
    from fond_echo.softphone.handset import handset
    from fond_echo.speech.material import recognizer, synthesizer

    engine, synthesis = recognizer(), synthesizer()
    async with handset(name) as caller:
        print(f"calling {number} …", flush=True)
        await caller.dial(number)
        if not caller.answered.is_set():
            assert caller.ended is not None
            print(
                f"not answered: {caller.ended.cause} ({caller.ended.status or 'no answer at all'})"
            )
            return 1
        await _show(caller, engine)
        while not caller.over.is_set():
            step = await asyncio.to_thread(next, steps, "")
            if not step:
                break
            if KEYS.fullmatch(step):
                print(f"  pressed   {step}", flush=True)
                caller.press(step)
            else:
                print(f"  said      {step}", flush=True)
                await caller.say(_spoken(synthesis, step, voice))
            await _show(caller, engine)
        reported = "they hung up" if caller.over.is_set() else "you hung up"
        quality = caller.stream.quality() if caller.stream is not None else None
        sounds = f"; MOS {quality.mos}" if quality is not None else ""
        print(f"{reported}{sounds}")
    return 0


def _spoken(synthesis: Synthesizer, text: str, voice: str) -> Clip:
    from fond_echo.core.audio.clip import join

    return join([part.clip for part in synthesis.speak(text, voice)])


async def _show(caller: Handset, engine: Recognizer) -> None:
    """What is said next, and how long it was waited for."""
    from fond_echo.core.audio.resample import at_rate
    from fond_echo.core.recognition.symbols import RATE
    from fond_echo.core.recognition.transcript import Expected

    clip = await caller.listen()
    waited = _silence_before(clip)
    heard = await asyncio.to_thread(engine.transcribe, at_rate(clip, RATE), Expected(()))
    words = (
        engine.language.writing.written_text(heard.spoken.split()) if heard.spoken else "(nothing)"
    )
    print(f"  heard     {words}   [after {waited:.2f} s]", flush=True)


def _silence_before(clip: Clip) -> float:
    """Seconds before something is said."""
    loud = abs(clip.samples) > 0.02
    return float(loud.argmax()) / clip.rate if loud.any() else clip.seconds
