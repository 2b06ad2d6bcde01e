"""Encrypted files: opened with the passwords set on a flow, before any reader looks at them.

A PDF is saved without its encryption, a ZIP (traditional or AES) is packed anew, an office document (ECMA-376, agile and standard
encryption) is taken out of its container; what a reader then gets is the file as its sender saw it.
"""

from __future__ import annotations

import io
import struct
import zipfile
import zlib
from collections.abc import Sequence

import pypdfium2 as pdfium
import pypdfium2.raw as raw

from metrikon.ports.reader import Limits

PDF, ZIP, CONTAINER = b"%PDF-", b"PK\x03\x04", b"\xd0\xcf\x11\xe0"


def unlocked(data: bytes, passwords: Sequence[str], limits: Limits) -> bytes:
    """The file without its encryption when one of the passwords opens it; else as it is, and its reader says why."""
    if not passwords:
        return data
    if PDF in data[:1024]:
        return next((found for each in passwords if (found := _pdf(data, each)) is not None), data)
    if data.startswith(ZIP):
        return next((found for each in passwords if (found := _zip(data, each, limits)) is not None), data)
    if data.startswith(CONTAINER):
        return next((found for each in passwords if (found := _office(data, each)) is not None), data)
    return data


def _office(data: bytes, password: str) -> bytes | None:
    import msoffcrypto  # wanted seldom, and slow to import
    from msoffcrypto.exceptions import DecryptionError, FileFormatError, InvalidKeyError, ParseError

    out = io.BytesIO()
    try:
        office = msoffcrypto.OfficeFile(io.BytesIO(data))
        office.load_key(password=password, verify_password=True)
        office.decrypt(out)
    except (
        DecryptionError,
        FileFormatError,
        InvalidKeyError,
        ParseError,
        OSError,
        ValueError,
        KeyError,
        struct.error,
        zipfile.BadZipFile,
        AttributeError,
    ):
        return None  # not this password, or no encrypted document at all
    return out.getvalue()


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
    import pyzipper

    try:
        archive = pyzipper.AESZipFile(io.BytesIO(data))
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
