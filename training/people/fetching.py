"""Get the packages: downloaded by apt, unpacked, never installed, and checked byte for byte."""

from __future__ import annotations

import hashlib
import subprocess
from pathlib import Path

from training.people.lines import UnreadableData

PACKAGES = {
    "flight-of-the-amazon-queen": (
        "40c08fd258d6fe95c46c1eaf5e9137f84ba330657995a281bd887c94a560a0f1"
    ),
    "beneath-a-steel-sky": "e2a25c880220c26a4dfd42904b878cc655afa1c72895f9c932befbd078622934",
    "drascula": "ed4af8e2d41ad446e2f3b73533daa1804e2f13f62f596c0b02b8dc39544f22b4",
    "scummvm": "db6b301cbec31f05387bc7272bdca20a6badadfe5aa29f85a4250630833d3506",
}
"""SHA-256 of each package's file; the last is only read for one table."""


def fetch(folder: Path) -> dict[str, Path]:
    """Where each package lies unpacked, downloading what is not there.

    Raises:
        UnreadableData: another file than the one that the readers were written for.
    """
    found = {}
    for name, wanted in PACKAGES.items():
        place = folder / name
        if not place.is_dir():
            files = sorted(folder.glob(f"{name}_*.deb"))
            if not files:
                subprocess.run(["apt-get", "download", "-q", name], cwd=folder, check=True)
                files = sorted(folder.glob(f"{name}_*.deb"))
            digest = hashlib.sha256(files[-1].read_bytes()).hexdigest()
            if digest != wanted:
                raise UnreadableData(
                    f"{files[-1].name} has the SHA-256 {digest}, not {wanted}: another release; "
                    "check its counts by hand before changing the digest"
                )
            unfinished = folder / f"{name}.part"
            subprocess.run(["dpkg", "-x", files[-1], unfinished], check=True)
            unfinished.rename(place)
        found[name] = place
    return found
