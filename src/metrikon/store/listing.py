"""Lists for people and programs: page by page, newest first, filtered and searched."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Any

from sqlalchemy import ColumnElement, Connection, Select, and_, asc, desc, func, or_, select

from metrikon.core.values.exact import loads
from metrikon.core.values.text import fold
from metrikon.store.tables import deliveries, items, questions, records, runs

PAGE = 50
LARGEST_PAGE = 500


@dataclass(frozen=True)
class Page:
    """Rows of one page, and what to ask the next with (None at the end)."""

    rows: list[dict[str, Any]]
    following: str | None


def item_page(
    connection: Connection, *, flow: str = "", states: tuple[str, ...] = (), search: str = "", since: int = 0, cursor: str = "", most: int = PAGE
) -> Page:
    """Items, each once, with their latest run, the title of its first record, and how many records it has."""
    query = (
        select(
            *_item_columns(),
            runs.c.id.label("run_id"),
            runs.c.state,
            runs.c.reason,
            runs.c.changed_at,
            runs.c.cost,
            records.c.id.label("record_id"),
            records.c.title,
            records.c.state.label("record_state"),
            _count_of_records().label("record_count"),
        )
        .join(runs, runs.c.id == _newest())
        .outerjoin(records, records.c.id == _first_record())
        .where(*_such_items(flow, states, search, since, 0))
    )
    if cursor:
        query = query.where(items.c.id < cursor)
    return _paged(connection, query.order_by(items.c.id.desc()), most, "id")


def chosen(
    connection: Connection, *, flow: str, states: tuple[str, ...], search: str = "", since: int = 0, until: int = 0, most: int = PAGE
) -> list[dict[str, Any]]:
    """Items of a flow, oldest first, each once, with the state of their latest run and what it took of models."""
    run = (runs.c.state, runs.c.calls, runs.c.input_tokens, runs.c.output_tokens, runs.c.cost)
    query = select(items.c.id, *run).join(runs, runs.c.id == _newest())
    query = query.where(*_such_items(flow, states, search, since, until)).order_by(items.c.id).limit(most)
    return [dict(row) for row in connection.execute(query).mappings()]


def _newest() -> Any:
    """The latest run of an item that no step of another run uses."""
    return select(func.max(runs.c.id)).where(runs.c.item_id == items.c.id, runs.c.used_by.is_(None)).correlate(items).scalar_subquery()


def _first_record() -> Any:
    """The first record of a run: one paper may hold several."""
    other = records.alias()
    return select(func.min(other.c.id)).where(other.c.run_id == runs.c.id).correlate(runs).scalar_subquery()


def _count_of_records() -> Any:
    other = records.alias()
    return select(func.count()).select_from(other).where(other.c.run_id == runs.c.id).correlate(runs).scalar_subquery()


def _such_items(flow: str, states: tuple[str, ...], search: str, since: int, until: int) -> list[ColumnElement[bool]]:
    """Which items are meant: of a flow, with their latest run in a state, come in within a time, with a text in their name or values."""
    conditions: list[ColumnElement[bool]] = []
    if flow:
        conditions.append(items.c.flow == flow)
    if states:
        conditions.append(runs.c.state.in_(states))
    if since:
        conditions.append(items.c.received_at >= since)
    if until:
        conditions.append(items.c.received_at < until)
    if search:
        pattern = _pattern(search)
        named = func.lower(items.c.name).like(pattern, escape="\\")
        other = records.alias()
        held = select(other.c.id).where(other.c.run_id == runs.c.id, other.c.words.like(pattern, escape="\\")).correlate(runs).exists()
        conditions.append(or_(named, held, items.c.id == search))
    return conditions


def _item_columns() -> list[Any]:
    names = ("id", "flow", "intake", "sha256", "name", "size", "received_at")
    return [items.c[name] for name in names]


def run_page(connection: Connection, *, flow: str = "", states: tuple[str, ...] = (), item_id: str = "", cursor: str = "", most: int = PAGE) -> Page:
    """Runs with the name of their item."""
    query = select(runs, items.c.name.label("item_name")).join(items, items.c.id == runs.c.item_id)
    conditions: list[ColumnElement[bool]] = []
    if flow:
        conditions.append(runs.c.flow == flow)
    if states:
        conditions.append(runs.c.state.in_(states))
    if item_id:
        conditions.append(runs.c.item_id == item_id)
    if cursor:
        conditions.append(runs.c.id < cursor)
    return _paged(connection, query.where(and_(True, *conditions)).order_by(runs.c.id.desc()), most, "id")


SORTED = {"id": records.c.id, "title": records.c.title, "state": records.c.state, "model": records.c.model, "item": items.c.name}


def record_page(
    connection: Connection,
    *,
    record_type: str = "",
    states: tuple[str, ...] = (),
    search: str = "",
    sort: str = "-id",
    cursor: str = "",
    most: int = PAGE,
) -> Page:
    """Records with their values. `sort`: a column of `SORTED`, with "-" before it for descending.

    The cursor of a sorted list is "<value>\\t<id>".
    """
    descending, name = sort.startswith("-"), sort.lstrip("-")
    column: Any = SORTED.get(name, records.c.id)
    query = select(records, items.c.name.label("item_name")).join(items, items.c.id == records.c.item_id)
    if record_type:
        query = query.where(records.c.record_type == record_type)
    query = query.where(records.c.state.in_(states) if states else records.c.state != "replaced")
    if search:
        pattern = _pattern(search)
        query = query.where(or_(records.c.words.like(pattern, escape="\\"), func.lower(items.c.name).like(pattern, escape="\\")))
    if cursor:
        value, _, last = cursor.rpartition("\t")
        later = records.c.id < last if descending else records.c.id > last
        beyond = column < value if descending else column > value
        query = query.where(later if column is records.c.id else or_(beyond, and_(column == value, later)))
    direction = desc if descending else asc
    page = _paged(connection, query.order_by(direction(column), direction(records.c.id)), most, "id")
    rows = [_record_row(row) for row in page.rows]
    following = None
    if page.following and rows:
        key = {"item": "item_name"}.get(name, name)
        following = f"{rows[-1].get(key, '')}\t{rows[-1]['id']}"
    return Page(rows, following)


def _record_row(row: dict[str, Any]) -> dict[str, Any]:
    found = {name: value for name, value in row.items() if name not in ("evidence", "changes", "as_read", "words")}
    return {**found, "values": loads(row["values"]), "findings": loads(row["findings"])}


def _paged(connection: Connection, query: Select[Any], most: int, key: str) -> Page:
    size = max(1, min(most, LARGEST_PAGE))
    rows = [dict(row) for row in connection.execute(query.limit(size + 1)).mappings()]
    return Page(rows[:size], str(rows[size - 1][key]) if len(rows) > size else None)


def _pattern(search: str) -> str:
    escaped = fold(search).replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")
    return f"%{escaped}%"


def counts_since(connection: Connection, since: int) -> list[dict[str, Any]]:
    """For each flow, how many items came in since a time, by the state of their latest run."""
    query = (
        select(items.c.flow, runs.c.state, func.count().label("count"))
        .join(runs, runs.c.id == _newest())
        .where(items.c.received_at >= since)
        .group_by(items.c.flow, runs.c.state)
    )
    return [dict(row) for row in connection.execute(query).mappings()]


def otherwise_since(connection: Connection, since: int) -> dict[str, int]:
    """For each flow, of how many items that came in since a time a row is there with other values, though their latest run is done."""
    other = select(deliveries.c.key).where(deliveries.c.run_id == runs.c.id, deliveries.c.state == "otherwise").exists()
    query = (
        select(items.c.flow, func.count())
        .join(runs, runs.c.id == _newest())
        .where(items.c.received_at >= since, runs.c.state == "done", other)
        .group_by(items.c.flow)
    )
    return {str(flow): int(count) for flow, count in connection.execute(query)}


def state_counts(connection: Connection) -> dict[str, int]:
    """How many runs stand in each state."""
    return dict(connection.execute(select(runs.c.state, func.count()).group_by(runs.c.state)).all())


def spending_since(connection: Connection, since: int) -> list[tuple[str, int, int, int]]:
    """(cost, calls, input tokens, output tokens) of every run that called a model since a time."""
    query = select(runs.c.cost, runs.c.calls, runs.c.input_tokens, runs.c.output_tokens).where(runs.c.changed_at >= since, runs.c.calls > 0)
    return [(row.cost, row.calls, row.input_tokens, row.output_tokens) for row in connection.execute(query)]


def waiting(connection: Connection, most: int = 200) -> list[dict[str, Any]]:
    """Runs that need a person, oldest first: records to look at, parked and held runs."""
    query = (
        select(runs.c.id, runs.c.state, runs.c.reason, runs.c.changed_at, runs.c.item_id, items.c.name.label("item_name"), items.c.flow)
        .add_columns(records.c.id.label("record_id"), records.c.title, records.c.findings)
        .add_columns(questions.c.id.label("question_id"), questions.c.asked)
        .join(items, items.c.id == runs.c.item_id)
        .outerjoin(records, and_(records.c.run_id == runs.c.id, records.c.state == "waits"))
        .outerjoin(questions, and_(questions.c.run_id == runs.c.id, questions.c.state == "open"))
        .where(runs.c.state.in_(("review", "parked", "held")))
        .order_by(runs.c.id)
        .limit(most)
    )
    return [
        {**row, "findings": loads(row["findings"]) if row["findings"] else [], "asked": loads(row["asked"]) if row["asked"] else None}
        for row in connection.execute(query).mappings()
    ]
