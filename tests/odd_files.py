"""Office files of few bytes that are many when they are laid out."""

from __future__ import annotations

import io
import zipfile
from collections.abc import Mapping, Sequence

_SPACES = " ".join(f'xmlns:{each}="urn:oasis:names:tc:opendocument:xmlns:{each}:1.0"' for each in ("office", "table", "text"))
_WORD = "http://schemas.openxmlformats.org/wordprocessingml/2006/main"


def packed(parts: Mapping[str, bytes]) -> bytes:
    """A ZIP archive of some parts."""
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name, data in parts.items():
            made.writestr(name, data)
    return out.getvalue()


def repeated(rows: Sequence[int], columns: int) -> bytes:
    """An ODS with a row for each count, repeated so often, with one cell that is repeated as often as there are columns."""
    cell = f'<table:table-cell office:value-type="string" table:number-columns-repeated="{columns}"><text:p>a</text:p></table:table-cell>'
    told = "".join(f'<table:table-row table:number-rows-repeated="{count}">{cell}</table:table-row>' for count in rows)
    content = f'<office:document-content {_SPACES}><office:body><office:spreadsheet><table:table table:name="Rows">{told}</table:table></office:spreadsheet></office:body></office:document-content>'
    return packed({"mimetype": b"application/vnd.oasis.opendocument.spreadsheet", "content.xml": content.encode()})


def word(body: str) -> bytes:
    """A DOCX with this body."""
    return packed({"word/document.xml": f'<w:document xmlns:w="{_WORD}"><w:body>{body}</w:body></w:document>'.encode()})
