"""Records as stored, and the claims by which the same record is recognised in other bytes."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection, bindparam, delete, insert, or_, select, update
from sqlalchemy.dialects.sqlite import insert as upsert

from metrikon.core.records.pointers import get as get_value
from metrikon.core.records.types import RecordType
from metrikon.core.values.exact import dumps, loads
from metrikon.core.values.text import fold
from metrikon.store import changes
from metrikon.store.hot import Hot
from metrikon.store.tables import claims, items, record_versions, records, runs

MOST_VERSIONS = 200  # of a record that are shown
JSON_COLUMNS = ("values", "evidence", "findings", "changes", "as_read")


STATES = ("read", "waits", "approved", "clear", "refused", "replaced")  # the last: a later run of its item has read it anew
# statements of the hot path are built once: building one costs more than running it
_OF_STEP = Hot(select(records.c.id).where(records.c.run_id == bindparam("run"), records.c.path == bindparam("step")))
ACCEPTED = ("approved", "clear")
_own, _other, _run, _others = records.alias("own"), records.alias("other"), runs.alias("own_run"), runs.alias("other_run")
_FORMER = Hot(
    select(_other.c.id)
    .select_from(_own)
    .join(_run, _run.c.id == _own.c.run_id)
    .join(_others, (_others.c.item_id == _run.c.item_id) & (_others.c.id != _run.c.id) & (_others.c.flow == _run.c.flow))
    .join(_other, (_other.c.run_id == _others.c.id) & (_other.c.path == _own.c.path) & (_other.c.record_type == _own.c.record_type))
    .where(
        _own.c.id == bindparam("of"),
        _others.c.used_at.is_not_distinct_from(_run.c.used_at),
        or_(*(_other.c.state == state for state in (*ACCEPTED, "read"))),
    )
)
_PUT = Hot(insert(records).inline())
_CLAIM = Hot(upsert(claims).on_conflict_do_nothing().inline())
_HOLDER = Hot(
    select(claims.c.item_id, items.c.name)
    .join(items, items.c.id == claims.c.item_id)
    .where(claims.c.record_type == bindparam("of_type"), claims.c.key == bindparam("of_key"))
)


def described(kind: RecordType, values: dict[str, Any]) -> dict[str, str]:
    """What a record is listed and searched by: `title` (the values of its key) and `words` (its header values)."""
    keys = kind.ours.get("key") or [field.shape for field in kind.header[:2]]
    title = " · ".join(str(value) for value in (get_value(values, pointer) for pointer in keys) if value not in (None, ""))
    words = " ".join(fold(str(get_value(values, field.shape) or "")) for field in kind.header)
    return {"title": title[:200], "words": words[:2000]}


def put(connection: Connection, row: dict[str, Any], at: int) -> str:
    """Store what was read; a step that is done again replaces its record. The record's id is returned."""
    stored = {name: dumps(value) if name in JSON_COLUMNS else value for name, value in row.items()}
    before = _OF_STEP.scalar(connection, {"run": row["run_id"], "step": row["path"]})
    if before is None:
        _PUT.run(connection, {"reviewed_at": None, "reviewed_by": None, "comment": None, **stored, "created_at": at})
    else:
        kept = {name: value for name, value in stored.items() if name not in ("id", "run_id", "item_id", "path")}
        connection.execute(update(records).where(records.c.id == before).values(kept))
    found = str(before or row["id"])
    changes.note(connection, "record", [found], at)
    return found


_CHECKED = Hot(update(records).where(records.c.id == bindparam("of")).values(findings=bindparam("found"), state=bindparam("to")))


def checked(connection: Connection, record_id: str, found: Any, state: str, at: int) -> None:
    """Keep what a check found, and where the record stands."""
    _CHECKED.run(connection, {"of": record_id, "found": dumps(found), "to": state})
    changes.note(connection, "record", [record_id], at)
    if state in ACCEPTED:
        replaces(connection, record_id, at)


def replaces(connection: Connection, record_id: str, at: int) -> None:
    """A record is accepted: those that earlier runs of its item have read by the same step count no longer."""
    former = [str(row[0]) for row in _FORMER.run(connection, {"of": record_id})]
    for each in former:
        change(connection, each, at, state="replaced")


def approved_before(connection: Connection, record_id: str, values: dict[str, Any]) -> dict[str, Any] | None:
    """The record itself, or that of an earlier run of its item, where a person has approved it with just these values; None where nobody has."""
    for one in [record_id, *(str(row[0]) for row in _FORMER.run(connection, {"of": record_id}))]:
        found = get(connection, one)
        if found is not None and found["state"] == "approved" and found["values"] == values:
            return found
    return None


def taken_over(connection: Connection, record_id: str, before: Mapping[str, Any], at: int) -> None:
    """A record holds what a person has approved of one that was read before."""
    change(
        connection,
        record_id,
        at,
        **{name: before[name] for name in ("values", "evidence", "title", "words", "reviewed_at", "reviewed_by", "comment")},
    )


def change(connection: Connection, record_id: str, at: int, **columns: Any) -> None:
    """Change columns of a record."""
    stored = {name: dumps(value) if name in JSON_COLUMNS else value for name, value in columns.items()}
    connection.execute(update(records).where(records.c.id == record_id).values(stored))
    changes.note(connection, "record", [record_id], at)


def get(connection: Connection, record_id: str) -> dict[str, Any] | None:
    """A record with its JSON read, or None."""
    row = connection.execute(select(records).where(records.c.id == record_id)).mappings().first()
    return unpacked(row) if row else None


def evidence_of(connection: Connection, record_id: str) -> dict[str, Any]:
    """The evidence of a record, as plain data; nothing for one that is not there."""
    found = connection.execute(select(records.c.evidence).where(records.c.id == record_id)).scalar()
    return loads(found) if found else {}


def unpacked(row: Any) -> dict[str, Any]:
    """A row of the table with its JSON read."""
    return {name: loads(value) if name in JSON_COLUMNS else value for name, value in row.items()}


def hold_keys(connection: Connection, record_type: str, keys: Sequence[str], item_id: str, record_id: str) -> None:
    """Hold what a record is recognised by for its item, as far as no other item holds it."""
    for key in keys:
        _CLAIM.run(connection, {"record_type": record_type, "key": key, "item_id": item_id, "record_id": record_id})


def holder(connection: Connection, record_type: str, key: str) -> tuple[str, str] | None:
    """The item that holds a key, and its name."""
    held = _HOLDER.run(connection, {"of_type": record_type, "of_key": key})
    return (str(held[0][0]), str(held[0][1])) if held else None


def of_run(connection: Connection, run_id: str, most: int = 20) -> list[tuple[str, str]]:
    """(id, title) of the records of a run."""
    query = select(records.c.id, records.c.title).where(records.c.run_id == run_id).order_by(records.c.id).limit(most)
    return [(str(row.id), str(row.title)) for row in connection.execute(query)]


def accepted(connection: Connection, record_type: str, after: str, most: int) -> list[tuple[str, dict[str, Any]]]:
    """(id, values) of records of a type that were approved or needed nobody, behind an id, in the order of their ids."""
    query = select(records.c.id, records.c["values"]).where(
        records.c.record_type == record_type, records.c.state.in_(("approved", "clear")), records.c.id > after
    )
    return [(row[0], loads(row[1])) for row in connection.execute(query.order_by(records.c.id).limit(most))]


def next_waiting(connection: Connection, record_id: str) -> str | None:
    """The record after one that waits for a person, from the first again after the last."""
    query = select(records.c.id).where(records.c.state == "waits", records.c.id != record_id)
    found: str | None = connection.execute(query.order_by(records.c.id < record_id, records.c.id).limit(1)).scalar()
    return found


@dataclass(frozen=True)
class Before:
    """What a record held before somebody corrected it."""

    values: dict[str, Any]
    at: int
    by: str
    comment: str


def keep_before(connection: Connection, record_id: str, before: Before) -> None:
    """Keep what a record held until now."""
    told = {"record_id": record_id, "values": dumps(before.values), "at": before.at, "by": before.by, "comment": before.comment}
    connection.execute(insert(record_versions).values(told))


def versions(connection: Connection, record_id: str) -> list[Before]:
    """What a record held before each of its corrections, the latest first."""
    query = select(record_versions).where(record_versions.c.record_id == record_id).order_by(record_versions.c.id.desc()).limit(MOST_VERSIONS)
    return [Before(loads(row["values"]), row["at"], row["by"], row["comment"]) for row in connection.execute(query).mappings()]


def passed_on(connection: Connection, record_id: str, run_id: str) -> None:
    """A record belongs to a run that goes on with it."""
    connection.execute(update(records).where(records.c.id == record_id).values(run_id=run_id))


def closed(connection: Connection, run_id: str, by: str, comment: str, at: int) -> None:
    """Records of a run that wait for a person do so no longer: nothing of them is written."""
    waiting = connection.execute(select(records.c.id).where(records.c.run_id == run_id, records.c.state == "waits")).scalars().all()
    for record_id in waiting:
        change(connection, record_id, at, state="refused", reviewed_at=at, reviewed_by=by, comment=comment)
        release_keys(connection, record_id)


def release_keys(connection: Connection, record_id: str) -> None:
    """Let go of the keys of a record that was refused."""
    connection.execute(delete(claims).where(claims.c.record_id == record_id))
