"""The content address of files."""

from __future__ import annotations

import hashlib
import json
from collections.abc import Mapping


def digest(files: Mapping[str, str]) -> str:
    """The content address of a bundle of files: the same files, the same address."""
    canonical = json.dumps(dict(files), sort_keys=True, ensure_ascii=False, separators=(",", ":"))
    return hashlib.sha256(canonical.encode()).hexdigest()
