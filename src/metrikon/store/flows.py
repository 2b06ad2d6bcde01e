"""Flows, record types and decision tables, kept in versions."""

from __future__ import annotations

from typing import Any

from sqlalchemy import Connection, Table, bindparam, delete, func, insert, select, update

from metrikon.core.values.near import unknown
from metrikon.store import changes
from metrikon.store.hot import Hot
from metrikon.store.tables import decision_tables, flows, paused, record_types, ways


def put_flow(connection: Connection, name: str, text: str, at: int, by: str = "", why: str = "", *, running: bool = True) -> int:
    """Keep a flow; a new version only when its text is new. The version is returned. `running`: whether one that is new is switched on."""
    before = get_flow(connection, name)
    if before and before["text"] == text:
        return int(before["version"])
    version = int(before["version"]) + 1 if before else 1
    running = bool(before["running"]) if before else running
    row = {"name": name, "version": version, "text": text, "created_at": at, "running": running, "put_by": by, "why": why}
    connection.execute(insert(flows), [row])
    changes.note(connection, "flow", [name], at)
    return version


def put_record_type(connection: Connection, name: str, text: str, at: int) -> int:
    """Keep a record type; a new version only when its text is new."""
    return _put(connection, record_types, name, text, at)


def put_decision_table(connection: Connection, name: str, text: str, at: int) -> int:
    """Keep a decision table; a new version only when its text is new."""
    return _put(connection, decision_tables, name, text, at)


def put_way(connection: Connection, name: str, text: str, at: int) -> int:
    """Keep a way in; a new version only when its text is new."""
    return _put(connection, ways, name, text, at)


def get_way(connection: Connection, name: str, version: int | None = None) -> dict[str, Any] | None:
    """A way in in a version, or in its newest."""
    return _get(connection, ways, name, version)


def all_ways(connection: Connection) -> list[dict[str, Any]]:
    """The newest version of every way in, by name."""
    return _all(connection, ways)


def _put(connection: Connection, table: Table, name: str, text: str, at: int) -> int:
    before = _get(connection, table, name, None)
    if before and before["text"] == text:
        return int(before["version"])
    version = int(before["version"]) + 1 if before else 1
    connection.execute(insert(table), [{"name": name, "version": version, "text": text, "created_at": at}])
    return version


def texts_with(connection: Connection, part: str) -> list[tuple[str, int, str]]:
    """(name, version, text) of every version of a flow whose text has a part in it."""
    query = select(flows.c.name, flows.c.version, flows.c.text).where(flows.c.text.contains(part, autoescape=True))
    return [(name, version, text) for name, version, text in connection.execute(query)]


def reword(connection: Connection, name: str, version: int, text: str) -> None:
    """Put another text in the place of that of a kept version: for an upgrade that takes a secret out of it."""
    connection.execute(update(flows).where(flows.c.name == name, flows.c.version == version).values(text=text))


def switch_flow(connection: Connection, name: str, running: bool, at: int) -> None:
    """Switch a flow on or off: off, it takes nothing in."""
    connection.execute(update(flows).where(flows.c.name == name).values(running=running))
    changes.note(connection, "flow", [name], at)


def pause_flow(connection: Connection, name: str, pausing: bool, by: str, at: int) -> None:
    """Pause a flow: what comes in waits, and its runs are not worked on. Or let it go on."""
    connection.execute(delete(paused).where(paused.c.flow == name))
    if pausing:
        connection.execute(insert(paused).values(flow=name, at=at, by=by))
    changes.note(connection, "flow", [name], at)


def paused_flows(connection: Connection) -> set[str]:
    """The names of flows that are paused."""
    return set(connection.execute(select(paused.c.flow)).scalars())


def flow_versions(connection: Connection, name: str) -> list[dict[str, Any]]:
    """All versions of a flow, newest first."""
    query = select(flows).where(flows.c.name == name).order_by(flows.c.version.desc())
    return [dict(row) for row in connection.execute(query).mappings()]


def get_flow(connection: Connection, name: str, version: int | None = None) -> dict[str, Any] | None:
    """A flow in a version, or in its newest."""
    return _get(connection, flows, name, version)


_STANDING = Hot(select(flows.c.version, flows.c.running).where(flows.c.name == bindparam("of")).order_by(flows.c.version.desc()).limit(1))


def no_flow(connection: Connection, name: str) -> str:
    """What is told of a flow that is not there."""
    return unknown("flow", name, (each for each, _ in newest_versions(connection)))


def standing(connection: Connection, name: str) -> tuple[int, bool] | None:
    """The newest version of a flow and whether it is switched on; None when there is no such flow."""
    rows = _STANDING.run(connection, {"of": name})
    return (int(rows[0][0]), bool(rows[0][1])) if rows else None


def get_record_type(connection: Connection, name: str, version: int | None = None) -> dict[str, Any] | None:
    """A record type in a version, or in its newest."""
    return _get(connection, record_types, name, version)


def get_decision_table(connection: Connection, name: str, version: int | None = None) -> dict[str, Any] | None:
    """A decision table in a version, or in its newest."""
    return _get(connection, decision_tables, name, version)


def all_decision_tables(connection: Connection) -> list[dict[str, Any]]:
    """The newest version of every decision table, by name."""
    return _all(connection, decision_tables)


def type_versions(connection: Connection, name: str) -> list[dict[str, Any]]:
    """All versions of a record type, newest first."""
    query = select(record_types).where(record_types.c.name == name).order_by(record_types.c.version.desc())
    return [dict(row) for row in connection.execute(query).mappings()]


def _get(connection: Connection, table: Table, name: str, version: int | None) -> dict[str, Any] | None:
    query = select(table).where(table.c.name == name)
    query = query.where(table.c.version == version) if version else query.order_by(table.c.version.desc()).limit(1)
    row = connection.execute(query).mappings().first()
    return dict(row) if row else None


def newest_versions(connection: Connection) -> list[tuple[str, int]]:
    """(name, version) of every flow in its newest version."""
    query = select(flows.c.name, func.max(flows.c.version)).group_by(flows.c.name).order_by(flows.c.name)
    return [(name, version) for name, version in connection.execute(query)]


_RUNNING = Hot(
    select(flows.c.name, func.max(flows.c.version)).group_by(flows.c.name).having(func.max(flows.c.version).is_not(None), flows.c.running.is_(True))
)


def running(connection: Connection) -> list[tuple[str, int]]:
    """(name, newest version) of every flow that is switched on."""
    return [(str(name), int(version)) for name, version in _RUNNING.run(connection, {})]


def all_flows(connection: Connection) -> list[dict[str, Any]]:
    """The newest version of every flow, by name."""
    return _all(connection, flows)


def all_record_types(connection: Connection) -> list[dict[str, Any]]:
    """The newest version of every record type, by name."""
    return _all(connection, record_types)


def _all(connection: Connection, table: Table) -> list[dict[str, Any]]:
    newest = select(table.c.name, func.max(table.c.version).label("version")).group_by(table.c.name).subquery()
    query = select(table).join(newest, (table.c.name == newest.c.name) & (table.c.version == newest.c.version)).order_by(table.c.name)
    return [dict(row) for row in connection.execute(query).mappings()]
