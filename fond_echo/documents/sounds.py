"""The sound files of an assistant's folder. A bundle of files holds texts; a sound is in it as
base64 (RFC 4648), under its own name."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterator, Mapping

from fond_echo.core.audio.sniff import CONTAINERS, sniff
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.errors import FileError, nearest
from fond_echo.documents.source import Source

SUFFIXES = frozenset(container.suffix for container in CONTAINERS) | {".opus", ".oga"}
MAX_BYTES = 2_000_000
"""Of one sound: a minute and a half of uncompressed telephone speech, ten of a voice note."""


def is_sound(name: str) -> bool:
    """Whether a file of this name holds sound."""
    return any(name.lower().endswith(suffix) for suffix in SUFFIXES)


def as_text(data: bytes) -> str:
    """The bytes of a sound as they stand in a bundle."""
    return base64.b64encode(data).decode("ascii")


def bytes_of(text: str) -> bytes:
    """The bytes of a sound in a bundle. Raises ValueError where it is not base64."""
    try:
        return base64.b64decode(text, validate=True)
    except binascii.Error as error:
        raise ValueError(str(error)) from error


def sound_errors(
    assistant: AssistantFile, files: Mapping[str, str], source: Source
) -> Iterator[FileError]:
    """What is wrong with the sounds of a bundle, and with what replies say of them; those that
    are used are given to the assistant."""
    sounds = {name: text for name, text in files.items() if is_sound(name)}
    for name, text in sounds.items():
        yield from _file_errors(name, text)
    for _, path, reply in assistant.replies():
        if not reply.sound:
            continue
        if reply.sound not in sounds:
            known = nearest(reply.sound, sounds)
            yield source.error((*path, "sound"), f"there is no sound {reply.sound!r}", known)
    assistant.keep_sounds(sounds)


def _file_errors(name: str, text: str) -> Iterator[FileError]:
    try:
        data = bytes_of(text)
    except ValueError:
        yield FileError(name, 1, 1, "the sound is not base64", "put the folder with assistant put")
        return
    if len(data) > MAX_BYTES:
        what = f"the sound has {len(data):,} bytes"
        yield FileError(name, 1, 1, what, f"at most {MAX_BYTES:,}: a compressed format is smaller")
    elif sniff(data) is None:
        known = ", ".join(container.name for container in CONTAINERS)
        yield FileError(
            name, 1, 1, "this is not sound of a kind that is read here", f"known: {known}"
        )
