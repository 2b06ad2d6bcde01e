"""lookup: rows of a list of known values, or of a destination that can be looked into."""

from __future__ import annotations

from collections import deque
from collections.abc import Iterator, Mapping
from decimal import Decimal
from heapq import nlargest, nsmallest
from itertools import count as counting
from itertools import islice
from typing import Any

from metrikon.core.feel import BadExpression, FeelError, evaluate
from metrikon.core.feel.scopes import Bound
from metrikon.core.values.exact import as_kept
from metrikon.core.values.text import fold
from metrikon.ports.destination import Broken, Busy, Searchable
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop
from metrikon.steps.failing import busy

MOST_ROWS = 50_000  # looked at one by one


def run(call: Call, workshop: Workshop) -> Outcome:
    """The rows that are as wanted."""
    try:
        rows, count = _kept(call, (row for row in _rows(call, workshop) if _as_said(row, call)))
    except Busy as error:
        raise busy(error) from error
    except Broken as error:
        raise StepFailed(f"{error} Then continue.") from error
    except (BadExpression, FeelError) as error:
        raise StepFailed(f"The condition {call.said.that!r} could not be worked out: {error} Correct the flow, then continue.") from error
    found = as_kept(rows)
    return Outcome({"found": bool(count), "row": found[0] if found else None, "rows": found, "count": count})


def _kept(call: Call, rows: Iterator[Mapping[str, Any]]) -> tuple[list[Mapping[str, Any]], int]:
    """The first rows in the order that is wanted, and how many there are; no more of them are held than are given."""
    most, order, counted = int(call.parameters["most"]), call.parameters["order"], counting()
    told = (row for row, _ in zip(rows, counted, strict=False))
    if order:
        first = nlargest if call.parameters["last"] else nsmallest
        kept = first(most, told, key=lambda row: _place_in_order(_entry(row, str(order))))
    else:
        kept = list(islice(told, most))
        deque(told, maxlen=0)
    return kept, next(counted)


def _rows(call: Call, workshop: Workshop) -> Iterator[Mapping[str, Any]]:
    given, name = call.parameters, str(call.parameters["in"])
    destination = workshop.destination(call.flow, call.flow_version, name)
    where = {str(column): value for column, value in given["where"].items()}
    if destination is not None:
        if not isinstance(destination, Searchable):
            raise Broken(f"The destination {name} cannot be looked into; name a table or a sheet.")
        yield from destination.find(where, MOST_ROWS)
        return
    known = workshop.known_list(name)
    if known is None:
        raise Broken(f"There is no list {name!r}. Put it.")
    heads = known.heads or ("value",)
    for row in known.rows[1 if known.heads else 0 :]:
        found = dict(zip(heads, row, strict=False))
        if all(fold(str(found.get(column, ""))) == fold(str(value)) for column, value in where.items()):
            yield found


def _as_said(row: Mapping[str, Any], call: Call) -> bool:
    if call.said.that is None:
        return True
    scope: Any = Bound({"row": as_kept(dict(row))}, call.scope)
    return evaluate(call.said.that, scope, None, call.moment) is True


def _entry(row: Mapping[str, Any], name: str) -> Any:
    """An entry of a row by the name of its column; tables hold names in small letters, with underscores for blanks."""
    return row[name] if name in row else row.get(name.lower().replace(" ", "_"))


def _place_in_order(value: Any) -> tuple[int, Any]:
    """Nothing first, then numbers by their size, then texts."""
    if value is None or value == "":
        return 0, 0
    if isinstance(value, Decimal | int):
        return 1, value
    return 2, str(value)
