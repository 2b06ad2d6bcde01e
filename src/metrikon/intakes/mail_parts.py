"""The attachments of a mail by its structure (BODYSTRUCTURE, RFC 3501, 7.4.2), without the mail itself."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass
from email.header import decode_header, make_header
from typing import Any

from metrikon.core.values.text import clean

DEEPEST, MOST = 12, 200


@dataclass(frozen=True)
class Attached:
    """An attachment: its name, media type and size in bytes as sent."""

    name: str
    media: str
    size: int


def attached(structure: Any) -> list[Attached]:
    """What is attached to a mail, as its server tells."""
    found: list[Attached] = []
    for each in _leaves(structure, 0):
        if len(found) >= MOST:
            break
        found.append(each)
    return found


def _leaves(part: Any, depth: int) -> Iterator[Attached]:
    if depth > DEEPEST or not isinstance(part, Sequence) or isinstance(part, bytes) or not part:
        return
    if isinstance(part[0], list):  # several parts
        for each in part[0]:
            yield from _leaves(each, depth + 1)
        return
    if len(part) < 7 or not isinstance(part[0], bytes):
        return
    media = f"{_text(part[0])}/{_text(part[1])}".lower()
    named = _pairs(part[2])
    disposition = next((each for each in part[8:] if isinstance(each, tuple) and each and isinstance(each[0], bytes)), ())
    about = _pairs(disposition[1]) if len(disposition) > 1 else {}
    name = about.get("filename") or named.get("name") or ""
    attachment = bool(disposition) and _text(disposition[0]).lower() == "attachment"
    if not attachment and not name:
        return
    size = int(part[6]) if isinstance(part[6], int) else 0
    if _text(part[5]).lower() == "base64":
        size = size * 57 // 78  # lines of 76 letters and their ends hold 57 bytes
    yield Attached(_decoded(name) or ("message.eml" if media == "message/rfc822" else "unnamed"), media, size)


def _pairs(given: Any) -> dict[str, str]:
    """Parameters, given as name, value, name, value."""
    if not isinstance(given, Sequence) or isinstance(given, bytes):
        return {}
    texts = [_text(each) for each in given]
    return {name.lower().rstrip("*"): value for name, value in zip(texts[::2], texts[1::2], strict=False)}


def _text(given: Any) -> str:
    return given.decode("utf-8", "replace") if isinstance(given, bytes) else ""


def _decoded(name: str) -> str:
    return clean(decoded(name).replace("\\", "/").rpartition("/")[2])[:200]


def decoded(text: str) -> str:
    """A text that may be written in encoded words (RFC 2047)."""
    if "=?" not in text:
        return text
    try:
        return str(make_header(decode_header(text)))
    except (ValueError, LookupError):
        return text
