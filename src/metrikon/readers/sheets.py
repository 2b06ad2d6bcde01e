"""Sheets: XLSX and ODS, by their values as they would be shown; formulas are never worked out."""

from __future__ import annotations

import io
import zipfile
import zlib
from datetime import date, datetime, time, timedelta
from typing import Any

from lxml import etree

from metrikon.core.documents.extents import TooFar, check_extents
from metrikon.core.documents.model import Document, Hidden
from metrikon.core.documents.setting import Block, Grid, paragraph
from metrikon.core.documents.types import header_row
from metrikon.core.values.text import clean
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.building import Carried, built, row_block
from metrikon.readers.packed import check_archive

MOST_ROWS = 20_000


class SheetReader:
    """Reads XLSX and ODS: a table a sheet, with its header row where it has one."""

    formats: tuple[str, ...] = ("xlsx", "ods")

    def read(self, data: bytes, sha256: str, limits: Limits) -> Document:
        """Every visible sheet; hidden ones are told of, not read as if a person saw them."""
        from python_calamine import CalamineError, CalamineWorkbook, SheetVisibleEnum

        check_archive(data, limits)
        try:
            check_extents(io.BytesIO(data))
            book = CalamineWorkbook.from_filelike(io.BytesIO(data))
            metadata = {each.name: each for each in book.sheets_metadata}
            blocks: list[Block] = []
            hidden: list[Hidden] = []
            for name in book.sheet_names:
                rows = book.get_sheet_by_name(name).to_python()
                if metadata[name].visible != SheetVisibleEnum.Visible:
                    hidden.append(Hidden(" ".join(_shown(cell) for row in rows[:50] for cell in row)[:2000], f"the sheet {name!r} is hidden"))
                    continue
                blocks += _sheet(name, rows, len(book.sheet_names) > 1)
        except TooFar as error:
            raise Refused("too-large", str(error)) from error
        except (CalamineError, ValueError, OSError, KeyError, zipfile.BadZipFile, zlib.error, etree.XMLSyntaxError) as error:
            if "password" in str(error).lower() or "encrypt" in str(error).lower():
                raise Refused("encrypted", "The sheet is encrypted and asks for a password. Send it without one.") from error
            raise Refused("broken", f"The sheet cannot be opened: {clean(str(error))[:160]}.") from error
        carried = Carried(hidden=tuple(hidden))
        if not blocks:
            carried.warnings.append("The sheets hold no values.")
        return built(sha256, "xlsx" if b"xl/" in data[:200_000] else "ods", blocks, limits, carried)


def _sheet(name: str, rows: list[list[Any]], named: bool) -> list[Block]:
    shown = [tuple(_shown(cell) for cell in row) for row in rows]
    while shown and not any(shown[-1]):
        shown.pop()
    if not shown:
        return []
    if len(shown) > MOST_ROWS:
        raise Refused("too-large", f"The sheet {name!r} has {len(shown)} rows; at most {MOST_ROWS} are read. Send it in parts.")
    return [*([paragraph(name, 1)] if named else []), *_grids(shown)]


def _grids(rows: list[tuple[str, ...]]) -> list[Block]:
    """Tables parted by empty rows, without the columns that are empty throughout."""
    blocks: list[Block] = []
    part: list[tuple[str, ...]] = []
    for row in [*rows, ()]:
        if any(row):
            part.append(row)
            continue
        if part:
            used = [n for n in range(max(map(len, part))) if any(n < len(r) and r[n] for r in part)]
            cells = [tuple(r[n] if n < len(r) else "" for n in used) for r in part]
            top = next((n for n, r in enumerate(cells[:6]) if all(r)), None) if len(used) > 1 else None
            if top is not None and header_row(cells[top:]):
                blocks += [row_block(r) for r in cells[:top]]
                blocks.append(Grid(cells[top], tuple(cells[top + 1 :])))
            else:
                blocks += [row_block(cells[0])] if len(cells) == 1 else [Grid((), tuple(cells))]
        part = []
    return blocks


def _shown(value: Any) -> str:
    """A value as a person would write it; numbers with the digits they have, dates as YYYY-MM-DD."""
    if value is None or value == "":
        return ""
    if isinstance(value, bool):
        return "yes" if value else "no"
    if isinstance(value, float):
        return str(int(value)) if value.is_integer() and abs(value) < 1e15 else repr(value)
    if isinstance(value, datetime):
        return value.date().isoformat() if value.time() == time() else value.isoformat(" ", "minutes")
    if isinstance(value, date | time):
        return value.isoformat()
    return str(value) if isinstance(value, timedelta) else clean(str(value))
