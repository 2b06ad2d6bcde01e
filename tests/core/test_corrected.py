"""Corrections of results: they add up, and a later one of a path counts."""

from __future__ import annotations

from typing import Any

from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.flows.corrected import added, all_corrected

RECORD: dict[str, Any] = {"total": 1, "net": 2, "lines": [{"amount": 3}, {"amount": 4}]}
PATHS = st.sampled_from(["total", "net", "lines[1].amount", "lines[2].amount", "lines[2]", "lines"])


def value_for(path: str, number: int) -> Any:
    """A value that can stand at a path."""
    if path == "lines":
        return [{"amount": number}, {"amount": number}]
    return {"amount": number} if path == "lines[2]" else number


@given(st.lists(PATHS, max_size=8))
def test_corrections_made_one_after_the_other_give_what_they_give_together(paths: list[str]) -> None:
    told: dict[str, dict[str, Any]] = {}
    result: Any = RECORD
    for number, path in enumerate(paths, 10):
        value = value_for(path, number)
        told = added(told, {"checked": {path: value}})
        result = all_corrected(result, {path: value})
    assert all_corrected(RECORD, told.get("checked", {})) == result


def test_a_later_correction_of_a_whole_takes_the_place_of_its_parts() -> None:
    told = added({"a": {"lines[1].amount": 5, "linesmen": 1}}, {"a": {"lines": []}})
    assert told == {"a": {"linesmen": 1, "lines": []}}
