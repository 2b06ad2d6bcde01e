"""Results over 64 KB live in the file store; the journal keeps their hash."""

from __future__ import annotations

from collections.abc import Mapping
from typing import Any

from msgspec.structs import replace

from metrikon.core.flows.state import Entry
from metrikon.core.values.exact import dumps, loads
from metrikon.ports.files import Files

LARGEST = 64_000  # bytes of JSON kept in the journal itself
KEPT = "kept_in_file"
MADE = "made_files"  # of an entry: the hashes of files that the step made


def packed(data: Mapping[str, Any], files: Files) -> Mapping[str, Any]:
    """Data fit for the journal."""
    encoded = dumps(data)
    return data if len(encoded) <= LARGEST else {KEPT: files.put(encoded)}


def unpacked(entry: Entry, files: Files) -> Entry:
    """An entry with its data, wherever it was kept."""
    return replace(entry, data=loads(files.get(str(entry.data[KEPT])))) if KEPT in entry.data else entry
