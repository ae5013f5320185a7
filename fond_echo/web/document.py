"""The OpenAPI document, printed: python -m fond_echo.web.document [--schemas]

With `--schemas` only the shapes, of which the console's types are made (`npm run types`).
"""

from __future__ import annotations

import json
import sys

from fond_echo.contract.base import JsonObject
from fond_echo.settings import Settings
from fond_echo.web.app import create_app


def document(*, schemas_only: bool = False) -> JsonObject:
    """The document of this version."""
    settings = Settings(database="postgresql://nobody@127.0.0.1/none", _env_file=None)
    found: JsonObject = create_app(settings).openapi()
    return {**found, "paths": {}} if schemas_only else found


if __name__ == "__main__":
    print(json.dumps(document(schemas_only="--schemas" in sys.argv[1:]), indent=1))
