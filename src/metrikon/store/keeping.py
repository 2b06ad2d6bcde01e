"""What is kept for how long, and what is removed: files, results, journals; and everything about an item."""

from __future__ import annotations

from collections.abc import Collection, Iterable, Iterator, Sequence
from typing import Any

from sqlalchemy import ColumnElement, Connection, Table, delete, func, or_, select, update

from metrikon.core.values.exact import dumps, loads
from metrikon.core.values.text import fold
from metrikon.store import judged
from metrikon.store.items import known_as
from metrikon.store.runs import SETTLED
from metrikon.store.tables import (
    calls,
    claims,
    deliveries,
    events,
    failures,
    fetched,
    forgotten,
    items,
    journal,
    questions,
    record_versions,
    records,
    runs,
    samples,
    trial_results,
)

TOGETHER = 400  # ids in one statement
FORGOTTEN = "(forgotten)"


class GoesOn(Exception):
    """A run of an item that is to be forgotten goes on."""


def old_items(connection: Connection, before: int) -> list[tuple[str, str]]:
    """(item, hash of its file) of items of which every run has settled before a moment."""
    open_ones = select(runs.c.item_id).where(runs.c.state.not_in(SETTLED))
    query = select(items.c.id, items.c.sha256).join(runs, runs.c.item_id == items.c.id).where(items.c.id.not_in(open_ones))
    return [(row.id, row.sha256) for row in connection.execute(query.group_by(items.c.id).having(func.max(runs.c.settled_at) < before))]


def files_of_others(connection: Connection, but: Collection[str]) -> set[str]:
    """The files of all items but some."""
    return {sha256 for item_id, sha256 in connection.execute(select(items.c.id, items.c.sha256)) if item_id not in but}


def old_pages(connection: Connection, before: int) -> list[tuple[str, str]]:
    """(address, file) of pages that were fetched before a moment, and before every run that has not settled began."""
    oldest = connection.execute(select(func.min(runs.c.created_at)).where(runs.c.state.not_in(SETTLED))).scalar()
    query = select(fetched.c.address, fetched.c.page).where(fetched.c.at < min(before, oldest if oldest is not None else before))
    return [(row.address, str(loads(row.page)["file"])) for row in connection.execute(query)]


def forget_pages(connection: Connection, addresses: Iterable[str]) -> None:
    """Keep fetched pages no longer."""
    _each(connection, fetched, fetched.c.address, addresses)


def runs_with_results(connection: Connection, item_ids: Collection[str]) -> list[str]:
    """Runs of items of which results are still kept."""
    return _column(connection, runs.c.id, runs.c.item_id, item_ids, runs.c.forgotten_at.is_(None))


def runs_of(connection: Connection, item_id: str) -> list[str]:
    """All runs of an item."""
    return _column(connection, runs.c.id, runs.c.item_id, [item_id])


def runs_with_journals(connection: Connection, item_ids: Collection[str]) -> list[str]:
    """Runs of items of which the journal is still kept."""
    kept = runs.c.id.in_(select(journal.c.run_id).distinct())
    return _column(connection, runs.c.id, runs.c.item_id, item_ids, kept)


def packed_in(connection: Connection, run_ids: Iterable[str]) -> set[str]:
    """Files in which large results of runs are kept, and those that their steps made; not those that an item or another run holds, too."""
    found: set[str] = set()
    made: set[str] = set()
    for part in _parts(run_ids):
        holds = or_(func.instr(journal.c.data, b'"kept_in_file"') > 0, func.instr(journal.c.data, b'"made_files"') > 0)
        for data in connection.execute(select(journal.c.data).where(journal.c.run_id.in_(part), holds)).scalars():
            entry = loads(data)
            found |= {str(entry["kept_in_file"])} if "kept_in_file" in entry else set()
            made |= {str(each) for each in entry.get("made_files", ())}
    if made:
        made -= set(connection.execute(select(items.c.sha256).where(items.c.sha256.in_(made))).scalars())
        made -= _made_elsewhere(connection, set(run_ids))
    return found | made


def made_in(connection: Connection, run_id: str) -> set[str]:
    """The files that the steps of a run made."""
    query = select(journal.c.data).where(journal.c.run_id == run_id, func.instr(journal.c.data, b'"made_files"') > 0)
    return {str(each) for data in connection.execute(query).scalars() for each in loads(data).get("made_files", ())}


def _made_elsewhere(connection: Connection, but: Collection[str]) -> set[str]:
    """Files that the steps of other runs made."""
    query = select(journal.c.run_id, journal.c.data).where(func.instr(journal.c.data, b'"made_files"') > 0)
    return {str(each) for run_id, data in connection.execute(query) if run_id not in but for each in loads(data).get("made_files", ())}


def forget_results(connection: Connection, run_ids: Sequence[str], at: int) -> dict[str, int]:
    """Remove what the steps of runs gave, records and values of rows; that they ran, and the keys of rows, stay. How many of each."""
    made = select(records.c.id).where(records.c.run_id.in_(run_ids))
    connection.execute(delete(record_versions).where(record_versions.c.record_id.in_(made)))
    gone = {
        "records": connection.execute(delete(records).where(records.c.run_id.in_(run_ids))).rowcount,
        "results of steps": connection.execute(
            update(journal).where(journal.c.run_id.in_(run_ids), journal.c.data != b"{}").values(data=b"{}")
        ).rowcount,
        "values of rows": connection.execute(
            update(deliveries)
            .where(deliveries.c.run_id.in_(run_ids))
            .values({"values": b"{}", "parts": None, "error": None, "differs": None, "before": None, "result": None})
        ).rowcount,
        "judgements": judged.forget_runs(connection, run_ids),
        "failures": connection.execute(delete(failures).where(failures.c.run_id.in_(run_ids))).rowcount,
        "questions": connection.execute(delete(questions).where(questions.c.run_id.in_(run_ids))).rowcount,
    }
    connection.execute(delete(trial_results).where(trial_results.c.record_id.in_(made)))
    connection.execute(update(runs).where(runs.c.id.in_(run_ids)).values(given=None, forgotten_at=at))
    return gone


def forget_journals(connection: Connection, run_ids: Sequence[str]) -> int:
    """Remove the journals of runs; how many entries."""
    return int(connection.execute(delete(journal).where(journal.c.run_id.in_(run_ids))).rowcount)


def forget_asked(connection: Connection, run_ids: Sequence[str]) -> int:
    """Remove what models were asked and answered in runs; what it cost stays."""
    held = update(calls).where(calls.c.run_id.in_(run_ids), or_(calls.c.prompt.is_not(None), calls.c.answer.is_not(None), calls.c.error.is_not(None)))
    return int(connection.execute(held.values(prompt=None, answer=None, error=None)).rowcount)


def forget_item(connection: Connection, item_id: str, at: int) -> dict[str, int]:
    """Remove everything about an item but that it was there, and the hashes that keep it from being taken or written again; how many of each."""
    row = connection.execute(select(items).where(items.c.id == item_id)).mappings().one()
    run_ids = runs_of(connection, item_id)
    if unsettled_of(connection, [item_id]):
        raise GoesOn(f"A run of the item {item_id} was begun just now. Cancel it first, or wait until it has settled; then forget it once more.")
    trials = delete(trial_results).where(trial_results.c.record_id.in_(select(records.c.id).where(records.c.item_id == item_id)))
    gone = {"results of trials": connection.execute(trials).rowcount, **forget_results(connection, run_ids, at)}
    gone["entries of journals"] = forget_journals(connection, run_ids)
    gone["calls of models"] = forget_asked(connection, run_ids)
    gone["anchors"] = judged.forget_anchors(connection, item_id)
    gone["keys of records"] = connection.execute(delete(claims).where(claims.c.item_id == item_id)).rowcount
    gone["samples"] = connection.execute(delete(samples).where(samples.c.sha256 == row["sha256"], samples.c.flow == row["flow"])).rowcount
    connection.execute(update(runs).where(runs.c.item_id == item_id).values(reason=FORGOTTEN))
    named = {"name": FORGOTTEN, "identity": known_as(str(row["identity"])), "sha256": "0" * 64, "size": 0, "data": None, "body": None}
    connection.execute(update(items).where(items.c.id == item_id).values(named))
    return gone


def forget_events(connection: Connection, value: str) -> int:
    """Remove what events held that have a value in them; that they came stays, so that they are not taken twice."""
    holding = update(events).where(func.instr(events.c.data, _encoded(value)) > 0)
    return int(connection.execute(holding.values(data=b"null")).rowcount)


def rows_of(connection: Connection, item_ids: Collection[str]) -> list[dict[str, Any]]:
    """Rows that runs of items have written, which stand elsewhere: destination, place, flow, and when."""
    run_ids = _column(connection, runs.c.id, runs.c.item_id, item_ids)
    found: list[dict[str, Any]] = []
    for part in _parts(run_ids):
        query = select(deliveries.c.destination, deliveries.c.receipt, deliveries.c.key, deliveries.c.done_at, deliveries.c.kind)
        query = query.where(deliveries.c.run_id.in_(part), deliveries.c.state == "written").order_by(deliveries.c.begun_at)
        found += [{"destination": row.destination or row.kind, "place": row.receipt or "", "at": row.done_at} for row in connection.execute(query)]
    return found


def unsettled_of(connection: Connection, item_ids: Collection[str]) -> list[str]:
    """Items of these of which a run has not settled."""
    return list(dict.fromkeys(_column(connection, runs.c.item_id, runs.c.item_id, item_ids, runs.c.state.not_in(SETTLED))))


def items_with(connection: Connection, value: str) -> set[str]:
    """Items in whose name, records or results a value stands."""
    pattern = f"%{_plain(fold(value))}%"
    found = set(connection.execute(select(records.c.item_id).where(records.c.words.like(pattern, escape="\\"))).scalars())
    found |= set(connection.execute(select(items.c.id).where(func.lower(items.c.name).like(pattern, escape="\\"))).scalars())
    inside = select(runs.c.item_id).join(journal, journal.c.run_id == runs.c.id).where(func.instr(journal.c.data, _encoded(value)) > 0)
    holding = or_(func.instr(items.c.data, _encoded(value)) > 0, func.instr(items.c.body, value.encode()) > 0)
    found |= set(connection.execute(select(items.c.id).where(holding)).scalars())
    found |= judged.anchored_items(connection, _encoded(value))
    return found | set(connection.execute(inside.distinct()).scalars())


def all_items(connection: Connection) -> list[tuple[str, str]]:
    """(item, file) of every item whose file may be kept."""
    return [(row.id, row.sha256) for row in connection.execute(select(items.c.id, items.c.sha256).where(items.c.name != FORGOTTEN))]


def is_forgotten(connection: Connection, item_id: str) -> bool:
    """Whether an item was forgotten."""
    return connection.execute(select(items.c.name).where(items.c.id == item_id)).scalar() == FORGOTTEN


def note(connection: Connection, id_: str, at: int, by: str, proof: Any) -> None:
    """Keep the proof of what was removed."""
    connection.execute(forgotten.insert(), [{"id": id_, "at": at, "by": by, "proof": dumps(proof)}])


def proofs(connection: Connection, most: int = 200) -> list[dict[str, Any]]:
    """What was removed on request, newest first."""
    rows = connection.execute(select(forgotten).order_by(forgotten.c.id.desc()).limit(most)).mappings()
    return [{**row, "proof": loads(row["proof"])} for row in rows]


def _encoded(value: str) -> bytes:
    """A text as it stands within JSON."""
    return dumps(value)[1:-1]


def _plain(text: str) -> str:
    return text.replace("\\", "\\\\").replace("%", "\\%").replace("_", "\\_")


def _column(connection: Connection, wanted: Any, column: Any, ids: Iterable[str], *conditions: ColumnElement[bool]) -> list[str]:
    found: list[str] = []
    for part in _parts(ids):
        found += connection.execute(select(wanted).where(column.in_(part), *conditions)).scalars().all()
    return found


def _each(connection: Connection, table: Table, column: Any, ids: Iterable[str]) -> None:
    for part in _parts(ids):
        connection.execute(delete(table).where(column.in_(part)))


def _parts(ids: Iterable[str]) -> Iterator[list[str]]:
    every = list(ids)
    return (every[at : at + TOGETHER] for at in range(0, len(every), TOGETHER))
