"""lookup and tally over rows: the same as sorting all of them, holding few of them."""

from __future__ import annotations

import tracemalloc
from collections.abc import Iterator, Mapping
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.connections.sql import file_engine
from metrikon.core.flows.kinds import lookup as lookup_kind
from metrikon.core.flows.kinds import tally as tally_kind
from metrikon.destinations.fitting import each_of
from metrikon.destinations.memory import MemoryDestination
from metrikon.destinations.sql import SqlDestination
from metrikon.ports.destination import Destination, Row
from metrikon.ports.step import Call, StepFailed
from metrikon.steps import lookup, tally


class Shop:
    """A workshop with one destination."""

    def __init__(self, rows: Destination) -> None:
        self.rows = rows

    def destination(self, flow: str, version: int, name: str) -> Destination:
        return self.rows


def looked_up(rows: Destination, **said: Any) -> dict[str, Any]:
    form = lookup_kind.KIND.parameters.model_validate({"in": "rows", **said})
    call = Call("r", "i", "f", 1, "s", form.model_dump(by_alias=True), 1, 1, "2026-03-04", "", form)
    return lookup.run(call, Shop(rows)).result  # type: ignore[arg-type]


def memory(rows: list[dict[str, Any]]) -> MemoryDestination:
    made = MemoryDestination()
    made.write([Row(str(number), row) for number, row in enumerate(rows)])
    return made


VALUES = st.one_of(st.none(), st.integers(-5, 5), st.decimals(-5, 5, places=1), st.text("ab", max_size=2))


def place(value: Any) -> tuple[int, Any]:
    """Nothing, then numbers, then texts."""
    if value is None or value == "":
        return 0, 0
    return (1, Decimal(value)) if isinstance(value, int | Decimal) else (2, value)


@given(st.lists(VALUES, max_size=30), st.integers(1, 8), st.booleans())
def test_the_first_rows_in_an_order_are_those_that_sorting_all_of_them_gives(values: list[Any], most: int, last: bool) -> None:
    rows = [{"n": number, "v": value} for number, value in enumerate(values)]
    found = looked_up(memory(rows), order="v", last=last, most=most)
    right = sorted(rows, key=lambda row: place(row["v"]), reverse=last)[:most]
    assert [row["n"] for row in found["rows"]] == [row["n"] for row in right]
    assert (found["count"], found["found"]) == (len(rows), bool(rows))
    assert found["row"] == (found["rows"][0] if rows else None)


@given(st.lists(VALUES, max_size=30), st.integers(1, 8))
def test_without_an_order_they_come_as_they_were_written(values: list[Any], most: int) -> None:
    rows = [{"n": number, "v": value} for number, value in enumerate(values)]
    found = looked_up(memory(rows), most=most)
    assert [row["n"] for row in found["rows"]] == list(range(min(most, len(rows))))
    assert found["count"] == len(rows)


@given(st.lists(st.one_of(VALUES, st.sampled_from(["2026-03-04", "2026-03-05"])), max_size=40))
def test_values_of_a_column_are_made_as_each_by_itself_and_those_that_come_again_once(values: list[Any]) -> None:
    asked: list[Any] = []
    assert each_of(values, lambda value: (asked.append(value), repr(value))[1]) == [repr(value) for value in values]  # type: ignore[func-returns-value]
    if values and all(type(each) is str for each in values) and 2 * len(set(values)) <= len(values):
        assert sorted(asked) == sorted(set(values))


@pytest.fixture
def table(tmp_path: Path) -> Iterator[SqlDestination]:
    engine = file_engine(tmp_path / "rows.db")
    made = SqlDestination(lambda: engine, "rows")
    yield made
    engine.dispose()


def filled(table: SqlDestination, since: int, until: int) -> None:
    for start in range(since, until, 1000):
        table.write(
            [Row(f"k{number:06}", {"part": f"FN-{number % 7}", "amount": Decimal(number), "note": "x" * 40}) for number in range(start, start + 1000)]
        )


def highest(work: Any) -> int:
    """The most memory that some work takes, in bytes."""
    work()
    tracemalloc.start()
    work()
    peak = tracemalloc.get_traced_memory()[1]
    tracemalloc.stop()
    return peak


def summed(rows: Destination, **said: Any) -> Mapping[str, Any]:
    form = tally_kind.KIND.parameters.model_validate({"in": "rows", "by": ["part"], "sum": ["amount"], **said})
    call = Call("r", "i", "f", 1, "s", form.model_dump(by_alias=True), 1, 1, "2026-03-04", "", form)
    return tally.run(call, Shop(rows)).result  # type: ignore[arg-type]


def test_many_rows_take_no_more_memory_than_few(table: SqlDestination) -> None:
    filled(table, 0, 3000)
    few = highest(lambda: (looked_up(table, order="amount", last=True, most=3), summed(table)))
    filled(table, 3000, 12_000)
    many = highest(lambda: (looked_up(table, order="amount", last=True, most=3), summed(table)))
    assert many < 1.3 * few
    assert [row["amount"] for row in looked_up(table, order="amount", last=True, most=2)["rows"]] == [11_999, 11_998]
    assert summed(table)["sums"]["amount"] == sum(range(12_000))


def test_more_rows_than_a_lookup_may_look_at_are_told_and_none_is_left_out(table: SqlDestination, monkeypatch: pytest.MonkeyPatch) -> None:
    filled(table, 0, 2000)
    monkeypatch.setattr(lookup, "MOST_ROWS", 1500)
    with pytest.raises(StepFailed, match=r"holds more than 1500 rows like these\. Say more in `where`\. Then continue\."):
        looked_up(table)
    with pytest.raises(StepFailed, match="more than 1999 rows"):
        summed(table, most=1999)
