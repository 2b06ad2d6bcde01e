"""The rows of a list field from a table: which column holds which field, and the cells as they stand."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from decimal import Decimal
from functools import cached_property, lru_cache
from typing import Any

from metrikon.core.documents.model import Cell, Table
from metrikon.core.extraction.indexing.forms import formed
from metrikon.core.extraction.indexing.index import Index, Place, has_digit
from metrikon.core.extraction.indexing.labels import label_words
from metrikon.core.extraction.planning.besides import FEW_ROWS
from metrikon.core.records.types import Field
from metrikon.core.values.dates import parse_date
from metrikon.core.values.number_words import plain
from metrikon.core.values.numbers import parse_number
from metrikon.core.values.text import fold, name_key

LEAST = 1.6  # of header agreement: two columns named as the type names them, or nearly so
OF_A_ROW = 0.6  # columns a table without heads must have for each value of a row that is printed
LONG_CELL = 60  # characters of a cell that holds more than one value
MOST_MARK = 3  # letters of a mark that stands in a column or not
CERTAIN = 0.7  # likeness of a head and a label from which the column is known without asking
SEEN = 40  # rows from which it is told what a column holds
MOST_ODD = 12  # rows that look unlike the others and are shown one by one


@dataclass(frozen=True)
class ListTable:
    """The table that holds a list, and what is known of its columns without asking."""

    pointer: str
    fields: tuple[Field, ...]
    table: Table
    columns: Mapping[str, int] = field(default_factory=dict)  # by field name, as far as heads tell
    known: bool = False
    not_rows: frozenset[str] = frozenset()

    @cached_property
    def heads(self) -> list[str]:
        """A name for each column: its head, or its number where the head is empty or not the only one."""
        texts = [cell.text for cell in self.table.header]
        return [text if text and texts.count(text) == 1 else f"column {n}" for n, text in enumerate(texts, 1)]

    def worth_asking(self, index: Index) -> bool:
        """Whether it costs less to ask for its columns than for its rows, and its cells are what is meant.

        Few rows are written out by a model as cheaply, and better: it parts what stands in one cell. A cell of several lines holds more
        than one value.
        """
        texts = [cell for row in self.table.rows for cell in row if cell.words and not has_digit(cell.text)]
        wrapped = sum(1 for cell in texts if len({index.pages[cell.page].line_of[word] for word in cell.words}) > 1)
        return len(self.table.rows) > FEW_ROWS and wrapped * 5 <= len(texts)

    @cached_property
    def odd(self) -> list[int]:
        """Rows (from 0) that lack what most rows have: they may be notes or sums."""
        width = len(self.table.header)
        filled = [sum(1 for row in self.table.rows if n < len(row) and row[n].words) for n in range(width)]
        usual = [n for n in range(width) if filled[n] * 10 >= 8 * len(self.table.rows)]
        cells = [sum(1 for cell in row if cell.words) for row in self.table.rows]
        half = max(cells, default=0) / 2  # sums below few rows are as many as the rows, but never as full
        found = [k for k, row in enumerate(self.table.rows) if cells[k] <= half or any(n >= len(row) or not row[n].words for n in usual)]
        return found[:MOST_ODD] if len(self.table.rows) > 2 else []


def list_table(pointer: str, fields: Sequence[Field], schema: Mapping[str, Any], index: Index, taken: Sequence[Table] = ()) -> ListTable | None:
    """The table that holds a list best; without heads that tell, the one with most rows. None when no table was found."""
    tables = [table for table in index.document.tables if table not in taken and len(table.header) >= 2 and table.rows]
    if not tables:
        return None
    scored = [(table, *_columns(fields, table)) for table in tables]
    table, columns, score = max(scored, key=lambda each: (round(each[2], 2), len(each[0].rows)))
    if score < LEAST:
        scored = [each for each in scored if not _only_lays_out(fields, each[0])]
        if not scored:
            return None
        table, columns, score = max(scored, key=lambda each: len(each[0].rows) * len(each[0].header))
    not_rows = frozenset(fold(text) for text in (schema.get("x-metrikon") or {}).get("not_rows", ()))
    return ListTable(pointer, tuple(fields), table, columns, _known(fields, table, columns, score), not_rows)


def _only_lays_out(fields: Sequence[Field], table: Table) -> bool:
    """Whether a table without heads has too few columns for what a row holds: dates beside text, labels beside what they name."""
    if any(cell.text for cell in table.header):
        return False
    printed = sum(1 for each in fields if each.kind != "yes/no")
    long = sum(1 for row in table.rows if any(len(cell.text) > LONG_CELL for cell in row))
    return len(table.header) < OF_A_ROW * printed or (len(table.header) == 2 and long >= 2)


def _known(fields: Sequence[Field], table: Table, columns: Mapping[str, int], score: float) -> bool:
    """Whether heads alone tell the columns: every required field and every column of figures has its label."""
    if score < LEAST:
        return False
    sure = {each.name for each in fields if each.name in columns and _likeness(each, table.header[columns[each.name]].text) >= CERTAIN - 0.1}
    if any(each.required and each.name not in sure for each in fields) or len(sure) < len(columns):
        return False
    open_amounts = [each for each in fields if each.kind == "amount" and each.name not in columns]
    free = [n for n in range(len(table.header)) if n not in columns.values()]
    figures = [n for n in free if table.header[n].text and _share(table, n, _is_amount) >= 0.8]
    return not (open_amounts and figures)


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
    for each in fields:
        for number, cell in enumerate(table.header):
            likeness = _likeness(each, cell.text)
            if likeness:
                pairs.append((likeness * _fits(each, table, number), each.name, number))
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
    return _alike(field.labels, head)


@lru_cache(maxsize=8192)
def _alike(labels: tuple[str, ...], head: str) -> float:
    """1 when the head is one of the labels (earlier ones a little more), less when it only holds one."""
    words = label_words(head)
    best = 0.0
    for rank, label in enumerate(labels):
        wanted = label_words(label)
        if not wanted or not words:
            continue
        if wanted == words:
            best = max(best, 1.0 - rank * 0.004)
        elif any(words[at : at + len(wanted)] == wanted for at in range(len(words))):
            best = max(best, 0.7 - rank * 0.004)
    return best


def _share(table: Table, column: int, holds: Any) -> float:
    texts = [row[column].text for row in table.rows[:SEEN] if row[column].text]
    return sum(1 for text in texts if holds(text)) / len(texts) if texts else 0.0


def _is_amount(text: str) -> bool:
    return _leading_number(text, None) is not None


def _fits(field: Field, table: Table, column: int) -> float:
    """How well the cells of a column fit the kind of a field: 1 or less."""
    if not any(row[column].text for row in table.rows[:SEEN]):
        return 0.3
    if field.kind == "amount":
        return 0.2 + 0.8 * _share(table, column, _is_amount)
    if "description" in field.name:
        return 0.6 + 0.4 * _share(table, column, lambda text: " " in text)
    return 0.6 + 0.4 * (_share(table, column, _is_code) if "number" in field.name else 0.5)


def _is_code(text: str) -> bool:
    return " " not in text and has_digit(text)


def _fill_in(fields: Sequence[Field], table: Table, columns: dict[str, int]) -> None:
    """A required text field without a column takes the widest text column that is left."""
    free = [n for n in range(len(table.header)) if n not in columns.values()]
    for each in fields:
        if each.name in columns or not each.required or not free:
            continue
        if each.kind == "text":
            widest = max(free, key=lambda n: sum(len(row[n].text) for row in table.rows))
            columns[each.name] = widest
        elif each.kind == "amount":
            columns[each.name] = free[-1]
        free = [n for n in free if n not in columns.values()]


def read_rows(
    pointer: str,
    fields: Sequence[Field],
    table: Table,
    columns: Mapping[str, int],
    index: Index,
    not_rows: frozenset[str] | set[str],
    left_out: Sequence[int] = (),
) -> tuple[list[dict[str, Any]], dict[str, Place], dict[str, float]]:
    """(rows, place of each value, certainty of each value) for the rows of a table that are rows.

    `left_out`: rows of the table (from 0) that are none, besides those that begin with a word of `not_rows`.
    """
    rows: list[dict[str, Any]] = []
    places: dict[str, Place] = {}
    sure: dict[str, float] = {}
    amounts = any(each.kind == "amount" for each in fields)
    for number, cells in enumerate(table.rows):
        if number in left_out or any(fold(cell.text) in not_rows for cell in cells if cell.text):
            continue
        row: dict[str, Any] = {}
        for each in fields:
            column = columns.get(each.name)
            if column is None or not cells[column].words:
                continue
            value = cell_value(each, cells[column], index)
            if value is None:
                continue
            at = f"{pointer}/{len(rows)}/{each.name}"
            row[each.name] = value
            places[at] = Place(cells[column].page, cells[column].words)
            sure[at] = 0.95
        if row and (not amounts or any(each.kind == "amount" and each.name in row for each in fields)):
            rows.append(row)
    for each in fields:
        if each.kind == "yes/no" and each.name in columns:
            _marked(each, rows)
    return rows, places, sure


_MARKS = {**dict.fromkeys(("y", "yes", "j", "ja", "t", "true", "s", "si", "sim", "o", "oui", "x", "✓", "✔", "☒", "☑", "*", "1", "tak"), True)}
_MARKS |= dict.fromkeys(("n", "no", "nein", "f", "false", "non", "nee", "nej", "nie", "☐", "-", "–", "0", "nao"), False)


def _marked(field: Field, rows: Sequence[dict[str, Any]]) -> None:
    """Marks in a column as yes and no: where all are the same, or none says no, what is blank is no."""
    given = {plain(str(row[field.name])).strip(" .()") for row in rows if row.get(field.name) not in (None, True, False)}
    only = len(given) == 1 and len(next(iter(given))) <= MOST_MARK
    if given and not only and all(_said(text) is not None for text in given):
        for row in rows:
            if row.get(field.name) not in (None, True, False):
                row[field.name] = _said(plain(str(row[field.name])).strip(" .()"))
        return
    if not given or not (only or given <= set(_MARKS)):
        return
    for row in rows:
        mark = plain(str(row.get(field.name) or "")).strip(" .()")
        if mark:
            row[field.name] = _MARKS.get(mark, True)
        elif not field.nullable:
            row[field.name] = False


_FREE = """available free open vacant yes included verfugbar frei lieferbar vorhanden offen ja disponible libre ouvert oui inclus disponibile libero si incluso
beschikbaar vrij leverbaar disponivel livre sim ledig tilgaengelig tillganglig dostepny wolny tak"""
_TAKEN = """full sold taken occupied closed unavailable none no not waiting belegt voll vergeben ausgebucht vergriffen geschlossen ausverkauft nein nicht complet epuise
indisponible occupe ferme non aucun agotado completo ocupado cerrado esaurito occupato chiuso vol uitverkocht bezet gesloten nee niet esgotado ocupado fechado nao
optaget udsolgt fuld upptagen slut full nej zajety brak nie"""
_SAYS = {**dict.fromkeys(_FREE.split(), True), **dict.fromkeys(_TAKEN.split(), False)}


def _said(text: str) -> bool | None:
    """What a few words in a column of yes and no say: "Full, join the list" is no; None where it is open."""
    if text in _MARKS:
        return _MARKS[text]
    told = {_SAYS[word] for word in re.findall(r"[^\W\d_]+", text) if word in _SAYS}
    return told.pop() if len(told) == 1 else False if told and text.split()[0] in ("not", "nicht", "niet", "non", "no") else None


def cell_value(field: Field, cell: Cell, index: Index) -> Any:
    """The value of a cell by the type of its field, or None."""
    if field.kind == "amount":
        return _leading_number(cell.text, index.mark)
    if field.kind == "date":
        found = parse_date(cell.text, index.day_first)
        return found.isoformat() if found else None
    return formed(field, cell.text, index) or cell.text


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


def columns_said(answer: Any, table: ListTable) -> tuple[dict[str, int], list[int]] | None:
    """(column of each field, rows that are none) as a model said it; None when the answer says no columns."""
    if not isinstance(answer, Mapping):
        return None
    said = answer.get("columns", answer)
    if not isinstance(said, Mapping):
        return None
    heads = {name_key(head): number for number, head in enumerate(table.heads)}
    heads |= {f"column{number}": number - 1 for number in range(1, len(table.heads) + 1)}
    found: dict[str, int] = {}
    for each in table.fields:
        given = said.get(each.name)
        number = heads.get(name_key(str(given))) if given is not None else None
        if number is not None and number not in found.values():
            found[each.name] = number
    left = answer.get("not_rows") or ()
    none = [int(n) - 1 for n in left if isinstance(n, int | Decimal) and not isinstance(n, bool)] if isinstance(left, list) else []
    return found, [n for n in none if n in table.odd] if len(none) <= 2 * len(table.odd) + 2 else []  # one that counts on and on says nothing
