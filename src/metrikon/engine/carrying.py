"""A flow carried elsewhere as one file: with the flows that it uses, record types, decision tables, ways in, lists and samples. Never with a secret.

The file is a ZIP archive: `carried.json`, `flows/NAME.yaml`, `record_types/NAME.json`, `decision_tables/NAME.yaml`, `ways/NAME.yaml`,
`lists/NAME.csv`, `samples/NAME/sample.json` and `samples/NAME/file`.
"""

from __future__ import annotations

import io
import lzma
import zipfile
import zlib
from collections.abc import Callable, Iterator, Mapping
from dataclasses import dataclass, field, replace
from typing import Any

from sqlalchemy import Connection

from metrikon.core.decisions.model import BadTable, Table
from metrikon.core.entering.way import BadWay
from metrikon.core.flows.checking import checked
from metrikon.core.flows.model import Flow
from metrikon.core.flows.problems import BadFlow, Problem
from metrikon.core.flows.secret import secrets_in
from metrikon.core.records.types import BadRecordType, RecordType, record_type
from metrikon.core.values.exact import NotJson, dumps, loads
from metrikon.engine.catalog import Catalog
from metrikon.engine.ways import way_in
from metrikon.ports.clock import Clock
from metrikon.ports.files import Files
from metrikon.store import flows, samples
from metrikon.store.database import Database
from metrikon.store.lists import NAME, BadList, FolderOfLists

LARGEST = 200_000_000  # bytes of all that a file holds
MOST_PARTS = 2000
KINDS = {
    "record type": ("record_types", ".json"),
    "decision table": ("decision_tables", ".yaml"),
    "way in": ("ways", ".yaml"),
    "list": ("lists", ".csv"),
    "flow": ("flows", ".yaml"),
}


class BadCarried(ValueError):
    """A file that cannot be taken over, or a flow that cannot be carried; the message says why and what to do."""


@dataclass(frozen=True)
class Taken:
    """What becomes of one thing in a carried file: "new", "same", "new version", "replaced"."""

    what: str
    name: str
    becomes: str


@dataclass
class _Parts:
    """What a file holds, by what it is and its name."""

    flow: str = ""
    texts: dict[str, dict[str, str]] = field(default_factory=lambda: {what: {} for what in KINDS})
    samples: dict[str, tuple[dict[str, Any], bytes]] = field(default_factory=dict)


class Carrying:
    """Writes and reads carried files."""

    def __init__(self, database: Database, catalog: Catalog, files: Files, lists: FolderOfLists, clock: Clock) -> None:
        self._database, self._catalog, self._files, self._lists, self._clock = database, catalog, files, lists, clock

    def export(self, name: str) -> bytes:
        """A flow in its newest version with all that it needs. Raises KeyError for a flow that is not there, and `BadCarried`."""
        parts = _Parts(name)
        self._gather(name, parts)
        with self._database.reading() as connection:
            kept = samples.of_flow(connection, name)
        for row in kept:
            told = {key: row[key] for key in ("name", "why", "file_name", "intake", "received_at")}
            told["data"] = loads(row["data"]) if row["data"] is not None else None
            parts.samples[str(row["name"])] = (told, self._files.get(str(row["sha256"])))
        return _written(parts)

    def _gather(self, name: str, parts: _Parts) -> None:
        flow = self._catalog.newest_flow(name)
        found = next(iter(secrets_in(flow)), None)
        if found is not None:
            raise BadCarried(f"The flow {name} cannot be carried elsewhere as it is. {found}")
        needs = _needs(flow, self._catalog.known().record_types)
        with self._database.reading() as connection:
            row = flows.get_flow(connection, name)
            assert row is not None
            parts.texts["flow"][name] = str(row["text"])
            for what, used in needs:
                text = self._text(connection, what, used)
                if what == "flow":
                    continue
                if text is None:
                    raise BadCarried(f"The flow {name} uses the {what} {used!r}, which is not here. Keep it first, or correct the flow.")
                parts.texts[what][used] = text
        for what, used in needs:
            if what == "flow" and used not in parts.texts["flow"]:
                self._gather(used, parts)

    def _text(self, connection: Connection, what: str, name: str) -> str | None:
        """The text of something kept here, in its newest version; None where there is none."""
        if what == "list":
            return self._lists.text(name)
        get: Mapping[str, Callable[[Connection, str], dict[str, Any] | None]] = {
            "record type": flows.get_record_type,
            "decision table": flows.get_decision_table,
            "way in": flows.get_way,
            "flow": flows.get_flow,
        }
        row = get[what](connection, name)
        return None if row is None else str(row["text"])

    def take(self, data: bytes, by: str, *, replacing: bool = False, trying: bool = False) -> list[Taken]:
        """Take a carried file over, all of it or nothing; what becomes of each thing in it. Flows that are new are switched off.

        `replacing`: lists that are here and differ are put in the place of those; `trying`: nothing is kept. Raises `BadCarried` and `BadFlow`.
        """
        parts = _read(data)
        types, tables, ways = _types(parts), self._tables(parts), _ways(parts)
        known = self._catalog.known()
        heads = {name: (text.split("\n", 1)[0].split(",")) for name, text in parts.texts["list"].items()}
        uses: dict[str, list[str]] = {name: [] for name in parts.texts["flow"]}
        known = replace(
            known,
            record_types={**known.record_types, **types},
            tables={**known.tables, **tables},
            lists={**heads, **known.lists},
            ways={**known.ways, **ways},
            flows={**uses, **known.flows},
        )
        problems: list[Problem] = []
        for name, text in parts.texts["flow"].items():
            flow, found = checked(text, self._catalog.language, known)
            found += self._catalog.barred(flow) if flow is not None else ()
            problems += [replace(each, place=f"{name}: {each.place}") for each in found]
            if flow is not None and flow.name != name:
                problems.append(Problem("", "name", f"The file holds a flow named {flow.name!r} under the name {name!r}."))
        if problems:
            raise BadFlow(problems)
        with self._database.reading() as connection:
            taken = list(self._taken(connection, parts))
        other = [each.name for each in taken if each.what == "list" and each.becomes == "replaced"]
        if other and not replacing and not trying:
            raise BadCarried(f"Here is another list {', '.join(other)}. Say that it may be replaced, or rename it.")
        if not trying:
            self._keep(parts, by)
        return taken

    def _tables(self, parts: _Parts) -> dict[str, Table]:
        found = {}
        for name, text in parts.texts["decision table"].items():
            try:
                found[name] = self._catalog.checked_table(text)[0]
            except BadTable as error:
                raise BadCarried(f"The decision table {name}: {error}") from error
        return found

    def _taken(self, connection: Connection, parts: _Parts) -> Iterator[Taken]:
        for what, texts in parts.texts.items():
            for name, text in texts.items():
                here = self._text(connection, what, name)
                becomes = "new" if here is None else "same" if here == text else "replaced" if what == "list" else "new version"
                yield Taken(what, name, becomes)
        kept = {str(row["name"]) for row in samples.of_flow(connection, parts.flow)}
        yield from (Taken("sample", name, "replaced" if name in kept else "new") for name in parts.samples)

    def _keep(self, parts: _Parts, by: str) -> None:
        try:
            for name, text in parts.texts["list"].items():
                self._lists.put(name, text)
        except BadList as error:
            raise BadCarried(str(error)) from error
        hashes = {name: self._files.put(data) for name, (_, data) in parts.samples.items()}
        now = self._clock.now()

        def job(connection: Connection) -> None:
            for name, text in parts.texts["record type"].items():
                flows.put_record_type(connection, name, text, now)
            for name, text in parts.texts["decision table"].items():
                flows.put_decision_table(connection, name, text, now)
            for name, text in parts.texts["way in"].items():
                flows.put_way(connection, name, text, now)
            for name, text in parts.texts["flow"].items():
                flows.put_flow(connection, name, text, now, by, f"Carried here with {parts.flow}.", running=False)
            for name, (told, data) in parts.samples.items():
                row = {**told, "flow": parts.flow, "name": name, "sha256": hashes[name], "size": len(data), "kept_at": now, "kept_by": by}
                samples.put(connection, row)

        self._database.write(job)
        self._catalog.changed()


def _needs(flow: Flow, types: Mapping[str, RecordType]) -> list[tuple[str, str]]:
    """What is kept here that a flow names, and the lists that its record types name."""
    used = [each for step in flow.every_step for each in step.kind.uses(step.parameters)]
    named = [("list", each) for what, name in used if what == "record type" and name in types for each in types[name].list_names]
    return [(what, name) for what, name in dict.fromkeys([*used, *named]) if what in KINDS and name not in flow.destinations]


def _types(parts: _Parts) -> dict[str, RecordType]:
    found = {}
    for name, text in parts.texts["record type"].items():
        try:
            found[name] = record_type(loads(text), name)
        except (BadRecordType, NotJson) as error:
            raise BadCarried(f"The record type {name}: {error}") from error
    return found


def _ways(parts: _Parts) -> dict[str, list[str]]:
    """What the ways in take that a file holds."""
    found = {}
    for name, text in parts.texts["way in"].items():
        try:
            way = way_in(text)
        except BadWay as error:
            raise BadCarried(f"The way in {name}: {error}") from error
        if way.way != name:
            raise BadCarried(f"The file holds a way in that calls itself {way.way!r} under the name {name!r}.")
        found[name] = way.takes
    return found


def _written(parts: _Parts) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:

        def put(name: str, data: bytes | str) -> None:
            archive.writestr(zipfile.ZipInfo(name, (1980, 1, 1, 0, 0, 0)), data, zipfile.ZIP_DEFLATED)

        put("carried.json", dumps({"metrikon": 1, "flow": parts.flow}))
        for what, (folder, ending) in KINDS.items():
            for name, text in sorted(parts.texts[what].items()):
                put(f"{folder}/{name}{ending}", text)
        for name, (told, data) in sorted(parts.samples.items()):
            put(f"samples/{name}/sample.json", dumps(told))
            put(f"samples/{name}/file", data)
    return out.getvalue()


def _read(data: bytes) -> _Parts:
    try:
        with zipfile.ZipFile(io.BytesIO(data)) as archive:
            every = archive.infolist()
            if len(every) > MOST_PARTS or sum(each.file_size for each in every) > LARGEST:
                raise BadCarried(f"The file holds more than {MOST_PARTS} things, or more than {LARGEST / 1e6:.0f} MB.")
            whole = {each.filename: _inside(archive, each) for each in every}
        head = loads(whole["carried.json"])
        parts = _Parts(str(head["flow"]))
        if head["metrikon"] != 1:
            raise BadCarried("The file is of a later form than this version reads. Upgrade first.")
        for what, (folder, ending) in KINDS.items():
            for name in [each for each in whole if each.startswith(f"{folder}/") and each.endswith(ending)]:
                parts.texts[what][_named(name.removeprefix(f"{folder}/").removesuffix(ending))] = whole[name].decode()
        for name in [each.split("/")[1] for each in whole if each.startswith("samples/") and each.endswith("/sample.json")]:
            parts.samples[_named(name)] = (_sample(loads(whole[f"samples/{name}/sample.json"])), whole[f"samples/{name}/file"])
    except BadCarried:
        raise
    except (zipfile.BadZipFile, KeyError, TypeError, ValueError, EOFError, OSError, RuntimeError, zlib.error, lzma.LZMAError) as error:
        raise BadCarried("The file is no carried flow, or is damaged. Export it again.") from error
    if parts.flow not in parts.texts["flow"]:
        raise BadCarried(f"The file says that it carries the flow {parts.flow!r}, and does not hold it. Export it again.")
    return parts


def _inside(archive: zipfile.ZipFile, each: zipfile.ZipInfo) -> bytes:
    """A thing in the archive; one that is larger than it says is not read on."""
    with archive.open(each) as source:
        data = source.read(each.file_size + 1)
    if len(data) != each.file_size:
        raise BadCarried("The file is no carried flow, or is damaged. Export it again.")
    return data


def _named(name: str) -> str:
    if not NAME.fullmatch(name):
        raise BadCarried(f"The file holds something named {name!r}, which is no name.")
    return name


def _sample(told: Any) -> dict[str, Any]:
    return {
        "why": str(told["why"])[:2000],
        "file_name": str(told["file_name"])[:255],
        "intake": str(told["intake"])[:40],
        "data": dumps(told["data"]) if told.get("data") is not None else None,
        "received_at": int(told["received_at"]),
    }


def flow_name(data: bytes) -> str:
    """The name of the flow that a file carries. Raises `BadCarried`."""
    return _read(data).flow
