"""The characters of a text file, by its byte order mark, as UTF-8, or by what it most likely is."""

from __future__ import annotations

import codecs
from dataclasses import dataclass

_MARKS = ((codecs.BOM_UTF8, "utf-8-sig"), (codecs.BOM_UTF16_LE, "utf-16"), (codecs.BOM_UTF16_BE, "utf-16"))
_USUAL = set("äöüßÄÖÜéèêëàâáåæçîïíñóôøòúùûœÉÀÇÑÅØ" + "ąćęłńśźżěščřžýůťďňőűŁŚŻŽŠČ")
_SIGNS = set("€£–—“”‘’„…•°§©®«»½¼²³·\xa0")
_TELLING = 50_000  # bytes that are looked at to guess


@dataclass(frozen=True)
class Decoded:
    """A text and the name of the encoding it was in; `sure` is false when that was guessed."""

    text: str
    name: str
    sure: bool = True


def decoded(data: bytes) -> Decoded | None:
    """The text of these bytes, or None when they are no text."""
    for mark, name in _MARKS:
        if data.startswith(mark):
            try:
                return Decoded(data.decode(name).lstrip("\ufeff"), name.removesuffix("-sig"))
            except UnicodeDecodeError:
                break
    head = data[:_TELLING]
    if _binary(head):
        return None
    try:
        return Decoded(data.decode("utf-8"), "utf-8")
    except UnicodeDecodeError:
        pass
    return _guessed(data, head)


def _binary(head: bytes) -> bool:
    """Whether bytes hold what texts do not: a NUL, or many control characters."""
    controls = sum(byte < 9 or 13 < byte < 27 or 27 < byte < 32 for byte in head)
    return b"\x00" in head or controls > max(2, len(head) // 200)


def _guessed(data: bytes, head: bytes) -> Decoded:
    """The most likely encoding: of Western and Central European ones the one that gives usual letters, else a guess."""
    high = sum(byte >= 0x80 for byte in head)
    letters = sum(65 <= byte <= 122 for byte in head)
    if high > letters:
        from charset_normalizer import from_bytes

        best = from_bytes(head).best()
        if best is not None:
            try:
                return Decoded(data.decode(best.encoding), best.encoding, sure=False)
            except (UnicodeDecodeError, LookupError):
                pass
    name = max(("cp1252", "cp1250"), key=lambda each: _usual(head.decode(each, "replace")))
    return Decoded(data.decode(name, "replace"), name, sure=False)


def _usual(text: str) -> int:
    """How many letters beyond ASCII are usual ones, less the signs that seldom stand within words."""
    usual = sum(c in _USUAL for c in text)
    return 2 * usual - sum(ord(c) > 127 and c not in _USUAL and c not in _SIGNS for c in text) * 3
