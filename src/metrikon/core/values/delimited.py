"""Text in columns (CSV, RFC 4180, and its many relatives): what parts its columns, how it is encoded, how its lines end."""

from __future__ import annotations

import csv
import io
from collections.abc import Iterator
from dataclasses import dataclass

from charset_normalizer import from_bytes

MARKS = ",;\t|"
SNIFFED = 20_000  # bytes by which the form is told
FEW = 12  # signs beyond ASCII


@dataclass(frozen=True)
class Form:
    """`bom`: whether it begins with the mark of UTF-8."""

    encoding: str = "utf-8"
    mark: str = ","
    end: str = "\r\n"
    bom: bool = False


def form_of(data: bytes) -> Form:
    """How a file is written, as far as can be told."""
    bom = data.startswith(b"\xef\xbb\xbf")
    try:
        data.decode("utf-8")
        encoding = "utf-8"
    except UnicodeDecodeError:
        encoding = _guessed(data)
    head = data[:SNIFFED].decode("utf-8-sig" if bom else encoding, "replace")
    columns = {mark: len(next(csv.reader(io.StringIO(head, newline=""), delimiter=mark), [])) for mark in MARKS}
    mark = max(columns, key=lambda each: columns[each])  # that which parts the heads into most columns
    return Form(encoding, mark, "\r\n" if "\r\n" in head else "\n" if "\n" in head else "\r\n", bom)


def _guessed(data: bytes) -> str:
    """The encoding of text that is no UTF-8: a few signs are no ground for a guess, and are taken for those of Western Europe."""
    if sum(byte > 127 for byte in data[:SNIFFED]) >= FEW and (best := from_bytes(data[:SNIFFED]).best()) is not None:
        return best.encoding
    try:
        data.decode("cp1252")
    except UnicodeDecodeError:
        return "latin-1"
    return "cp1252"


def text_of(data: bytes, form: Form) -> str:
    """The text of a file; signs that are none are marked."""
    return data.decode("utf-8-sig" if form.bom else form.encoding, "replace")


def rows_of(data: bytes) -> Iterator[list[str]]:
    """The rows of a file."""
    form = form_of(data)
    yield from csv.reader(io.StringIO(text_of(data, form), newline=""), delimiter=form.mark)
