"""Several files put into one, to be read as one."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Iterable

TOGETHER = "application/x-metrikon-together"  # the mimetype of several files that are read as one
_ALWAYS = (1980, 1, 1, 0, 0, 0)  # so that the same files make the same bytes


def bundled(files: Iterable[tuple[str, bytes]]) -> bytes:
    """Files put into one, in their order. Of a recording the answer of its transcription is given, under the name of the recording."""
    made = io.BytesIO()
    with zipfile.ZipFile(made, "w", zipfile.ZIP_STORED) as archive:
        archive.writestr(zipfile.ZipInfo("mimetype", _ALWAYS), TOGETHER)
        for number, (name, data) in enumerate(files, 1):
            archive.writestr(zipfile.ZipInfo(f"{number}/{name.replace('/', '_')}", _ALWAYS), data)
    return made.getvalue()
