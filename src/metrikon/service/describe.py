"""The OpenAPI description as a file: `python -m metrikon.service.describe FILE`. The console's types are made from it."""

from __future__ import annotations

import json
import sys
import tempfile
from pathlib import Path
from typing import Any

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.service.web import create


def description() -> dict[str, Any]:
    """The description of the API, made from the types that check its requests."""
    with tempfile.TemporaryDirectory() as folder:
        app = App(Settings(home=Path(folder)))
        try:
            found: dict[str, Any] = create(app).api_doc
        finally:
            app.close()
    return found


if __name__ == "__main__":
    Path(sys.argv[1]).write_text(json.dumps(description(), indent=1, sort_keys=True) + "\n", "utf-8")
