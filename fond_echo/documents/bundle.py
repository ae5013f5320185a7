"""Bundles: one turn as a file that is replayed elsewhere.

A ZIP archive with `turn.json` (what came in and was before, frozen, and what came of it), the files
of the revision under `assistant/`, the sound where there is some, and `manifest.json` with the
SHA-256 of each. The person is not named in it, and secrets never are.
"""

from __future__ import annotations

import io
import json
import zipfile
from collections.abc import Mapping
from dataclasses import dataclass
from hashlib import sha256

from pydantic import BaseModel, ValidationError

from fond_echo.contract.base import JsonObject
from fond_echo.contract.replay import TurnOutcome
from fond_echo.documents.case import CaseFile
from fond_echo.documents.errors import NotABundle

FORMAT = "fond-echo turn 1"
MAX_FILES, MAX_BYTES = 1_000, 100_000_000
TURN, MANIFEST, FOLDER, SOUND = "turn.json", "manifest.json", "assistant/", "sound/"


@dataclass(frozen=True)
class Bundle:
    """What a bundle holds.

    Attributes:
        turn: what came in, what was before, and what came of it.
        files: of the revision, by name: texts, and base64 of sounds and pictures.
        sound: that came in, with its file name; empty where it was written.
    """

    turn: JsonObject
    files: Mapping[str, str]
    sound: bytes = b""
    sound_name: str = ""


class BundledTurn(BaseModel):
    """What `turn.json` must hold to be replayed."""

    case: CaseFile
    before: TurnOutcome
    assistant: str
    revision: str
    made_by: str


def packed(bundle: Bundle) -> bytes:
    """A bundle as a file."""
    parts = {TURN: json.dumps(bundle.turn, indent=1, ensure_ascii=False).encode()}
    parts |= {FOLDER + name: text.encode() for name, text in bundle.files.items()}
    if bundle.sound:
        parts[SOUND + bundle.sound_name] = bundle.sound
    digests = {name: sha256(data).hexdigest() for name, data in sorted(parts.items())}
    parts[MANIFEST] = json.dumps({"format": FORMAT, "files": digests}, indent=1).encode()
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        for name, data in parts.items():
            # The same turn gives the same bytes, whenever it is bundled.
            archive.writestr(zipfile.ZipInfo(name, (2026, 1, 1, 0, 0, 0)), data)
    return out.getvalue()


def unpacked(data: bytes) -> Bundle:
    """Read a bundle; nothing of it is written anywhere, or run.

    Raises:
        NotABundle: with what is wrong with it.
    """
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            infos = archive.infolist()
            if len(infos) > MAX_FILES or sum(each.file_size for each in infos) > MAX_BYTES:
                raise NotABundle(f"it has over {MAX_FILES} files, or {MAX_BYTES:,} bytes")
            parts = {each.filename: archive.read(each) for each in infos}
        manifest = json.loads(parts.pop(MANIFEST))
        turn = json.loads(parts[TURN])
    except (zipfile.BadZipFile, KeyError, ValueError, RuntimeError, NotImplementedError) as error:
        remedy = "make one: fond-echo turn bundle ID -o FILE"
        raise NotABundle(f"not a bundle of a turn: {error}", remedy=remedy) from error
    if not isinstance(manifest, dict) or manifest.get("format") != FORMAT:
        made = manifest.get("format") if isinstance(manifest, dict) else manifest
        raise NotABundle(f"it is of the kind {made!r}", remedy=f"this one reads {FORMAT!r}")
    listed = manifest.get("files")
    found = {name: sha256(part).hexdigest() for name, part in parts.items()}
    if listed != found:
        known = listed if isinstance(listed, dict) else {}
        other = sorted(name for name in {*found, *known} if found.get(name) != known.get(name))
        raise NotABundle(f"it was changed since it was made: {other[0] if other else MANIFEST}")
    try:
        BundledTurn.model_validate(turn)
        files = {
            n.removeprefix(FOLDER): p.decode() for n, p in parts.items() if n.startswith(FOLDER)
        }
    except ValidationError as error:
        first = error.errors()[0]
        where = ".".join(map(str, first["loc"])) or "all of it"
        raise NotABundle(f"{TURN} holds no turn: {where}: {first['msg']}") from error
    except UnicodeDecodeError as error:
        raise NotABundle("a file of its assistant is no UTF-8 text") from error
    sounds = [name for name in parts if name.startswith(SOUND)]
    return Bundle(
        turn,
        files,
        parts[sounds[0]] if sounds else b"",
        sounds[0].removeprefix(SOUND) if sounds else "",
    )
