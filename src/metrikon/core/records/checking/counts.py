"""A field that says how many rows a list has must agree with the list."""

from __future__ import annotations

import re
from collections.abc import Iterator, Mapping
from decimal import Decimal
from typing import Any

from metrikon.core.records.check import Check
from metrikon.core.records.checked import Checked
from metrikon.core.records.findings import Finding
from metrikon.core.records.meaning import akin
from metrikon.core.records.pointers import get
from metrikon.core.records.types import Field
from metrikon.core.values.number_words import plain

_COUNTS = re.compile(r"\b(?:number|count|anzahl|nombre|numero|aantal|antal|antall|liczba|ilosc|pocet|quantos|cuantos|quanti|how many|wie viele)\b")
_SOME = re.compile(
    r"without|only|except|excl|other|new|ohne|nur|auss?er|sauf|sans|seul|sin|solo|salvo|senza|soltanto|tranne|zonder|alleen|behalve|sem|uden|kun|utan|bara|bez|tylko|jen|pouze"
)


def run(checked: Checked) -> Iterator[Finding]:
    """A number of rows that is printed nowhere and is not how many there are; one that counts only some of them says nothing."""
    lists = {name: rows for name, rows in checked.record.items() if isinstance(rows, list) and rows}
    for each in checked.kind.header:
        value = get(checked.record, each.shape)
        if "integer" not in each.types or isinstance(value, bool) or not isinstance(value, Decimal | int):
            continue
        counted = _counted(each, lists)
        known = checked.evidence.get(each.shape)
        if (
            counted is not None
            and value != len(lists[counted])
            and not _sum_of_a_column(value, lists[counted])
            and not (known is not None and known.how in ("person", "printed"))
        ):
            message = f"{each.title} is {value}, but {counted} has {len(lists[counted])} rows."
            yield Finding("count", "stop", message, (each.shape, f"/{counted}"), {"given": str(value), "rows": str(len(lists[counted]))})


def _sum_of_a_column(value: Decimal | int, rows: list[Any]) -> bool:
    """Whether a number is what a column of the rows comes to: pieces are counted, not rows."""
    names = {name for row in rows if isinstance(row, Mapping) for name in row}
    columns = ([row.get(name) for row in rows if isinstance(row, Mapping)] for name in names)
    return any(sum(each for each in column if isinstance(each, Decimal | int) and not isinstance(each, bool)) == value for column in columns)


def _counted(field: Field, lists: Mapping[str, list[Any]]) -> str | None:
    """The one list whose name a field that counts bears; None where it bears none, several, or counts only some of its rows."""
    said = plain(f"{field.worded} {field.schema.get('description') or ''}")
    if not _COUNTS.search(said) or _SOME.search(said):
        return None
    named = [name for name in lists if akin(name, field.worded)]
    return named[0] if len(named) == 1 else None


CHECK = Check(("count",), "Whether a number of rows is how many there are.", run, mendable=("count",), of_rows=("count",), rank=35)
