"""How records of a described service are found again: by fields, by telephone numbers however they are spelled, in lists below a path."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from typing import Any

from metrikon.core.services.description import Operation
from metrikon.core.services.notes import Records
from metrikon.core.services.request import at
from metrikon.core.values.phones import parse_phone, spellings
from metrikon.destinations.service_form import same_field
from metrikon.ports.destination import Broken, Row

MOST_LISTED = 2000  # records that are looked through for a telephone number which no search finds
LISTED = MOST_LISTED  # pages, of one record each at least
PAGES = 100  # that are looked through


class Searched:
    """Records of a described service that are looked for."""

    _notes: Records
    _name: str
    _connection: str
    _ways: tuple[tuple[str, ...], ...]

    def _operation(self, name: str) -> Operation:
        raise NotImplementedError

    def _call(self, operation: Operation, values: Mapping[str, Any], row: Row | None) -> Any:
        raise NotImplementedError

    def _record_of(self, row: Row) -> Any:
        """The record of a row that is there; None where there is none, or where nobody can tell."""
        ways = self._ways or (((self._notes.key_field,),) if self._notes.key_field and self._notes.find else ())
        if not ways:
            if row.sets:
                raise Broken(
                    f"{self._name.capitalize()} of {self._connection} cannot be found again, so that none can be set. Note how they are found."
                )
            return None
        wheres = [{field: row.values.get(field) if self._ways else row.key for field in way} for way in ways]
        below = {name: row.values[name] for name in self._below if row.values.get(name) is not None}
        whole = [where for where in wheres if all(value is not None and value != "" for value in where.values())]
        if not whole:
            told = " or ".join(", ".join(way) for way in ways)
            raise Broken(
                f"The row has no value for {told}, by which {self._name} of {self._connection} are told apart. Map the column, or correct `by`."
            )
        alike = {str(at(each, self._notes.id)): each for where in whole for each in self._alike({**below, **where}, written=bool(row.columns_before))}
        if len(alike) > 1:
            told = ", ".join(list(alike)[:5])
            raise Broken(f"{len(alike)} {self._name} of {self._connection} are like this one: {told}. Put them together there, then continue.")
        return next(iter(alike.values()), None)

    def _alike(self, where: Mapping[str, Any], *, written: bool = False) -> Iterator[Any]:
        """Records that hold these values; telephone numbers are looked for in each way that people spell them, until some are found.

        `written`: something was written there before, so that a list which holds nothing does not tell all.
        """
        ways: list[Mapping[str, Any]] = [where]
        asked = self._notes.find.by if self._notes.find else {}
        numbers = [field for field in self._notes.telephones if where.get(field) and asked.get(field)]
        one_search = self._notes.find is not None and self._notes.find.any_spelling
        for field in numbers:
            if not one_search:  # whatever is not asked for by it is compared here, however it is spelled
                ways = [{**way, field: spelled} for way in ways for spelled in spellings(str(where[field]))]
        for way in ways:
            found = False
            for record in self._found(way):
                if self._holds(record, where):
                    found = True
                    yield record
            if found:
                return
        if numbers and not one_search:
            yield from self._spelled_otherwise(where, written=written)

    @property
    def _below(self) -> set[str]:
        """What stands in the path of the list that records are found in, such as the board of a card."""
        finder = self._notes.find
        return {each.name for each in self._operation(finder.operation).fields if each.place == "path"} if finder is not None else set()

    def _holds(self, record: Any, where: Mapping[str, Any]) -> bool:
        """Whether a record holds these values; what stands in the path of its list need not stand in it again."""
        below = self._below
        return all(self._same(field, held, value) for field, value in where.items() if (held := at(record, field)) is not None or field not in below)

    def _spelled_otherwise(self, where: Mapping[str, Any], *, written: bool) -> Iterator[Any]:
        """Records with a telephone number that is spelled as no search has it: looked for among all that there are.

        Raises `Broken` where these cannot be listed, since nobody can tell then.
        """
        assert self._notes.find is not None, "numbers are asked for by what finds them"
        operation = self._operation(self._notes.find.operation)
        taken = {self._notes.find.by[field] for field in self._notes.telephones if field in self._notes.find.by}
        if any(each.wanted for each in operation.fields if each.name in taken):
            raise self._not_told(where, f"{operation.name} lists nothing without a number")
        rest = {field: value for field, value in where.items() if field not in self._notes.telephones}
        count = 0
        for count, record in enumerate(self._found(rest, LISTED), 1):
            if self._holds(record, where):
                yield record
                return
            if count >= MOST_LISTED:
                raise self._not_told(where, f"there are more than {MOST_LISTED} to look through")
        if count == 0 and written:
            raise self._not_told(where, f"{operation.name} lists none of those that were written")

    def _not_told(self, where: Mapping[str, Any], why: str) -> Broken:
        numbers = ", ".join(str(where[field]) for field in self._notes.telephones if where.get(field))
        return Broken(
            f"Whether one of the {self._name} of {self._connection} has the number {numbers} cannot be told: no search finds it, and {why}. Look there; then give "
            "the record another field to be found by, such as `by: [email]`, or note `any_spelling: true` under find where its search knows every spelling."
        )

    def _numbered(self, values: Mapping[str, Any]) -> Mapping[str, Any]:
        """Values whose telephone numbers are in E.164. Raises `Broken` for one that is none."""
        given = {field: values[field] for field in self._notes.telephones if values.get(field)}
        numbers = {field: parse_phone(str(value), self._notes.country or None) for field, value in given.items()}
        for field, number in numbers.items():
            if number is None:
                country = f" in {self._notes.country}" if self._notes.country else ", or its country is not told: give the notes a `country`"
                raise Broken(
                    f"{str(given[field])[:60]!r} is no telephone number{country} ({field} of {self._name}). Correct the record or the notes."
                )
        return {**values, **numbers} if numbers else values

    def _same(self, field: str, found: Any, wanted: Any) -> bool:
        """Whether a field of a record holds a value."""
        if field in self._notes.telephones and found and wanted:
            one, other = (parse_phone(str(each), self._notes.country or None) for each in (found, wanted))
            if one is not None and other is not None:
                return one == other
        return same_field(found, wanted)

    def _found(self, where: Mapping[str, Any], most: int = PAGES) -> Iterator[Any]:
        finder = self._notes.find
        if finder is None:
            raise Broken(f"{self._name.capitalize()} of {self._connection} cannot be looked for. Note how they are found.")
        operation = self._operation(finder.operation)
        below = self._below
        values: dict[str, Any] = {finder.by.get(field) or field: value for field, value in where.items() if finder.by.get(field) or field in below}
        mark: Any = None
        for _ in range(most):
            answer = self._call(operation, values | ({finder.page: mark} if mark is not None else {}), None)
            records = at(answer, finder.records)
            yield from records if isinstance(records, list) else [records] if isinstance(records, Mapping) else []
            mark = at(answer, finder.next) if finder.next and finder.page else None
            if mark in (None, "", False):
                return
