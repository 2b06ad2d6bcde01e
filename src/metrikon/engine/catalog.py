"""Flows, record types and decision tables, parsed once a version."""

from __future__ import annotations

import re
import threading
from collections.abc import Callable, Mapping, Sequence
from dataclasses import replace
from typing import Any, Protocol

from metrikon.core.decisions import dmn
from metrikon.core.decisions.gaps import gaps, overlaps
from metrikon.core.decisions.model import BadTable, Table, table_from
from metrikon.core.feel.holes import expressions
from metrikon.core.feel.parse import in_standard_spelling
from metrikon.core.flows.checking import checked
from metrikon.core.flows.copying import BadCopy, copied
from metrikon.core.flows.form import Form, fields
from metrikon.core.flows.kind import Known, Language
from metrikon.core.flows.lines import with_lines
from metrikon.core.flows.model import Flow, Limits
from metrikon.core.flows.problems import BadFlow, Problem
from metrikon.core.flows.reading import flow_from
from metrikon.core.flows.text import NotYaml, from_yaml
from metrikon.core.flows.verify import remarks, verify
from metrikon.core.records.types import BadRecordType, RecordType, record_type
from metrikon.core.records.wrong import wrong_with
from metrikon.core.values.exact import NotJson, loads
from metrikon.ports.clock import Clock
from metrikon.store import connections, flows
from metrikon.store.current import Current
from metrikon.store.database import Database

RECORD_TYPE_NAME = r"[\w][\w .\-]{0,59}"
LIMITS = 1000  # milliseconds for which the limits of flows are taken as they were
Lists = Callable[[], Mapping[str, Sequence[str]]]


class KeptWays(Protocol):
    """The ways in that are kept."""

    def get(self, name: str, version: int | None = None) -> tuple[Any, int]: ...

    def takes(self) -> Mapping[str, Sequence[str]]: ...


class Catalog:
    """What is kept under which name; versions never change, so they are parsed once."""

    def __init__(
        self,
        database: Database,
        clock: Clock,
        language: Language,
        models: frozenset[str],
        lists: Lists = dict,
        barred: Callable[[Flow], Sequence[Problem]] = lambda flow: (),
        ways: KeptWays | None = None,
    ) -> None:
        self._database = database
        self._clock = clock
        self.language = language
        self._models = models
        self._lists = lists  # the lists that there are, with the heads of their columns
        self._ways = ways
        self.barred = barred  # what of a flow touches places that flows may not
        self._flows: dict[tuple[str, int], Flow] = {}
        self._types: dict[tuple[str, int], RecordType] = {}
        self._newest: dict[str, int] = {}
        self._tables: dict[tuple[str, int], Table] = {}
        self._standing = Current(database, flows.standing)
        self._limited: tuple[int, Mapping[str, int]] = (-LIMITS, {})
        self._lock = threading.Lock()

    def flow(self, name: str, version: int) -> Flow:
        """A flow in a version. Raises KeyError."""
        found = self._flows.get((name, version))
        if found is None:
            with self._database.reading() as connection:
                row = flows.get_flow(connection, name, version)
            if row is None:
                raise KeyError(f"There is no flow {name!r} in version {version}.")
            found = self._flows[name, version] = flow_from(from_yaml(row["text"]), self.language)
        return found

    def limits(self, name: str) -> Limits:
        """What a flow may take at most, as its newest version says; of one that is not kept here, anything."""
        try:
            return self.newest_flow(name).head.limits
        except (KeyError, BadFlow):
            return Limits()

    def at_once(self) -> Mapping[str, int]:
        """Flows that say how many of their runs are worked on at once, as they were within the last second."""
        now = self._clock.now()
        if now - self._limited[0] > LIMITS or now < self._limited[0]:
            with self._database.reading() as connection:
                kept = flows.newest_versions(connection)
            found = {name: self._at_once(name, version) for name, version in kept}
            self._limited = now, {name: count for name, count in found.items() if count}
        return self._limited[1]

    def _at_once(self, name: str, version: int) -> int:
        try:
            return self.flow(name, version).head.limits.at_once
        except BadFlow:
            return 0  # kept by an older version of the program

    def names(self) -> list[str]:
        """The names of all flows."""
        return sorted(self.known().flows)

    def newest_flow(self, name: str) -> Flow:
        """A flow in its newest version. Raises KeyError."""
        return self.newest_version(name)[0]

    def record_type(self, name: str, version: int | None = None) -> tuple[RecordType, int]:
        """A record type and its version, the newest without one. Raises KeyError."""
        wanted = version or self._newest.get(name)
        if wanted is None or (name, wanted) not in self._types:
            with self._database.reading() as connection:
                row = flows.get_record_type(connection, name, version)
            if row is None:
                raise KeyError(f"There is no record type {name!r}.")
            wanted = int(row["version"])
            with self._lock:
                self._types[name, wanted] = record_type(loads(row["text"]), name)
                if version is None:
                    self._newest[name] = wanted
        return self._types[name, wanted], wanted

    def put_record_type(self, name: str, text: str) -> int:
        """Check and keep a record type; its version. Raises `BadRecordType`."""
        if not re.fullmatch(RECORD_TYPE_NAME, name):
            raise BadRecordType(
                f"A record type cannot be named {name[:80]!r}: a name has up to 60 letters, figures, blanks, dots, dashes and underscores."
            )
        if problems := wrong_with(text):
            raise BadRecordType("\n".join(str(each) for each in problems))
        kind = record_type(loads(text), name)
        at = self._clock.now()
        version = self._database.write(lambda connection: flows.put_record_type(connection, name, text, at))
        with self._lock:
            self._types[name, version] = kind
            self._newest[name] = version
        return version

    def changed(self) -> None:
        """Something was kept beside the catalog: what is newest is looked up again."""
        with self._lock:
            self._newest.clear()

    def decision_table(self, name: str, version: int | None = None) -> tuple[Table, int]:
        """A decision table and its version, the newest without one. Raises KeyError."""
        with self._database.reading() as connection:
            row = flows.get_decision_table(connection, name, version)
        if row is None:
            raise KeyError(f"There is no decision table {name!r}.")
        wanted = int(row["version"])
        if (name, wanted) not in self._tables:
            self._tables[name, wanted] = _one_table(row["text"])
        return self._tables[name, wanted], wanted

    def put_decision_table(self, text: str) -> tuple[str, int, list[str]]:
        """Check and keep a decision table; its name, its version, and what is left open in it. Raises `BadTable`."""
        table, told = self.checked_table(text)
        at = self._clock.now()
        version = self._database.write(lambda connection: flows.put_decision_table(connection, table.decision, text, at))
        return table.decision, version, told

    def checked_table(self, text: str) -> tuple[Table, list[str]]:
        """The decision table in a text (YAML, or DMN XML), and what it leaves open.

        Raises `BadTable` with all that is wrong, overlaps that may not be among it.
        """
        try:
            table = _one_table(text)
        except NotYaml as error:
            raise BadTable([str(error)]) from error
        wrong = overlaps(table)
        if wrong:
            raise BadTable([f"{each} Only one may hold; correct them, or choose another hit policy." for each in wrong])
        return table, gaps(table)

    def versions_in(self, flow: Flow) -> dict[str, int]:
        """The versions, as of now, of what a flow names that is kept in versions: by "what name"."""
        found: dict[str, int] = {}
        newest: dict[str, Callable[[str], tuple[Any, int]]] = {
            "record type": self.record_type,
            "decision table": self.decision_table,
            "flow": self.newest_version,
        }
        if self._ways is not None:
            newest["way in"] = self._ways.get
        for step in flow.every_step:
            for what, name in step.kind.uses(step.parameters):
                if what in newest and f"{what} {name}" not in found:
                    try:
                        found[f"{what} {name}"] = newest[what](name)[1]
                    except KeyError:
                        continue  # the step that needs it says so
        return found

    def newest_version(self, name: str) -> tuple[Flow, int]:
        found = self._standing[name]
        if found is None:
            with self._database.reading() as connection:
                raise KeyError(flows.no_flow(connection, name))
        return self.flow(name, found[0]), found[0]

    def known(self) -> Known:
        """What is kept here, that flows may name."""
        with self._database.reading() as connection:
            tables = [str(row["name"]) for row in flows.all_decision_tables(connection)]
            kept = flows.newest_versions(connection)
            connected = frozenset(str(row["name"]) for row in connections.all_connections(connection))
        used = {name: self._used_in(name, version) for name, version in kept}
        ways = self._ways.takes() if self._ways is not None else {}
        return Known(
            self._record_types(), self._models, {name: self.decision_table(name)[0] for name in tables}, self._lists(), used, connected, ways
        )

    def _used_in(self, name: str, version: int) -> list[str]:
        """The flows that a flow uses."""
        return [used for what, used in self._names(name, version) if what == "flow"]

    def texts(self) -> list[tuple[str, str]]:
        """The text of every flow in its newest version, by its name."""
        with self._database.reading() as connection:
            return [(str(row["name"]), str(row["text"])) for row in flows.all_flows(connection)]

    def naming(self, what: str, name: str) -> list[str]:
        """The flows that name something ("connection", "list", …) in their newest version."""
        with self._database.reading() as connection:
            kept = flows.newest_versions(connection)
        return [flow for flow, version in kept if (what, name) in self._names(flow, version)]

    def _names(self, name: str, version: int) -> list[tuple[str, str]]:
        """What a version of a flow names: by its steps, and the connections of its intakes and destinations."""
        try:
            flow = self.flow(name, version)
        except BadFlow:
            return []  # kept by an older version of the program
        said = [each.form for each in (*flow.intakes, *flow.destinations.values()) if isinstance(each.form, Form)]
        outside = [("connection", str(value)) for form in said for _, _, _, value in fields(form, "connection") if value]
        named = [*outside, *(used for step in flow.every_step for used in step.kind.uses(step.parameters))]
        return [*named, *(("connection", self._connection_of(way)) for what, way in named if what == "way in")]

    def _connection_of(self, way: str) -> str:
        """The connection by which a way in signs in; nothing where there is none of that name."""
        try:
            return str(self._ways.get(way)[0].connection) if self._ways is not None else ""
        except KeyError:
            return ""

    def touched(self, name: str, text: str | None = None) -> list[tuple[str, list[Problem]]]:
        """The flows that extract a record type, each with what would be wrong with it if the type were as in `text`.

        Raises `BadRecordType` when the text is none.
        """
        try:
            changed = {name: record_type(loads(text), name)} if text is not None else {}
        except NotJson as error:
            raise BadRecordType(f"The record type is no JSON: {error}.") from error
        with self._database.reading() as connection:
            rows = flows.all_flows(connection)
        known = self.known()
        known = replace(known, record_types={**known.record_types, **changed})
        found = []
        for row in rows:
            flow = self.flow(row["name"], row["version"])
            if any(("record type", name) in each.kind.uses(each.parameters) for each in flow.every_step):
                found.append((flow.name, verify(flow, known)))
        return found

    def put_flow(self, text: str, by: str = "", why: str = "", *, running: bool = True) -> tuple[str, int]:
        """Check and keep a flow, functions in it under their names in the standard; its name and version. `running`: whether one that is new is switched on. Raises `BadFlow` with all that is wrong."""
        flow = self.checked_flow(text)
        at = self._clock.now()
        kept = _in_standard_spelling(text, flow)
        return flow.name, self._database.write(lambda connection: flows.put_flow(connection, flow.name, kept, at, by, why, running=running))

    def copy_flow(self, name: str, fresh: str, values: Mapping[str, Any], by: str, why: str = "") -> tuple[str, int]:
        """A flow kept under another name, switched off, with other values of its settings; name and version.

        Raises KeyError for a flow that is not there, `BadCopy`, and `BadFlow` with all that is wrong with the copy.
        """
        flow, version = self.newest_version(name)
        with self._database.reading() as connection:
            row = flows.get_flow(connection, name, version)
            taken = flows.get_flow(connection, fresh) is not None
        if taken:
            raise BadCopy(f"There is a flow {fresh} already; choose another name.")
        assert row is not None
        text = copied(str(row["text"]), flow, fresh, values)
        self.checked_flow(text)
        told = why or f"A copy of {name}, version {version}."
        at = self._clock.now()
        return fresh, self._database.write(lambda connection: flows.put_flow(connection, fresh, text, at, by, told, running=False))

    def checked_flow(self, text: str) -> Flow:
        """The flow in a text, verified against what is kept here. Raises `BadFlow`."""
        flow, problems = self.problems_in(text)
        if problems or flow is None:
            raise BadFlow(problems)
        return flow

    def problems_in(self, text: str) -> tuple[Flow | None, list[Problem]]:
        """The flow in a text, as far as it can be read, and all that is wrong with it."""
        flow, problems = checked(text, self.language, self.known())
        barred = self.barred(flow) if flow is not None else ()
        return flow, [*problems, *with_lines(list(barred), text)] if barred else problems

    def remarks_on(self, flow: Flow) -> list[Problem]:
        """What is right in a flow and yet worth a word."""
        return remarks(flow, self.known())

    def _record_types(self) -> Mapping[str, RecordType]:
        with self._database.reading() as connection:
            names = [str(row["name"]) for row in flows.all_record_types(connection)]
        return {name: self.record_type(name)[0] for name in names}


def _one_table(text: str) -> Table:
    """The table in YAML or in DMN XML. Raises `BadTable` and `NotYaml`."""
    if not text.lstrip("\ufeff \n\r\t").startswith("<"):
        return table_from(from_yaml(text))
    found = dmn.read(text.lstrip("\ufeff"))
    if len(found) > 1:
        raise BadTable([f"The file holds {len(found)} decisions ({', '.join(each.decision for each in found)}); give one in a file."])
    return found[0]


def _in_standard_spelling(text: str, flow: Flow) -> str:
    """The text of a flow with functions that were written with underscores under their names in the standard."""
    for step in flow.every_step:
        for expression in (*(each for _, each in step.conditions), *(each for _, each in expressions(step.plain))):
            spelled = in_standard_spelling(expression)
            if spelled != expression:
                text = text.replace(expression, spelled)
    return text
