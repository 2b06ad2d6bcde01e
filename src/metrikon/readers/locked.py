"""Encrypted files: opened with the passwords set on a flow, before any reader looks at them.

A PDF is saved without its encryption, a ZIP (the classic form that its standard calls traditional
encryption) is packed anew; what a reader then gets is the file as its sender saw it.
"""

from __future__ import annotations

import io
import zipfile
import zlib
from collections.abc import Sequence

import pypdfium2 as pdfium
import pypdfium2.raw as raw

from metrikon.ports.reader import Limits

PDF, ZIP = b"%PDF-", b"PK\x03\x04"


def unlocked(data: bytes, passwords: Sequence[str], limits: Limits) -> bytes:
    """The file without its encryption when one of the passwords opens it; else as it is, and its reader says why."""
    if not passwords:
        return data
    if PDF in data[:1024]:
        return next((found for each in passwords if (found := _pdf(data, each)) is not None), data)
    if data.startswith(ZIP):
        return next((found for each in passwords if (found := _zip(data, each, limits)) is not None), data)
    return data


def _pdf(data: bytes, password: str) -> bytes | None:
    try:
        pdf = pdfium.PdfDocument(data, password=password)
    except pdfium.PdfiumError:
        return None
    try:
        out = io.BytesIO()
        pdf.save(out, flags=raw.FPDF_REMOVE_SECURITY)
        return out.getvalue()
    finally:
        pdf.close()


def _zip(data: bytes, password: str, limits: Limits) -> bytes | None:
    try:
        archive = zipfile.ZipFile(io.BytesIO(data))
        members = archive.infolist()
        if not any(each.flag_bits & 1 for each in members) or sum(each.file_size for each in members) > limits.max_expanded:
            return None
        out = io.BytesIO()
        with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
            for each in members[: limits.max_members + 1]:
                with archive.open(each, pwd=password.encode()) as stream:
                    packed.writestr(each.filename, stream.read(each.file_size + 1))
        return out.getvalue()
    except (zipfile.BadZipFile, RuntimeError, NotImplementedError, OSError, ValueError, EOFError, zlib.error):
        return None  # another password may open it; else its reader says what is wrong
