"""The sounds, pictures and documents of an assistant's folder. A bundle of files holds texts; these
are in it as base64 (RFC 4648), under their own names."""

from __future__ import annotations

import base64
import binascii

from fond_echo.core.audio.sniff import CONTAINERS, sniff

SUFFIXES = frozenset(container.suffix for container in CONTAINERS) | {".opus", ".oga"}
MAX_BYTES = 2_000_000
"""Of one file: a minute and a half of uncompressed telephone speech, ten of a voice note."""


ATTACHED = {
    ".png": "image/png", ".jpg": "image/jpeg", ".jpeg": "image/jpeg", ".gif": "image/gif",
    ".webp": "image/webp", ".pdf": "application/pdf",
}  # fmt: skip
"""What can go along with a reply beside sounds, by suffix."""


def suffix(name: str) -> str:
    """What a file's name ends with, in small letters: ".ogg"."""
    return f".{name.lower().rpartition('.')[2]}"


def is_media(name: str) -> bool:
    """Whether a file of this name is a sound, or can go along with a reply."""
    return is_sound(name) or suffix(name) in ATTACHED


def media_type(name: str, data: bytes) -> str:
    """What a file of the folder is."""
    container = sniff(data)
    return container.media_type if container is not None else ATTACHED[suffix(name)]


def picture_type(data: bytes) -> str | None:
    """What kind of picture bytes are, by how they begin."""
    for begin, kind in (
        (b"\x89PNG\r\n\x1a\n", "image/png"), (b"\xff\xd8\xff", "image/jpeg"),
        (b"GIF87a", "image/gif"), (b"GIF89a", "image/gif"),
    ):  # fmt: skip
        if data.startswith(begin):
            return kind
    return "image/webp" if data[:4] == b"RIFF" and data[8:12] == b"WEBP" else None


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
