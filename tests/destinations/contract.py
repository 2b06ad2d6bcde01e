"""What every destination does: one contract for all."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable, Mapping
from contextlib import AbstractContextManager
from dataclasses import replace
from decimal import Decimal
from pathlib import Path
from typing import Any, ClassVar

import pytest

from metrikon.destinations.memory import MemoryDestination
from metrikon.destinations.sql import SqlDestination
from metrikon.ports.destination import Broken, Busy, Destination, Partly, Receipt, Row, Searchable, Unsure, Unusable

VALUES = {"Vendor": "Fernhill", "Line": 1, "Amount": Decimal("97.00"), "Date": "2026-03-04", "Due": None}


def row(key: str, **changes: Any) -> Row:
    return Row(key, {**VALUES, **changes})


AILS = ("full", "over its quota", "read-only", "locked", "slow", "gone", "its answer lost", "changed meanwhile", "put in another order")
Ailing = Callable[[Any, Path], AbstractContextManager[Any]]


class Contract:
    """What every destination does. Subclasses make one, and read back what it holds as {key: amount}.

    `ails`: for each of `AILS` how it comes about, or in words why it cannot.
    """

    ails: ClassVar[Mapping[str, Ailing | str]] = {}
    keeps_values: ClassVar[bool] = True  # whether the values of a row that is there can be told by its key

    def make(self, folder: Path) -> Destination:
        raise NotImplementedError

    def held(self, folder: Path, made: Destination) -> dict[str, str]:
        raise NotImplementedError

    def test_rows_are_written_in_order_with_their_keys(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        receipts = made.write([row("b"), row("a", Amount=Decimal("0.10"))])
        assert [(each.key, each.result) for each in receipts] == [("b", "written"), ("a", "written")]
        assert self.held(tmp_path, made) == {"b": "97.00", "a": "0.10"}
        assert list(self.held(tmp_path, made)) == ["b", "a"] or isinstance(made, SqlDestination)

    def test_a_key_is_written_once_whatever_it_carries_later(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])
        again = self.make(tmp_path) if not isinstance(made, MemoryDestination) else made
        receipts = again.write([row("a", Amount=Decimal(5)), row("b")])
        assert [each.result for each in receipts] == ["there already", "written"]
        assert self.held(tmp_path, again) == {"a": "97.00", "b": "97.00"}

    def test_columns_of_a_row_that_is_there_are_set_when_that_is_wanted(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a"), row("b")])
        again = self.make(tmp_path) if not isinstance(made, MemoryDestination) else made
        sets = [
            Row("b", {"Amount": Decimal("1.50")}, sets=True),
            Row("c", {"Amount": Decimal(2)}, sets=True),
            Row("c", {"Amount": Decimal(3)}, sets=True),
        ]
        assert [each.result for each in again.write([*sets, row("a")])] == ["updated", "written", "updated", "there already"]
        assert {key: Decimal(value) for key, value in self.held(tmp_path, again).items()} == {"a": 97, "b": Decimal("1.50"), "c": 3}
        again.write([Row("b", {"Note": "late"}, sets=True)])
        assert isinstance(again, Searchable)
        assert len(list(again.find({"Note": "late"}, 5))) == 1

    def test_rows_are_found_in_their_order_and_more_than_are_wanted_is_an_error(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a", Note="x"), row("b", Note="y"), row("c", Note="x")])
        assert isinstance(made, Searchable)
        found = [{name.lower(): value for name, value in each.items()} for each in made.find({}, 3)]
        assert [each["note"] for each in found] == ["x", "y", "x"]
        assert len(list(made.find({"Note": "x"}, 2))) == 2
        for where, most in (({}, 2), ({"Note": "x"}, 1)):
            with pytest.raises(Broken, match=f"ore than {most}"):
                list(made.find(where, most))

    def test_what_a_person_has_set_since_is_left_and_told_unless_it_is_to_be_taken_over(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        if isinstance(made, MemoryDestination):
            return  # nobody sets anything there
        made.write([row("a", Note="ours", Paid=False)])
        was = {**VALUES, "Note": "ours", "Paid": False}
        made.write([Row("a", {"Note": "by hand", "Amount": Decimal("98.50")}, sets=True, over=True)])  # somebody else, as far as we know
        [said] = made.write([Row("a", {"Note": "again", "Amount": Decimal(5), "Paid": True}, sets=True, was=was)])
        assert (said.result, sorted(said.left)) == ("updated", ["Amount", "Note"])
        assert isinstance(made, Searchable)
        [now] = [{name.lower(): value for name, value in each.items()} for each in made.find({}, 5)]
        assert (now["note"], Decimal(now["amount"]), now["paid"] in (True, 1)) == ("by hand", Decimal("98.5"), True)
        [said] = made.write([Row("a", {"Note": "again"}, sets=True, was=was, over=True)])
        assert not said.left
        assert len(list(made.find({"Note": "again"}, 5))) == 1

    def test_a_row_that_is_not_there_is_not_made_where_only_one_that_is_there_is_to_be_set(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])
        said = made.write([Row("gone", {"Amount": Decimal(1)}, sets=True, only=True), Row("a", {"Amount": Decimal(2)}, sets=True, only=True)])
        assert [each.result for each in said] == ["not there", "updated"]
        assert {key: Decimal(value) for key, value in self.held(tmp_path, made).items()} == {"a": 2}

    def test_what_is_there_otherwise_is_told_by_its_columns(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a", Note="first"), row("b", Note="second")])
        again = self.make(tmp_path) if not isinstance(made, MemoryDestination) else made
        other, same_one = again.write([row("a", Note="first", Amount=Decimal(5)), row("b", Note="second", Amount=Decimal("97.0"))])
        assert (other.result, same_one.result) == ("there already", "there already")
        assert not same_one.there
        assert {name: Decimal(value) for name, value in other.there.items()} == ({"Amount": 97} if self.keeps_values else {})

    def test_a_date_with_a_time_is_one_and_is_the_same_when_it_comes_again(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        when = {"Note": "2026-12-01T14:26:26.2+01:00"}
        made.write([row("a", **when)])
        again = self.make(tmp_path) if not isinstance(made, MemoryDestination) else made
        [said] = again.write([row("a", **when)])
        assert (said.result, dict(said.there)) == ("there already", {})
        [set_now] = again.write([Row("a", {"Note": "2026-12-02T09:00:00+01:00"}, sets=True, was={**VALUES, **when})])
        assert (set_now.result, list(set_now.left)) == ("updated", [])

    def test_what_stood_in_columns_before_they_were_set_is_told(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a", Note="first")])
        [said] = made.write([Row("a", {"Amount": Decimal(5), "Note": "later"}, sets=True)])
        assert said.before is not None
        assert Decimal(said.before["Amount"]) == 97
        assert said.before["Note"] == "first"

    def test_a_row_gets_another_key_and_other_values_in_its_place(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        if "move" not in made.changes:
            return
        made.write([row("a", Note="first"), row("b", Note="second")])
        was = {**VALUES, "Note": "first"}
        [said] = made.write([Row("c", {**was, "Amount": Decimal(5)}, was=was, moves=Row("a", was))])
        assert said.result == "updated"
        assert {key: Decimal(value) for key, value in self.held(tmp_path, made).items()} == {"c": 5, "b": 97}
        [said] = made.write([Row("c", {**was, "Amount": Decimal(5)}, was=was, moves=Row("a", was))])
        assert said.result == "updated", "it was moved before, and that could not be noted"
        [said] = made.write([Row("e", {**was, "Amount": Decimal(7)}, was=was, moves=Row("gone", was))])
        assert said.result == "written", "what is there no longer is written"
        [said] = made.write([Row("b", {**was, "Amount": Decimal(7)}, was=was, moves=Row("c", was))])
        assert said.result == "there already", "another row holds the key"
        assert set(said.there) == {"Amount", "Note"}

    def test_a_row_is_taken_away_unless_somebody_has_changed_it(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        if "remove" not in made.changes:
            return
        made.write([row("a", Note="first"), row("b", Note="second"), row("c", Note="third")])
        made.write([Row("c", {"Note": "by hand"}, sets=True)])
        gone, stays, never = made.write(
            [Row(key, {**VALUES, "Note": note}, removes=True) for key, note in (("a", "first"), ("c", "third"), ("x", "fourth"))]
        )
        assert [each.result for each in (gone, stays, never)] == ["removed", "left", "removed"]
        assert dict(stays.there) == {"Note": "by hand"}
        assert set(self.held(tmp_path, made)) == {"b", "c"}
        assert [each.result for each in made.write([row("a", Note="first")])] == ["written"], "its key is free again"
        assert set(self.held(tmp_path, made)) == {"a", "b", "c"}

    def test_a_row_is_marked_as_a_whole_unless_somebody_has_changed_it_or_it_is_gone(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        if "set" not in made.changes or "remove" not in made.changes:
            return
        made.write([row("a", Note="first", State=None), row("b", Note="second", State=None)])
        made.write([Row("b", {"Note": "by hand"}, sets=True, over=True)])
        was = {key: {**VALUES, "Note": note, "State": None} for key, note in (("a", "first"), ("b", "second"), ("x", "third"))}
        marks = [Row(key, {**held, "State": "taken back"}, sets=True, was=held, only=True, whole=True) for key, held in was.items()]
        marked, stays, gone = made.write(marks)
        assert [each.result for each in (marked, stays, gone)] == ["updated", "left", "not there"]
        assert dict(stays.there) == {"Note": "by hand"}
        assert isinstance(made, Searchable)
        assert len(list(made.find({"State": "taken back"}, 5))) == 1
        assert not made.write(marks[:1])[0].left, "the same once more, where it could not be noted"

    def test_a_row_is_moved_back_as_a_whole_or_not_at_all(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        if "move" not in made.changes:
            return
        made.write([row("a", Note="first"), row("b", Note="second")])
        made.write([Row("b", {"Note": "by hand"}, sets=True, over=True)])
        was = {key: {**VALUES, "Note": note} for key, note in (("a", "first"), ("b", "second"), ("x", "third"))}
        back = [
            Row(f"{key}0", {**held, "Note": "before"}, sets=True, was=held, only=True, whole=True, moves=Row(key, held)) for key, held in was.items()
        ]
        moved, stays, gone = made.write(back)
        assert [each.result for each in (moved, stays, gone)] == ["updated", "left", "not there"]
        assert dict(stays.there) == {"Note": "by hand"}
        assert set(self.held(tmp_path, made)) == {"a0", "b"}

    def test_a_batch_may_hold_a_key_twice(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        assert [each.result for each in made.write([row("a"), row("a", Amount=Decimal(1))])] == ["written", "there already"]
        assert self.held(tmp_path, made) == {"a": "97.00"}

    def test_new_columns_are_added(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a")])
        made.write([row("b", Note="late frost")])
        assert set(self.held(tmp_path, made)) == {"a", "b"}

    def test_a_column_that_was_written_before_and_is_gone_is_not_made_again(self, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        if not getattr(made, "grows", False):
            return
        made.write([row("a", Note="first")])
        made.write([replace(row("b", Note="second", Later="new"), columns_before=("Amount", "Note"))])
        with pytest.raises(Unusable, match="column Gone, which was written before, is not there any more"):
            made.write([replace(row("c", Note="third", Gone="x"), columns_before=("Note", "Gone"))])
        assert set(self.held(tmp_path, made)) == {"a", "b"}

    @pytest.mark.parametrize("text", ["=1+1", "+44 20", "-5 %", "@SUM(A1)", "a\x00b\x0bc", "x" * 40_000, "🌱", "'); DROP TABLE rows;--"])
    def test_no_text_is_taken_for_anything_but_text(self, text: str, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a", Vendor=text)])
        assert self.held(tmp_path, made) == {"a": "97.00"}

    def test_whatever_ails_it_nothing_is_lost_or_doubled_and_why_is_told(self, ail: str, tmp_path: Path) -> None:
        made = self.make(tmp_path)
        made.write([row("a", Note="first"), row("z", Note="second")])
        comes = self.ails[ail]
        assert not isinstance(comes, str)
        wanted, told = ["a", "z", "b", "c"], None
        with comes(self, tmp_path):
            if ail in ("full", "over its quota", "read-only"):
                made = self.make(tmp_path)  # its files are other ones now
            try:
                made.write([row("b"), row("c")])
            except (Busy, Broken, Unsure, Partly) as error:
                told = error
        reason = told.reason if isinstance(told, Partly) else told
        if ail in ("full", "over its quota", "locked", "gone"):
            assert isinstance(reason, Busy), f"it passes by itself: {reason!r}"
        if ail == "read-only":
            assert reason is not None
        assert reason is None or len(str(reason)) > 20
        again = self.make(tmp_path)
        said = _patiently(again, [row(key) for key in wanted])
        assert [each.key for each in said] == wanted
        assert [each.result for each in said[:2]] == ["there already"] * 2
        assert {key: Decimal(value) for key, value in self.held(tmp_path, again).items()} == dict.fromkeys(wanted, Decimal(97))
        assert isinstance(again, Searchable)
        assert len(list(again.find({}, 9))) == 4

    def test_two_that_write_the_same_rows_at_once_write_each_once(self, tmp_path: Path) -> None:
        first = self.make(tmp_path)
        first.write([row("first")])
        barrier = threading.Barrier(4)
        wrong: list[BaseException] = []

        def write(keys: list[str]) -> None:
            made = self.make(tmp_path) if not isinstance(first, MemoryDestination) else first
            barrier.wait()
            for _ in range(200):
                try:
                    made.write([row(key) for key in keys])
                    return
                except Busy:
                    time.sleep(0.01)
                except BaseException as error:
                    wrong.append(error)
                    return

        threads = [threading.Thread(target=write, args=(keys,)) for keys in (["a", "b"], ["b", "c"], ["c", "a"], ["a", "b"])]
        for each in threads:
            each.start()
        for each in threads:
            each.join()
        assert not wrong
        assert sorted(self.held(tmp_path, self.make(tmp_path) if not isinstance(first, MemoryDestination) else first)) == ["a", "b", "c", "first"]

    def test_it_is_said_of_each_thing_how_it_comes_about_or_why_it_cannot(self) -> None:
        assert set(self.ails) == set(AILS)


def _patiently(made: Destination, rows: list[Row]) -> list[Receipt]:
    """Rows written, as often as it is busy."""
    until = time.monotonic() + 20
    while True:
        try:
            return made.write(rows)
        except (Busy, Partly) as error:
            reason = error.reason if isinstance(error, Partly) else error
            if not isinstance(reason, Busy) or time.monotonic() > until:
                raise
            time.sleep(0.1)
