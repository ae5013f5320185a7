"""The sounds, pictures and documents of an assistant's folder. A bundle of files holds texts; these
are in it as base64 (RFC 4648), under their own names."""

from __future__ import annotations

import base64
import binascii
from collections.abc import Iterator, Mapping

from fond_echo.core.audio.sniff import CONTAINERS, sniff
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.errors import FileError, nearest
from fond_echo.documents.source import Path, Source

SUFFIXES = frozenset(container.suffix for container in CONTAINERS) | {".opus", ".oga"}
MAX_BYTES = 2_000_000
"""Of one file: a minute and a half of uncompressed telephone speech, ten of a voice note."""


ATTACHED = {
    ".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".gif": "image/gif",
    ".webp": "image/webp", ".pdf": "application/pdf",
}  # fmt: skip
"""What can go along with a reply beside sounds, by suffix."""


def is_media(name: str) -> bool:
    """Whether a file of this name is a sound, or can go along with a reply."""
    return is_sound(name) or _suffix(name) in ATTACHED


def media_type(name: str, data: bytes) -> str:
    """What a file of the folder is."""
    container = sniff(data)
    return container.media_type if container is not None else ATTACHED[_suffix(name)]


def picture_type(data: bytes) -> str | None:
    """What kind of picture bytes are, by how they begin."""
    for begin, kind in (
        (b"\x89PNG\r\n\x1a\n", "image/png"), (b"\xff\xd8\xff", "image/jpeg"),
        (b"GIF87a", "image/gif"), (b"GIF89a", "image/gif"),
    ):  # fmt: skip
        if data.startswith(begin):
            return kind
    return "image/webp" if data[:4] == b"RIFF" and data[8:12] == b"WEBP" else None


def _suffix(name: str) -> str:
    return f".{name.lower().rpartition('.')[2]}"


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


def media_errors(
    assistant: AssistantFile, files: Mapping[str, str], source: Source
) -> Iterator[FileError]:
    """What is wrong with the sounds and files of a bundle, and with what replies say of them;
    those that are used are given to the assistant."""
    media = {name: text for name, text in files.items() if is_media(name)}
    sounds = {name: text for name, text in media.items() if is_sound(name)}
    for name, text in media.items():
        yield from _file_errors(name, text)
    for _, path, reply in assistant.replies():
        for number, attachment in enumerate(reply.attachments):
            if attachment.file and attachment.file not in media:
                known = nearest(attachment.file, media)
                place = (*path, "attachments", number, "file")
                yield source.error(place, f"there is no file {attachment.file!r}", known)
        yield from _sound_errors(reply.sound, (*path, "sound"), sounds, source)
    if assistant.greeting is not None:
        yield from _sound_errors(assistant.greeting.sound, ("greeting", "sound"), sounds, source)
    assistant.keep_media(media)


def _sound_errors(
    name: str, path: Path, sounds: Mapping[str, str], source: Source
) -> Iterator[FileError]:
    if name and name not in sounds:
        known = nearest(name, sounds)
        yield source.error(path, f"there is no sound {name!r}", known)


def _file_errors(name: str, text: str) -> Iterator[FileError]:
    try:
        data = bytes_of(text)
    except ValueError:
        yield FileError(name, 1, 1, "the file is not base64", "put the folder with assistant put")
        return
    if len(data) > MAX_BYTES:
        what = f"the file has {len(data):,} bytes"
        yield FileError(name, 1, 1, what, f"at most {MAX_BYTES:,}: a compressed format is smaller")
    elif not is_sound(name):
        kind = "application/pdf" if data.startswith(b"%PDF-") else picture_type(data)
        if kind != ATTACHED[_suffix(name)]:
            what = f"this is not what its name says, {ATTACHED[_suffix(name)]}"
            yield FileError(name, 1, 1, what, f"it begins like {kind or 'something else'}")
    elif sniff(data) is None:
        known = ", ".join(container.name for container in CONTAINERS)
        yield FileError(
            name, 1, 1, "this is not sound of a kind that is read here", f"known: {known}"
        )
