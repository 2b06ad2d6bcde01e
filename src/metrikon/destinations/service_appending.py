"""Elements added to a list of a described service, many in a call; after one that was cut off the list is asked what has arrived."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from itertools import groupby
from typing import Any

from metrikon.core.services.description import Operation
from metrikon.core.services.notes import Appending, Listing
from metrikon.core.services.request import at, body_of
from metrikon.destinations.service_finding import PAGES, Searched
from metrikon.destinations.service_form import same_field
from metrikon.ports.destination import Broken, Busy, Partly, Receipt, Row, Unsure


class Appended(Searched):
    """Elements of a described service that are added one below the other."""

    def _call(
        self, operation: Operation, values: Mapping[str, Any], row: Row | None, *, over: Mapping[str, Any] | None = None, keys: Sequence[str] = ()
    ) -> Any:
        raise NotImplementedError

    def _append(self, rows: Sequence[Row]) -> list[Receipt]:
        """Rows in order, those that go to the same place in one call. Raises `Partly`."""
        said = self._notes.append
        assert said is not None, "only records that are appended come here"
        operation = self._operation(said.operation)
        receipts: list[Receipt] = []
        for some in _calls(rows, operation, said.at_once):
            where = where_of(operation, some[0])
            try:
                if not (some[0].handed and self._arrived(said, where, some)):
                    self._add(operation, said, where, some)
            except (Busy, Broken, Unsure) as error:
                raise Partly(receipts, error, len(some)) from error
            receipts += [Receipt(row.key, "written", f"{self._name} of {self._connection}") for row in some]
        return receipts

    def _add(self, operation: Operation, said: Appending, where: Mapping[str, Any], some: Sequence[Row]) -> None:
        over: dict[str, Any] = {said.records: [body_of(operation, self._element(row, where)) for row in some]}
        self._call(operation, where, some[0], over=over, keys=[row.key for row in some])

    def _element(self, row: Row, where: Mapping[str, Any]) -> dict[str, Any]:
        return {name: value for name, value in self._numbered(row.values).items() if name not in where}

    def _arrived(self, said: Appending, where: Mapping[str, Any], some: Sequence[Row]) -> bool:
        """Whether what was handed over in a call that was cut off is there. Raises `Unsure` where the list does not tell, and `Busy`.

        It is there where all of it stands in the list, one below the other; it is not where its first element does not. A part of it, or the same that was
        written there by another call, leaves doubt.
        """
        if said.listed is None:
            return False  # a person has said that it is written again
        wanted = [self._element(row, where) for row in some]
        try:
            held = list(self._listed(said.listed, where))
        except Broken as error:
            raise Unsure(f"What has arrived in {self._name} of {self._connection} could not be listed: {error} Look there.", looked=True) from error
        begins = [start for start, element in enumerate(held) if _same(element, wanted[0])]
        whole = any(all(_same(*pair) for pair in zip(held[start:], wanted, strict=False)) for start in begins if len(held) - start >= len(wanted))
        if begins and (not whole or all(row.twin for row in some)):
            found = "The same was written there before as well" if whole else "Only a part of it is there"
            raise Unsure(
                f"A call to {self._name} of {self._connection} was cut off. {found}, so that nobody can tell what has arrived. Look there.",
                looked=True,
            )
        return whole

    def _listed(self, said: Listing, where: Mapping[str, Any]) -> Iterator[Mapping[str, Any]]:
        """All elements of a place, in its order. Raises `Broken` where they cannot be listed as a whole."""
        operation = self._operation(said.operation)
        values = {name: value for name, value in where.items() if operation.field_of(name) is not None}
        mark: Any = None
        for _ in range(PAGES):
            answer = self._call(operation, values | ({said.page: mark} if mark is not None else {}), None)
            found = at(answer, said.records)
            if not isinstance(found, list):
                raise Broken(f"{operation.name} of {self._connection} gives no list under {said.records or 'its answer'}. Correct the notes.")
            yield from (each for each in found if isinstance(each, Mapping))
            mark = at(answer, said.next) if said.next and said.page else None
            if mark in (None, "", False):
                return
        raise Broken(f"There are more than {PAGES} pages.")


def _calls(rows: Sequence[Row], operation: Operation, at_once: int) -> Iterator[list[Row]]:
    """Rows by the call that they go in: those of one place that stand together; what was handed over before stays by itself."""
    for _, alike in groupby(rows, lambda row: (where_of(operation, row), row.handed)):
        some = list(alike)
        yield from (some[start : start + at_once] for start in range(0, len(some), at_once))


def where_of(operation: Operation, row: Row) -> dict[str, Any]:
    """The values of a row that name the place which it goes to."""
    taken = {each.name for each in operation.fields if each.place in ("path", "query")}
    return {name: value for name, value in row.values.items() if name in taken}


def _same(held: Mapping[str, Any], wanted: Mapping[str, Any]) -> bool:
    """Whether an element of a list is one that was given, by what it shows of it."""
    shown = {name: there for name in wanted if (there := at(held, name)) is not None}
    return bool(shown) and all(same_field(there, wanted[name]) for name, there in shown.items())
