"""talk: a conversation with an assistant from the terminal, typed, recorded or from files."""

from __future__ import annotations

import argparse
import base64
import mimetypes
import sys
from collections.abc import Sequence
from pathlib import Path
from typing import TYPE_CHECKING, Any

from fond_echo.cli.output import add_service, service
from fond_echo.contract.asking import FileIn
from fond_echo.core.audio.sniff import sniff

if TYPE_CHECKING:
    from fond_echo.client import FondEcho
    from fond_echo.contract.asking import AskOut

HELP = """Type something and press Enter. An empty line records from the microphone where there is
one, until Enter is pressed again; @FILE sends a sound file, or a picture or another
file. An end of input ends the talk."""
RATE = 16_000


def add(commands: Any) -> None:
    talk = commands.add_parser(
        "talk", help="talk with an assistant from the terminal", epilog=HELP,
        formatter_class=argparse.RawDescriptionHelpFormatter,
    )  # fmt: skip
    talk.add_argument("channel", help="an HTTP channel of the service")
    talk.add_argument("--contact", default="terminal", help="who talks (terminal)")
    talk.add_argument("--answers", type=Path, metavar="FOLDER", help="write spoken answers here")
    talk.add_argument(
        "--spoken-reply", action="store_true", help="have typed words answered by voice, too"
    )
    add_service(talk)
    talk.set_defaults(run=_talk)


def _microphone() -> Any:
    """The sound device library, where it is installed and finds a microphone; else None."""
    try:
        import sounddevice
    except (ImportError, OSError):
        return None
    try:
        sounddevice.query_devices(kind="input")
    except (ValueError, sounddevice.PortAudioError):
        return None
    return sounddevice


def _talk(options: argparse.Namespace) -> int:
    device = _microphone()
    if sys.stdin.isatty():
        print(HELP if device else "Type something and press Enter; @FILE sends a file.")
    if options.answers:
        options.answers.mkdir(parents=True, exist_ok=True)
    number = 0
    with service(options) as echo:
        while (line := _line()) is not None:
            sound, along = None, list[FileIn]()
            if line.startswith("@"):
                file = Path(line[1:].strip())
                try:
                    data = file.read_bytes()
                except OSError as error:
                    print(f"fond-echo: {file}: {error.strerror}", file=sys.stderr)
                    continue
                if sniff(data) is not None:
                    sound = data
                else:
                    along, line = [_attached(file, data)], ""
            elif not line.strip():
                if device is None:
                    print("fond-echo: there is no microphone: type, or send @FILE", file=sys.stderr)
                    continue
                sound = _recorded(device)
            number += 1
            answer = _asked(echo, options, line, sound, along)
            _show(answer)
            _play(echo, answer, device, options.answers, number)
    return 0


def _line() -> str | None:
    try:
        return input("you       " if sys.stdin.isatty() else "")
    except EOFError:
        return None


def _attached(file: Path, data: bytes) -> FileIn:
    kind = mimetypes.guess_type(file.name)[0] or ""
    return FileIn(content=base64.b64encode(data).decode(), media_type=kind, name=file.name[:200])


def _asked(
    echo: FondEcho, options: argparse.Namespace, line: str, sound: bytes | None,
    along: Sequence[FileIn],
) -> AskOut:  # fmt: skip
    if sound is not None:
        return echo.ask_aloud(options.channel, sound, options.contact)
    spoken = True if options.spoken_reply else None
    return echo.ask(options.channel, line, options.contact, spoken, along)


def _show(answer: AskOut) -> None:
    if answer.heard is not None:
        print(f"heard     {answer.heard.written or '(nothing)'}")
    if answer.route:
        print(f"route     {answer.route}")
    print(f"answer    {answer.answer or answer.state}")
    for choice in answer.choices:
        print(f"          · {choice.label}")
    for place in answer.places:
        print(f"          {place.name}: {place.uri}")


def _play(echo: FondEcho, answer: AskOut, device: Any, folder: Path | None, number: int) -> None:
    if answer.sound is None or (folder is None and device is None):
        return
    data = echo.sound(answer.sound.clip)
    if folder is not None:
        file = folder / f"answer-{number:03d}.ogg"
        file.write_bytes(data)
        print(f"          {file}")
    elif device is not None:
        from fond_echo.core.audio.containers import decode

        clip = decode(data).clip
        device.play(clip.samples, clip.rate)
        device.wait()


def _recorded(device: Any) -> bytes:
    """What is said until Enter is pressed, as FLAC."""
    import numpy as np

    from fond_echo.core.audio.clip import Clip
    from fond_echo.core.audio.containers import encode

    blocks: list[Any] = []

    def take(data: Any, *_: Any) -> None:
        blocks.append(data[:, 0].copy())

    with device.InputStream(RATE, channels=1, dtype="float32", callback=take):
        input("          recording; press Enter to stop ")
    samples = np.concatenate(blocks) if blocks else np.zeros(RATE // 10, np.float32)
    return encode(Clip(samples, RATE), "flac")
