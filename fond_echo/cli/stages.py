"""A stage in a few words."""

from __future__ import annotations

from collections.abc import Iterator

from fond_echo.contract.api import StageOut
from fond_echo.contract.base import JsonObject


def says(stage: StageOut) -> str:
    """The outcome of a stage in a few words."""
    if stage.erased_at is not None:
        return "erased"
    if stage.error:
        return f"failed: {stage.error['what']}"
    out = stage.output
    match stage.name:
        case "fetch":
            return ", ".join(_fetched(out)) or "nothing"
        case "decode":
            return f"{out['codec']} in {out['container']}, {out['clip']['seconds']:.1f} s"
        case "transcribe":
            return f"{out['written']} ({out['source']}, {out['confidence']:.0%})"
        case "route":
            return f"{out['route']}: {out['because']}"
        case "answer":
            return str(out["parts"][0].get("text") or out["parts"][0].get("spoken") or "")
        case "speak":
            count = len(out["parts"])
            return f"{count} {'part' if count == 1 else 'parts'}"
        case "encode":
            return f"{out['clip']['size']:,} bytes, {out['clip']['seconds']:.1f} s"
        case "deliver":
            return ", ".join(f"{part['kind']} {part['state']}" for part in out["parts"])
        case _:
            return ""


def _fetched(out: JsonObject) -> Iterator[str]:
    """The sound and the files that were fetched."""
    if out.get("clip"):
        yield f"{out['clip']['size']:,} bytes"
    for file in out.get("files", []):
        what = f"{file['clip']['size']:,} bytes" if file["clip"] else f"rejected, {file['refused']}"
        yield f"{file['name'] or file['media_type']}: {what}"
