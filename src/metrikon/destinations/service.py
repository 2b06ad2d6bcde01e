"""Records of a service that describes itself (OpenAPI): made, found and set by the operations that its notes name."""

from __future__ import annotations

import hashlib
import uuid
from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass, replace
from typing import Any

from metrikon.connections.busy import busy
from metrikon.connections.fetching import Fetched, FetchFailed, Wanted
from metrikon.core.services import notes as noted
from metrikon.core.services.description import Description, Operation
from metrikon.core.services.notes import Records
from metrikon.core.services.request import Asked, Part, Unfit, asked, at
from metrikon.core.values.exact import NotJson, loads
from metrikon.core.values.text import clean
from metrikon.destinations.service_appending import Appended, where_of
from metrikon.destinations.service_form import ServiceRecords
from metrikon.destinations.turns import turn_at
from metrikon.ports.destination import Broken, Busy, Change, DestinationKind, Head, Partly, Receipt, Row, There, Unsure, Unusable, Usual

LARGEST, SECONDS = 5_000_000, 60.0  # bytes and seconds of an answer


@dataclass(frozen=True)
class Attached:
    """A file that was given to a record: the record as it is told, its id, and the id of the file ("" where the service tells none)."""

    place: str
    record: str
    file: str


class ServiceDestination(Appended, Usual):
    """Makes records one by one, or several in a call where the service takes them so."""

    gather = 0.05
    grows = False

    def __init__(self, calling: Any, connection: str, records: str, by: Sequence[str] = (), others: Sequence[Sequence[str]] = ()) -> None:
        self._calling, self._connection, self._name = calling, connection, records
        self._ways = tuple(tuple(each) for each in (by, *others) if each)
        self._by = tuple(dict.fromkeys(field for way in self._ways for field in way))
        described: tuple[Description, noted.Notes] | None = calling.described(connection)
        if described is None:
            raise Unusable(f"The service of the connection {connection} is not described. Give it its OpenAPI description, then confirm the notes.")
        self._told, notes = described
        if records not in notes.records:
            known = ", ".join(notes.records) or "none"
            raise Unusable(
                f"The notes of the connection {connection} know no records {records!r}. Known: {known}. Note which operations concern them."
            )
        self._notes: Records = notes.records[records]
        wrong = list(noted.wrong(notes, self._told))
        if wrong:
            raise Unusable(f"The notes of the connection {connection} do not fit its description: {wrong[0][0]}: {wrong[0][1]}")
        finder = self._notes.find
        missing = [each for each in self._by if finder is None or each not in finder.by]
        if missing:
            raise Unusable(
                f"{self._name.capitalize()} of {connection} are not found by {', '.join(missing)}: note under find/by which parameter takes it."
            )
        self.can = self._can()
        self.changes = frozenset(self._changes())
        self.ordered = self._notes.append is not None
        self.most = self._notes.append.at_once if self._notes.append else 50
        self.found_within = float(self._notes.found_within or 0) if self.can == "finds" else 0.0
        self.safe_for = float(self._notes.remembered) if self.can == "enforces" else float("inf")

    def _can(self) -> Any:
        if self._notes.once_header:
            return "enforces"
        if self._notes.append is not None:
            known = self._notes.append.listed is not None
        else:
            known = self._notes.find is not None and bool(self._by or self._notes.key_field)
        return "finds" if known and self._notes.found_within is not None else "neither"

    def _changes(self) -> Iterator[Change]:
        """What the service can do with a record that is there."""
        found = self._notes.find is not None and bool(self._by or self._notes.key_field)
        if found and self._notes.set is not None:
            yield "set"
        if self._by and self._notes.set is not None:
            yield "move"
        if found and self._notes.remove is not None:
            yield "remove"

    def write(self, rows: Sequence[Row]) -> list[Receipt]:
        if self._notes.append is not None:
            return self._append(rows)
        receipts: list[Receipt] = []
        known: dict[str, str] = {}
        with turn_at(f"{self._connection}: {self._name}"):
            for row in rows:
                try:
                    receipts.append(self._one(row, known))
                except (Busy, Broken, Unsure) as error:
                    raise Partly(receipts, error) from error
        return receipts

    def find(self, where: Mapping[str, Any], most: int) -> Iterator[Mapping[str, Any]]:
        for count, record in enumerate(self._alike(self._numbered(where)), 1):
            if count > most:
                raise Broken(f"{self._name.capitalize()} of {self._connection}: more than {most} are like these. Say more in `where`.")
            yield record

    def like(self, values: Mapping[str, Any], most: int) -> Sequence[Mapping[str, Any]] | None:
        """Records with the same value in a field by which they are searched for."""
        fields = [field for field in (self._notes.find.by if self._notes.find else ()) if values.get(field) not in (None, "")]
        if not fields:
            return None
        found: dict[str, Mapping[str, Any]] = {}
        for field in fields:
            for record in self._alike(self._numbered({field: values[field]})):
                found.setdefault(str(at(record, self._notes.id)), record)
                if len(found) >= most:
                    return list(found.values())
        return list(found.values())

    def heads(self) -> Sequence[Head] | None:
        said = self._notes.append
        operation = self._operation(said.operation if said else self._notes.create or (self._notes.set.operation if self._notes.set else ""))
        fields = [each for each in operation.fields if each.place in ("body", "path", "query") and each.kind != "context"]
        if said is not None:
            listed = operation.field_of(said.records)
            if listed is None or not listed.within:
                return None  # its elements may hold anything
            fields = [*(each for each in fields if each.place != "body"), *(each for each in listed.within if each.kind != "context")]
        return [Head(each.name, "" if each.kind == "list" else each.kind, each.wanted and "." not in each.name) for each in fields] or None

    def attach(self, by: Mapping[str, Any], name: str, data: bytes, key: str, *, cut_off: bool) -> Attached:
        """Give the record with these fields a file. `key`: what tells this from others; `cut_off`: it was begun before.

        Raises `Busy`, `Broken`, and `Unsure` where the file may be there, and nobody can tell.
        """
        said = self._notes.attach
        if said is None:
            raise Broken(f"{self._name.capitalize()} of {self._connection} take no files: no operation is noted for that. Note it.")
        record = self._record_of(Row(key, self._numbered(by)))
        if record is None:
            told = ", ".join(f"{field} {value}" for field, value in by.items())
            raise Broken(f"There is none of the {self._name} of {self._connection} with {told}. Write it first, or correct the flow.")
        if cut_off and not self._notes.once_header:
            raise Unsure(
                f"Giving the file {name} to {self._place(record)} was cut off. Look there whether it has it: then say so, or have it done again."
            )
        row, id_ = Row(key, {}), at(record, self._notes.id)
        operation = self._operation(said.operation)
        values = {said.id: id_} if said.id else {}
        made = asked(operation, values, form=Part(said.file, name, data))
        answer = self._sent(operation, made, Row(f"{key} file", {}) if said.then else row, repeatable=bool(said.then))
        file = str(at(answer, said.given) or "") if said.given else ""
        if said.then:
            if not file:
                raise Broken(f"{self._connection} took the file, but told no id under {said.given or 'given'}. Correct the notes.")
            then = self._operation(said.then)
            known = then.field_of(said.then_file)
            given = [file] if known is not None and known.kind == "list" else file
            self._call(then, {said.then_id: id_, said.then_file: given}, row)
        return Attached(self._place(record), str(id_ if id_ is not None else ""), file)

    def detach(self, record: str, file: str) -> str:
        """Take a file from a record again, which may be gone already; why it stays, where that cannot be done. Raises `Busy`, `Broken` and `Unsure`."""
        said = self._notes.attach.remove if self._notes.attach is not None else None
        if said is None:
            return f"No operation is noted that takes a file from {self._name} of {self._connection} again. Note it, or remove the file there."
        operation = self._operation(said.operation)
        gone = replace(operation, good=(*operation.good, 404, 410))  # somebody has removed it since
        self._call(gone, {said.file: file, **({said.id: record} if said.id else {})}, Row("", {}), repeatable=True)
        return ""

    # ---- one record

    def _one(self, row: Row, known: dict[str, str]) -> Receipt:
        values = self._numbered(row.values)
        row = row if values is row.values else replace(row, values=values)
        if row.key in known and not row.sets:
            return Receipt(row.key, "there already", known[row.key])
        record = self._record_of(row)
        if row.removes:
            return self._removed(record, row)
        if record is None and row.moves is not None and (record := self._record_of(row.moves)) is not None:
            row = replace(row, sets=True)
        if record is not None:
            place = self._place(record)
            known[row.key] = place
            if not row.sets:
                there = self._otherwise(record, row)
                if row.moves is not None and not there and self._record_of(row.moves) is None:
                    return Receipt(row.key, "updated", place)  # it was moved before, and that was not noted
                return Receipt(row.key, "there already", place, there=there, ours=not self._ways)
            if row.whole and (since := self._set_since(record, row)):
                return Receipt(row.key, "left", place, there={name: at(record, name) for name in since})
            left = self._set(record, row)
            before = {name: at(record, name) for name in row.values if name not in left}
            return Receipt(row.key, "updated", place, left, {name: at(record, name) for name in left}, before)
        if row.only:
            return Receipt(row.key, "not there")
        if not self._notes.create:
            raise Broken(f"There is none of the {self._name} of {self._connection} like this, and none is made: no operation is noted for that.")
        values = dict(row.values) | ({self._notes.key_field: row.key} if self._notes.key_field and not self._by else {})
        answer = self._call(self._operation(self._notes.create), values, row)
        known[row.key] = self._place(answer)
        return Receipt(row.key, "written", known[row.key])

    def _otherwise(self, record: Any, row: Row) -> dict[str, Any]:
        """Fields that a record shows otherwise than the row gives them; what it does not show is not compared."""
        shown = {name: at(record, name) for name in row.values if at(record, name) is not None or name in record}
        return {name: held for name, held in shown.items() if not self._same(name, held, row.values[name])}

    def _removed(self, record: Any, row: Row) -> Receipt:
        """A record is taken away, unless somebody has set something in it since."""
        if record is None:
            return Receipt(row.key, "removed")
        place = self._place(record)
        if there := self._otherwise(record, row):
            return Receipt(row.key, "left", place, there=there)
        assert self._notes.remove is not None, "only a service with a noted operation is asked to remove"
        said = self._notes.remove
        operation = self._operation(said.operation)
        self._call(operation, {**where_of(operation, row), said.id: at(record, self._notes.id)}, row, repeatable=True)
        return Receipt(row.key, "removed", place)

    def _set_since(self, record: Any, row: Row) -> list[str]:
        """Fields that hold neither what was last written into them nor what is wanted: a person has set them."""
        if row.was is None or row.over:
            return []
        now = {name: at(record, name) for name in row.values}
        return [name for name, held in now.items() if not any(self._same(name, held, each) for each in (row.was.get(name), row.values[name]))]

    def _set(self, record: Any, row: Row) -> list[str]:
        """Set fields of a record that is there, but for those that a person has set since; these are returned."""
        left = self._set_since(record, row)
        changes = {name: value for name, value in row.values.items() if name not in left and not self._same(name, at(record, name), value)}
        if changes:
            setter = self._notes.set
            if setter is None:
                raise Broken(
                    f"Fields of {self._name} of {self._connection} cannot be set: no operation is noted for that. Note it, or leave `if_there: update` out."
                )
            operation = self._operation(setter.operation)
            takes = {name: value for name, value in changes.items() if operation.field_of(name) is not None}
            refused = sorted(changes.keys() - takes.keys())
            if refused:
                raise Broken(f"The operation {operation.name} takes no {', '.join(refused)}. Correct the mapping.")
            # what it wants besides stays as it is; one that puts a whole record in the place of another wants all of it
            same_still = {
                each.name
                for each in operation.fields
                if each.place == "body" and (each.wanted or operation.method == "PUT") and each.kind != "context"
            }
            held = {name: value for name in sorted(same_still - takes.keys()) if (value := at(record, name)) is not None}
            self._call(operation, {**held, **takes, setter.id: at(record, self._notes.id)}, row, repeatable=True)
        return left

    # ---- calling

    def _operation(self, name: str) -> Operation:
        return self._told.operations[name]

    def _call(
        self,
        operation: Operation,
        values: Mapping[str, Any],
        row: Row | None,
        *,
        over: Mapping[str, Any] | None = None,
        keys: Sequence[str] = (),
        repeatable: bool = False,
    ) -> Any:
        """What an operation answers. Raises `Busy`, `Broken`, and `Unsure` where it may have been done though nothing good was answered."""
        try:
            made = asked(operation, values, over=over)
        except Unfit as error:
            raise Broken(f"{error}") from error
        return self._sent(operation, made, row, keys=keys, repeatable=repeatable)

    def _sent(self, operation: Operation, made: Asked, row: Row | None, *, keys: Sequence[str] = (), repeatable: bool = False) -> Any:
        """What is answered to a request. Raises as `_call`."""
        headers = dict(made.headers)
        writes = row is not None and not repeatable
        if row is not None and writes and self._notes.once_header:
            headers[self._notes.once_header] = once(self._connection, self._name, keys or [row.key])
        try:
            wanted = _wanted(self._connection, made, headers, operation.good)
            found: Fetched = self._calling.fetch(replace(wanted, twice=not writes or bool(self._notes.once_header)))
        except FetchFailed as error:
            if writes and error.sent:
                what = (
                    f"The answer of {self._connection} to {operation.name} was lost"
                    if not error.status
                    else f"{self._connection} answered {error.status}"
                )
                raise Unsure(
                    f"{what}. Whether the record was made cannot be told. Look there: then say that it is there, or write it again."
                ) from error
            if error.cause:
                raise busy(error, " It is tried again.") from error
            told = clean(error.told)[:300]
            raise (Unusable if error.status in (401, 403) else Broken)(f"{error}{f' It says: {told}' if told else ''}") from error
        if not found.data:
            return {}
        try:
            return loads(found.data)
        except NotJson:
            return {}

    def _place(self, answer: Any) -> str:
        found = at(answer, self._notes.id)
        return f"{self._name} {found}" if found is not None else f"{self._name} of {self._connection}"


def _wanted(connection: str, made: Asked, headers: Mapping[str, str], good: Sequence[int]) -> Wanted:
    return Wanted(
        made.path,
        LARGEST,
        SECONDS,
        redirects=0,
        connection=connection,
        method=made.method,
        body=made.body,
        more={"Accept": "application/json", **headers},
        good=tuple(good),
    )


def once(connection: str, records: str, keys: Sequence[str]) -> str:
    """The key by which a service takes a request only once: the same for the same rows."""
    told = "\n".join([connection, records, *keys])
    return str(uuid.UUID(bytes=hashlib.sha256(told.encode()).digest()[:16], version=4))


def _place(said: ServiceRecords, there: There) -> str:
    return f"service:{there.calling.connections.at(said.connection, '')}#{said.records}"


KIND = DestinationKind(
    "service",
    ServiceRecords,
    _place,
    _place,
    build=lambda said, there: ServiceDestination(there.calling, said.connection, said.records, said.ways[0], said.ways[1:]),
    tell=lambda said: f"{said.records} of {said.connection}",
)
