"""Comma-separated values (RFC 4180) and their relatives: separator, quotes and encoding are found out."""

from __future__ import annotations

import csv
import io
from collections import Counter
from dataclasses import dataclass

from metrikon.core.documents.model import Document
from metrikon.core.documents.setting import Grid
from metrikon.core.documents.types import header_row
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried, built, row_block
from metrikon.readers.charset import decoded

LOOKED_AT = 60  # lines
_SEPARATORS = (",", ";", "\t", "|")


@dataclass(frozen=True)
class Dialect:
    """How values are parted, and how many there are in most rows."""

    separator: str
    columns: int
    skip: int = 0  # lines before the table, such as a title


def dialect(text: str) -> Dialect | None:
    """The dialect of a text, or None when it is no table: most rows must have the same number of values, two at least."""
    lines = text[:200_000].splitlines()[:LOOKED_AT]
    best: tuple[float, Dialect] | None = None
    for separator in _SEPARATORS:
        rows = [row for row in _rows("\n".join(lines), separator) if any(cell.strip() for cell in row)]
        if len(rows) < 2:
            continue
        columns, count = Counter(len(row) for row in rows).most_common(1)[0]
        if columns < 2 or count < max(2, 0.8 * (len(rows) - 3)):
            continue
        filled = sum(bool(cell.strip()) for row in rows for cell in row) / sum(len(row) for row in rows)
        long = sum(len(cell) > 120 for row in rows for cell in row) / sum(len(row) for row in rows)
        score = count / len(rows) * filled - long * 3 + (0.2 if separator != "," else 0) + columns / 200
        if separator == "," and columns == 2 and any(", " in line for line in lines):
            continue  # prose with a comma in every line
        first = next(n for n, row in enumerate(rows) if len(row) == columns)
        if score > 0.5 and (best is None or score > best[0]):
            best = (score, Dialect(separator, columns, first))
    return best[1] if best else None


def _rows(text: str, separator: str) -> list[list[str]]:
    csv.field_size_limit(10_000_000)
    try:
        return list(csv.reader(io.StringIO(text), delimiter=separator, skipinitialspace=True))
    except csv.Error:
        return []


class SeparatedReader:
    """Reads CSV and TSV."""

    formats: tuple[str, ...] = ("csv",)

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """One table; rows that are longer or shorter than the others are kept and reported."""
        found = decoded(data)
        kind = dialect(found.text) if found else None
        if found is None or kind is None:
            raise Refused("broken", "The file holds no table of separated values.")
        rows = [row for row in _rows(found.text, kind.separator) if any(cell.strip() for cell in row)]
        before, rows = rows[: kind.skip], rows[kind.skip :]
        carried = Carried()
        odd = [number for number, row in enumerate(rows, kind.skip + 1) if len(row) != kind.columns]
        if odd:
            some = ", ".join(map(str, odd[:5])) + (" …" if len(odd) > 5 else "")
            carried.warnings.append(f"{len(odd)} rows do not have {kind.columns} values (rows {some}); they are kept as they are.")
        if not found.sure:
            carried.warnings.append(f"The file does not say in which encoding it is; it was read as {found.name}.")
        named = header_row([row for row in rows[:100] if len(row) == kind.columns])
        header = tuple(rows[0]) if named else ()
        body = tuple(tuple(row) for row in (rows[1:] if named else rows))
        titles = [row_block(row) for row in before]
        document = built(sha256, "csv", [*titles, Grid(header, body)], limits, carried)
        if not titles:
            return document
        return Document(sha256, "csv", document.pages, document.tables[-1:], document.warnings)
