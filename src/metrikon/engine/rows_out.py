"""Rows as destinations get them, and what becomes of them in the words of the journal."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from dataclasses import replace
from typing import Any

from metrikon.core.deliveries.comparing import Differs, changed, told
from metrikon.core.deliveries.states import Purpose
from metrikon.core.flows.keys import MARK, row_key
from metrikon.ports.destination import Broken, Change, Destination, Receipt, Row
from metrikon.store import deliveries
from metrikon.store.database import Database
from metrikon.store.deliveries import Delivery, End
from metrikon.store.journal import Written

NOTED_AT_ONCE = 16  # rows that are noted in one job; more where one run has more


class Rows:
    """Makes rows of deliveries: their own keys, and what was last written under them."""

    def __init__(self, database: Database) -> None:
        self._database = database

    def compared(self, row: Delivery) -> Receipt:
        """A row beside what was last written under its key, where nothing there can be looked at or set."""
        key = row.moved_from or row_key(row.key)[0]
        with self._database.reading() as connection:
            was = deliveries.last_written(connection, key) or {}
        there = {name: was.get(name) for name in changed(row.values, was)}
        return Receipt(row.key, "there already", there=there)

    def every(self, adapter: Destination, rows: list[Delivery]) -> list[Row]:
        """Rows of one destination as it gets them, with the columns that were written there before."""
        with self._database.reading() as connection:
            before = deliveries.columns_of(connection, rows[0].destination)
            twins = deliveries.twins(connection, [row for row in rows if row.handed])
        return [replace(self.row(adapter, row), columns_before=before, handed=row.handed, twin=row.key in twins) for row in rows]

    def row(self, adapter: Destination, row: Delivery) -> Row:
        """A row as its destination gets it: of the key what comes after the place, which the destination is itself."""
        place, own = _own(row.key)
        if not place:
            return Row(own, row.values)
        own, _ = row_key(own)
        if row.state == "returning":
            return self._back(place, own, row)
        if row.purpose == "set" and row.over and "set" not in adapter.changes:
            return Row(_own(row.key)[1], row.values, row.parts)  # what cannot be set there is written once more, as a person has said
        if row.purpose == "restore":
            return Row(own, row.values, row.parts, True, row.before, row.over)
        moves, was = None, None
        before = f"{place}|{own}" if row.purpose == "set" else row.moved_from if row.purpose == "move" else None
        if before is not None:
            with self._database.reading() as connection:
                was = deliveries.last_written(connection, before)
        if row.purpose == "move" and before is not None:
            moves = Row(_own(before)[1], was or {})
        return Row(own, row.values, row.parts, row.purpose == "set", was, row.over, row.only, moves)

    def _back(self, place: str, own: str, row: Delivery) -> Row:
        """A row on its way back: removed, or with what stood in its columns before they were set."""
        if row.purpose == "set" and row.before is None:  # an earlier version has set it, and noted nothing
            raise Broken("What stood in its columns before is not known. Look there, and put it right by hand.")
        if row.purpose == "set":
            return Row(own, row.before or {}, row.parts, sets=True, was=row.values, only=True, whole=True)
        if row.purpose == "move" and row.moved_from:
            with self._database.reading() as connection:
                stood = deliveries.last_written(connection, row.moved_from, "corrected", "returning")
            if stood is None:
                raise Broken("Under which key it stood before is known no longer. Look there, and remove it by hand.")
            held = {**stood, **(row.before or {})}
            return Row(_own(row.moved_from)[1], held, sets=True, was=row.values, only=True, whole=True, moves=Row(own, row.values))
        with self._database.reading() as connection:
            was = deliveries.last_written(connection, f"{place}|{own}", "returning") or row.values
        if row.mark:
            return Row(own, {**was, **row.mark}, row.parts, sets=True, was=was, only=True, whole=True)
        return Row(own, was, row.parts, was=was, removes=True)


def some_at_once(written: list[tuple[Delivery, Receipt]]) -> Iterator[list[tuple[Delivery, Receipt]]]:
    """Rows with their receipts, few at a time: of one flow each, and all of a run together, so that it goes on once."""
    by_run: dict[tuple[str, str], list[tuple[Delivery, Receipt]]] = {}
    for row, receipt in written:
        by_run.setdefault((row.flow, row.run_id), []).append((row, receipt))
    some: list[tuple[Delivery, Receipt]] = []
    for (flow, _), rows in sorted(by_run.items(), key=lambda pair: pair[0][0]):
        if some and (some[0][0].flow != flow or len(some) + len(rows) > NOTED_AT_ONCE):
            yield some
            some = []
        some = some + rows
    if some:
        yield some


def _own(key: str) -> tuple[str, str]:
    """The place of a key, and what comes after it; a key of an earlier version names no place so."""
    place, mark, own = key.rpartition(f"|{MARK}")
    return (place, MARK + own) if mark else ("", key)


def is_able(adapter: Destination, row: Delivery) -> bool:
    """Whether a destination can do what a row is for; what it cannot do is told by itself where a flow asks for it outright."""
    if row.state == "returning":
        if not _own(row.key)[0]:
            return False  # an earlier version has written it, under a key of another form
        return needed_to_take_back(row) in adapter.changes
    if row.purpose == "look":
        return adapter.can != "neither"
    if row.purpose == "move":
        return "move" in adapter.changes
    return row.purpose != "set" or not row.asks or row.over or "set" in adapter.changes


def needed_to_take_back(row: Delivery) -> Change:
    """What a destination must be able to do with a row so that it is taken back."""
    if row.purpose == "move":
        return "move"
    return "set" if row.purpose == "set" or row.mark else "remove"


def what_differs(receipt: Receipt, values: Mapping[str, Any]) -> list[Differs]:
    """Columns that are there otherwise than a row gives them."""
    return [Differs(name, there, values.get(name)) for name, there in receipt.there.items()]


def end_of(row: Delivery, receipt: Receipt) -> End:
    """How a row came to its end. One that corrects has not, where somebody has set what it was to set."""
    differs = what_differs(receipt, row.values)
    if receipt.result == "there already" and receipt.ours and not differs and row.purpose != "look":
        return End(row.key, "written", receipt.place, purpose=row.purpose)  # it was written before, and that could not be noted
    if receipt.result in ("there already", "left") or (row.asks and differs):
        return End(row.key, "found otherwise" if differs else "found there", receipt.place, receipt.left, differs, receipt.before, row.purpose)
    purpose: Purpose = "write" if row.purpose == "set" and receipt.result == "written" else row.purpose  # there was none whose columns it could set
    return End(row.key, "found there" if receipt.result == "not there" else "written", receipt.place, receipt.left, (), receipt.before, purpose)


def entry_of(row: Delivery, receipt: Receipt, end: End, now: int) -> Written:
    """What the journal says of a row that came to its end; where it is there otherwise and the step says so, a person is asked."""
    result: dict[str, Any] = {"key": row.key, "result": receipt.result, "place": receipt.place}
    result |= {"left": list(receipt.left)} if receipt.left else {}
    if end.move != "found otherwise":
        return Written("done", row.path, {"result": result}, "write", now, now - row.begun_at)
    result |= {"result": "there otherwise", "differs": [{"column": each.column, "there": each.there, "wanted": each.wanted} for each in end.differs]}
    if not row.asks:
        return Written("done", row.path, {"result": result}, "write", now, now - row.begun_at)
    message = f"The row is there with other values ({receipt.place or row.target}): {told(end.differs)} Say whether it stays as it is, or is set."
    data = {"message": message, "again": False, "otherwise": result, "sent": row.values}
    return Written("failed", row.path, data, "write", now, now - row.begun_at)
