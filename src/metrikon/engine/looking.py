"""Looking into a run: what its steps gave, value by value."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import dataclass
from typing import Any

from metrikon.core.feel.values import kind_of, native
from metrikon.core.flows.fold import replayed
from metrikon.core.flows.state import State
from metrikon.engine.catalog import Catalog
from metrikon.engine.results import unpacked
from metrikon.ports.files import Files
from metrikon.store import journal
from metrikon.store.database import Database

MOST = 5000  # values that are listed
JUDGED = ("done", "asked", "answered")  # entries that hold what was judged
FIRST = 3  # elements of a list that are listed one by one


@dataclass(frozen=True)
class Value:
    """A value in the scope of a flow: its path, as an expression names it, its type, and itself where it is no list and no context."""

    path: str
    type: str
    value: Any
    count: int | None = None  # elements of a list


def state_of(database: Database, catalog: Catalog, files: Files, run_id: str, flow: str, version: int) -> State:
    """Where a run stands, from its journal."""
    state = State(catalog.flow(flow, version))
    with database.reading() as connection:
        entries = journal.to_replay(connection, run_id)
    return replayed(state, [unpacked(entry, files) for _, entry in entries])


def judged_in(database: Database, files: Files, run_id: str) -> dict[str, dict[str, Any]]:
    """What the steps that judge have given in a run, by their paths: what a person answered in place of what was thought before."""
    found: dict[str, dict[str, Any]] = {}
    with database.reading() as connection:
        entries = journal.load(connection, run_id)
    for _, entry in entries:
        result = unpacked(entry, files).data.get("result") if entry.event in JUDGED else None
        if isinstance(result, Mapping) and "stand_in" in result and "outcome" in result:
            found[entry.path] = {**found.get(entry.path, {}), **result}
    return found


def values_in(state: State) -> list[Value]:
    """The values that are in scope at the end of a run, or where it stands: item, run, and the results of its steps in their order."""
    frame = state.frames.get("")
    if frame is None:
        return []
    names = ["item", "run", *(each.name for each in frame.steps)]
    found: list[Value] = []
    for name in names:
        if name in frame.scope:
            for value in _listed(name, frame.scope[name]):
                if len(found) >= MOST:
                    return found
                found.append(value)
    return found


def _listed(path: str, value: Any) -> Iterator[Value]:
    if isinstance(value, Mapping):
        yield Value(path, "context", None)
        for name, each in value.items():
            yield from _listed(f"{path}.{name}" if name.isidentifier() else f'get value({path}, "{name}")', each)
    elif isinstance(value, list):
        yield Value(path, "list", None, len(value))
        for number, each in enumerate(value[:FIRST], 1):
            yield from _listed(f"{path}[{number}]", each)
    else:
        yield Value(path, kind_of(native(value)), value)
