"""What a file is, by its first bytes."""

from __future__ import annotations

from metrikon.ports.reader import Refused

_SIGNATURES = (
    (b"\x89PNG\r\n\x1a\n", "png"),
    (b"\xff\xd8\xff", "jpeg"),
    (b"II*\x00", "tiff"),
    (b"MM\x00*", "tiff"),
)
_KNOWN = (
    (b"PK\x03\x04", "a ZIP archive or an office document"),
    (b"\xd0\xcf\x11\xe0", "an old office document"),
    (b"MZ", "a program"),
    (b"\x7fELF", "a program"),
    (b"GIF8", "a GIF picture"),
    (b"{\\rtf", "an RTF text"),
    (b"%!PS", "a PostScript file"),
    (b"\x1f\x8b", "a compressed file"),
)
READ = "PDF, PNG, JPEG, TIFF and WebP files"


def detect(data: bytes) -> str:
    """The format: "pdf", "png", "jpeg", "tiff" or "webp". Raises `Refused` for anything else."""
    if not data:
        raise Refused("empty", "The file is empty (0 bytes). Send it again from where it came.")
    for signature, name in _SIGNATURES:
        if data.startswith(signature):
            return name
    if data[:4] == b"RIFF" and data[8:12] == b"WEBP":
        return "webp"
    if b"%PDF-" in data[:1024]:
        return "pdf"
    for signature, words in _KNOWN:
        if data.startswith(signature):
            raise Refused("unknown-format", f"The file is {words}, whatever its name says. Metrikon reads {READ}.")
    text = _looks_like_text(data)
    what = "a text file" if text else "of a format that is not known here"
    raise Refused("unknown-format", f"The file is {what}, whatever its name says. Metrikon reads {READ}.")


def _looks_like_text(data: bytes) -> bool:
    head = data[:2000]
    return not any(byte < 9 for byte in head)
