"""The OpenAPI description as a file: `python -m metrikon.service.describe FILE`. The console's types are made from it."""

from __future__ import annotations

import json
import sys
from pathlib import Path

from metrikon.service.web import description

if __name__ == "__main__":
    Path(sys.argv[1]).write_text(json.dumps(description(), indent=1, sort_keys=True) + "\n", "utf-8")
