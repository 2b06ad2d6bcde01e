"""What a file is, by its bytes and never by its name."""

from __future__ import annotations

import io
import json
import re
import zipfile
from dataclasses import dataclass

from metrikon.core.documents.bundling import TOGETHER
from metrikon.ports.reader import Refused
from metrikon.readers.charset import decoded

_SIGNATURES = (
    (b"\x89PNG\r\n\x1a\n", "png", "it begins as PNG pictures do"),
    (b"\xff\xd8\xff", "jpeg", "it begins as JPEG pictures do"),
    (b"II*\x00", "tiff", "it begins as TIFF pictures do"),
    (b"MM\x00*", "tiff", "it begins as TIFF pictures do"),
    (b"OggS", "ogg", "it begins as Ogg audio does"),
    (b"ID3", "mp3", "it begins as MP3 audio does"),
    (b"fLaC", "flac", "it begins as FLAC audio does"),
)
_KNOWN = (
    (b"\xd0\xcf\x11\xe0", "an old office document (before 2007); save it anew as DOCX or XLSX"),
    (b"MZ", "a program"),
    (b"\x7fELF", "a program"),
    (b"GIF8", "a GIF picture"),
    (b"{\\rtf", "an RTF text; save it anew as DOCX or PDF"),
    (b"%!PS", "a PostScript file; make a PDF of it"),
    (b"\x1f\x8b", "a compressed file; send what is in it, or a ZIP"),
    (b"Rar!", "a RAR archive; send a ZIP"),
    (b"7z\xbc\xaf", "a 7z archive; send a ZIP"),
)
READ = (
    "PDF, pictures (PNG, JPEG, TIFF, WebP), DOCX, ODT, XLSX, ODS, CSV, HTML, mails (EML), transcripts (WebVTT, SRT, text, JSON), "
    "XML and e-invoices, vCard, iCalendar, JSON, plain text, audio and ZIP archives of these"
)
_MAIL = re.compile(
    r"^(?:From|To|Subject|Date|Received|Return-Path|Message-ID|MIME-Version|Delivered-To|DKIM-Signature|X-[\w-]+|Content-Type):", re.I | re.M
)
_HTML = re.compile(r"<(?:!doctype\s+html|html|head|body|table|div|article|main|section|h1|p)\b", re.I)
_SRT = re.compile(r"^\s*\d+\s*\r?\n\s*\d{1,3}:\d{1,2}:\d{1,2}[.,:]\d{1,3}\s*-+>", re.M)


@dataclass(frozen=True)
class Detected:
    """A format, and how it was found."""

    format: str
    why: str


def detect(data: bytes) -> Detected:
    """The format of these bytes. Raises `Refused` for what no reader takes."""
    if not data:
        raise Refused("empty", "The file is empty (0 bytes). Send it again from where it came.")
    for signature, name, why in _SIGNATURES:
        if data.startswith(signature):
            return Detected(name, why)
    if data[:4] == b"RIFF" and data[8:12] in (b"WEBP", b"WAVE"):
        return Detected("webp" if data[8:12] == b"WEBP" else "wav", f"its RIFF header says {data[8:12].decode()}")
    if data[4:8] == b"ftyp":
        return _boxed(data[8:12])
    if data[:2] in (b"\xff\xfb", b"\xff\xf3", b"\xff\xf2"):
        return Detected("mp3", "it begins with an MPEG audio frame")
    if data.startswith((b"PK\x03\x04", b"PK\x05\x06")):
        return _zipped(data)
    if b"%PDF-" in data[:1024]:
        return Detected("pdf", "it holds the mark of PDF files at its start")
    if data.startswith(b"\xd0\xcf\x11\xe0") and "EncryptedPackage".encode("utf-16-le") in data:
        raise Refused("encrypted", "The office document is encrypted. Set the password that opens it on the flow, or ask for the file without one.")
    for signature, words in _KNOWN:
        if data.startswith(signature):
            raise Refused("unknown-format", f"The file is {words}, whatever its name says. Metrikon reads {READ}.")
    return _text(data)


def _boxed(brand: bytes) -> Detected:
    if brand in (b"heic", b"heix", b"mif1", b"msf1", b"heim", b"hevc"):
        raise Refused("unknown-format", "The file is a HEIC photo, which cannot be read here. Set the camera to JPEG, or send the photo as JPEG.")
    if brand in (b"M4A ", b"mp42", b"isom", b"M4B ", b"mp41", b"dash"):
        return Detected("m4a", f"its first box names the brand {brand.decode('latin-1').strip()}")
    raise Refused(
        "unknown-format", f"The file is a film or picture of the kind {brand.decode('latin-1')!r}, which is not read here. Metrikon reads {READ}."
    )


def _zipped(data: bytes) -> Detected:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            names = set(archive.namelist()[:5000])
            kind = (
                archive.read("mimetype")[:100].decode("latin-1").strip()
                if "mimetype" in names and archive.getinfo("mimetype").file_size < 200
                else ""
            )
    except (zipfile.BadZipFile, OSError, RuntimeError, NotImplementedError, EOFError, ValueError) as error:
        raise Refused(
            "broken", "The file begins as a ZIP archive but cannot be opened as one. It is broken or cut off; ask the sender for a new one."
        ) from error
    if "word/document.xml" in names:
        return Detected("docx", "it is a ZIP archive that holds word/document.xml")
    if "xl/workbook.xml" in names or "xl/workbook.bin" in names:
        return Detected("xlsx", "it is a ZIP archive that holds an xl/workbook")
    if kind == "application/vnd.oasis.opendocument.text":
        return Detected("odt", "it is a ZIP archive whose mimetype names an OpenDocument text")
    if kind == "application/vnd.oasis.opendocument.spreadsheet":
        return Detected("ods", "it is a ZIP archive whose mimetype names an OpenDocument sheet")
    if kind == TOGETHER:
        return Detected("together", "it is made of several files that are read as one")
    if kind:
        raise Refused("unknown-format", f"The file is a document of the kind {kind!r}, which is not read here. Metrikon reads {READ}.")
    return Detected("zip", "it is a ZIP archive")


def _text(data: bytes) -> Detected:
    found = decoded(data)
    if found is None:
        raise Refused("unknown-format", f"The file is of a format that is not known here, whatever its name says. Metrikon reads {READ}.")
    text = found.text.lstrip("\ufeff")
    head = text[:8000].lstrip()
    if head.startswith("WEBVTT"):
        return Detected("vtt", "it begins with WEBVTT")
    if _SRT.search(head[:600]):
        return Detected("srt", "it begins with a numbered time line, as SRT does")
    if head[:15].upper().startswith("BEGIN:VCARD"):
        return Detected("vcard", "it begins with BEGIN:VCARD")
    if head[:15].upper().startswith("BEGIN:VCALENDAR"):
        return Detected("icalendar", "it begins with BEGIN:VCALENDAR")
    if head.startswith(("{", "[")) and _is_json(text):
        return Detected("json", "it is JSON from its first to its last character")
    if _HTML.search(head) and head.startswith("<"):
        return Detected("html", "it begins with a tag of HTML")
    if head.startswith(("<?xml", "<!DOCTYPE")) or re.match(r"<[\w:.-]+[\s>/]", head):
        return Detected("xml", "it begins with a tag of XML")
    lines = text[:4000].splitlines()
    if len(_MAIL.findall(text[:4000])) >= 2 and lines and re.match(r"^(?:From |[\w-]+:)", lines[0]):
        return Detected("eml", "it begins with the header lines of a mail")
    if _HTML.search(head):
        return Detected("html", "it holds tags of HTML")
    from metrikon.readers.separated import dialect

    found_dialect = dialect(text)
    if found_dialect is not None:
        name = {",": "commas", ";": "semicolons", "\t": "tabs", "|": "bars"}[found_dialect.separator]
        return Detected("csv", f"its lines hold {found_dialect.columns} values each, parted by {name}")
    return Detected("text", f"it is plain text ({found.name})")


def _is_json(text: str) -> bool:
    try:
        json.loads(text)
    except (ValueError, RecursionError):
        return False
    return True
