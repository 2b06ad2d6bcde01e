"""Rows of a list field from the table whose header names its fields."""

from __future__ import annotations

from collections.abc import Sequence
from decimal import Decimal
from typing import Any

from metrikon.core.documents.model import Cell, Table
from metrikon.core.extraction.index import Index, Place
from metrikon.core.extraction.labels import label_words
from metrikon.core.records.types import Field
from metrikon.core.values.dates import parse_date
from metrikon.core.values.numbers import parse_number
from metrikon.core.values.text import fold

LEAST = 1.6  # of header agreement: two columns named as the type names them, or nearly so


def best_table(fields: Sequence[Field], index: Index) -> tuple[Table, dict[str, int], float] | None:
    """The table that fits a list best: (table, column of each field by name, agreement)."""
    best: tuple[Table, dict[str, int], float] | None = None
    for table in index.document.tables:
        columns, score = _columns(fields, table)
        if score >= LEAST and (best is None or score > best[2]):
            best = (table, columns, score)
    return best


def _columns(fields: Sequence[Field], table: Table) -> tuple[dict[str, int], float]:
    pairs = []
    for field in fields:
        for number, cell in enumerate(table.header):
            likeness = _likeness(field, cell.text)
            if likeness:
                pairs.append((likeness * _fits(field, table, number), field.name, number))
    pairs.sort(key=lambda pair: -pair[0])
    columns: dict[str, int] = {}
    score = 0.0
    for likeness, name, number in pairs:
        if name not in columns and number not in columns.values() and likeness > 0.2:
            columns[name] = number
            score += likeness
    _fill_in(fields, table, columns)
    return columns, score


def _likeness(field: Field, head: str) -> float:
    """1 when the head is one of the field's labels (earlier ones a little more), less when it only holds one."""
    words = label_words(head)
    best = 0.0
    for rank, label in enumerate(field.labels):
        wanted = label_words(label)
        if not wanted or not words:
            continue
        if wanted == words:
            best = max(best, 1.0 - rank * 0.004)
        elif any(words[at : at + len(wanted)] == wanted for at in range(len(words))):
            best = max(best, 0.7 - rank * 0.004)
    return best


def _fits(field: Field, table: Table, column: int) -> float:
    """How well the cells of a column fit the kind of a field: 1 or less."""
    texts = [row[column].text for row in table.rows if row[column].text]
    if not texts:
        return 0.3
    figures = sum(1 for text in texts if _leading_number(text, None) is not None) / len(texts)
    if field.kind == "amount":
        return 0.2 + 0.8 * figures
    codes = sum(1 for text in texts if any(c.isdigit() for c in text) and len(text.split()) == 1) / len(texts)
    long = sum(1 for text in texts if len(text.split()) > 1) / len(texts)
    return 0.6 + 0.4 * (long if "description" in field.name else codes if "number" in field.name else 0.5)


def _fill_in(fields: Sequence[Field], table: Table, columns: dict[str, int]) -> None:
    """A required text field without a column takes the widest text column that is left."""
    free = [n for n in range(len(table.header)) if n not in columns.values()]
    for field in fields:
        if field.name in columns or not field.required or not free:
            continue
        if field.kind == "text":
            widest = max(free, key=lambda n: sum(len(row[n].text) for row in table.rows))
            columns[field.name] = widest
        elif field.kind == "amount":
            columns[field.name] = free[-1]
        free = [n for n in free if n not in columns.values()]


def read_rows(
    pointer: str, fields: Sequence[Field], table: Table, columns: dict[str, int], index: Index, not_rows: set[str]
) -> tuple[list[dict[str, Any]], dict[str, Place], dict[str, float]]:
    """(rows, place of each value, certainty of each value) for the rows of a table that are rows."""
    rows: list[dict[str, Any]] = []
    places: dict[str, Place] = {}
    sure: dict[str, float] = {}
    for cells in table.rows:
        if any(fold(cell.text) in not_rows for cell in cells if cell.text):
            continue
        row: dict[str, Any] = {}
        for field in fields:
            column = columns.get(field.name)
            if column is None or not cells[column].words:
                continue
            value = cell_value(field, cells[column], index)
            if value is None:
                continue
            at = f"{pointer}/{len(rows)}/{field.name}"
            row[field.name] = value
            places[at] = Place(cells[column].page, cells[column].words)
            sure[at] = 0.95
        if any(field.kind == "amount" and field.name in row for field in fields):
            rows.append(row)
    return rows, places, sure


def cell_value(field: Field, cell: Cell, index: Index) -> Any:
    """The value of a cell by the type of its field, or None."""
    if field.kind == "amount":
        return _leading_number(cell.text, index.mark)
    if field.kind == "date":
        found = parse_date(cell.text, index.day_first)
        return found.isoformat() if found else None
    return cell.text


def _leading_number(text: str, mark: str | None) -> Decimal | None:
    """The number a cell is or starts with: "12 pcs" is 12."""
    whole = parse_number(text, mark)
    if whole is not None:
        return whole
    words = text.split()
    for count in range(len(words) - 1, 0, -1):
        value = parse_number(" ".join(words[:count]), mark)
        if value is not None:
            return value
    return None
