"""The JSON Schema of assistant.yaml, published in the package for editors.

python -m fond_echo.documents.schema      # writes it anew
"""

from __future__ import annotations

import json
from importlib import resources
from pathlib import Path

from fond_echo.documents.assistant import AssistantFile

FILE = "assistant.schema.json"


def made() -> str:
    """The schema of the shapes as they are now."""
    schema = AssistantFile.model_json_schema()
    schema["$schema"] = "https://json-schema.org/draft/2020-12/schema"
    return json.dumps(schema, indent=1, sort_keys=True) + "\n"


def published() -> str:
    """The schema as it lies in the package."""
    return (resources.files("fond_echo.documents") / FILE).read_text("utf-8")


if __name__ == "__main__":
    Path(__file__).with_name(FILE).write_text(made(), "utf-8")
