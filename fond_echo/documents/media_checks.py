"""What is wrong with the sounds, pictures and documents of an assistant's folder."""

from __future__ import annotations

from collections.abc import Iterator, Mapping

from fond_echo.core.audio.sniff import CONTAINERS, sniff
from fond_echo.documents.assistant import AssistantFile
from fond_echo.documents.errors import FileError, nearest
from fond_echo.documents.media import (
    ATTACHED,
    MAX_BYTES,
    bytes_of,
    is_media,
    is_sound,
    picture_type,
    suffix,
)
from fond_echo.documents.source import Path, Source


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
        if kind != ATTACHED[suffix(name)]:
            what = f"this is not what its name says, {ATTACHED[suffix(name)]}"
            yield FileError(name, 1, 1, what, f"it begins like {kind or 'something else'}")
    elif sniff(data) is None:
        known = ", ".join(container.name for container in CONTAINERS)
        yield FileError(
            name, 1, 1, "this is not sound of a kind that is read here", f"known: {known}"
        )
