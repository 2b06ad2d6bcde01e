"""read: make a file readable."""

from __future__ import annotations

from typing import Any

from pydantic import Field

from metrikon.core.flows.around import Around, closed, listed
from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import ANYTHING, Kind, Schema
from metrikon.core.flows.words import shown


class Read(Form):
    """Make a file readable: pages, words with boxes, tables."""

    file: str = Field("${item.file}", description="The file to read.")
    together: bool = Field(False, description="Read the files within an archive as one document, each page under the name of its file.")
    along: Any = Field(None, description="More files that are read as one with it: a list of hashes, or of parts of another read step.")


def _result(parameters: Read, around: Around) -> Schema:
    return closed(
        {
            "document": {"type": "string", "description": "The document, by the hash of its file."},
            "format": {"type": "string", "description": "What the file is, such as pdf."},
            "pages": {"type": "integer", "description": "How many pages it has."},
            "warnings": listed({"type": "string"}),
            "documents": listed(closed({"pages": listed({"type": "integer"}), "box": ANYTHING, "title": {"type": "string"}})),
            "parts": listed(
                closed({"name": {"type": "string"}, "file": {"type": "string"}, "size": {"type": "integer"}, "role": {"type": "string"}})
            ),
        }
    )


def _tell(parameters: Read) -> str:
    more = ", with all files within it as one document" if parameters.together else ""
    file = "the file that came in" if parameters.file == "${item.file}" else shown(parameters.file)
    return f"Make {file} readable{more}{', together with ' + shown(parameters.along) if parameters.along else ''}."


SAMPLE = """\
read: {file: "${item.file}"}
"""
KIND = Kind(
    "read",
    Read,
    result=_result,
    needs=("file",),
    tell=_tell,
    sample=SAMPLE,
)
