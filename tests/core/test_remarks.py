"""What is right in a flow and yet worth a word: choices that were left open, and keys that tell no row from another."""

from __future__ import annotations

import pytest

from metrikon.app.kinds import kinds
from metrikon.core.flows.alike import ENOUGH, KeysAlike
from metrikon.core.flows.kind import Known
from metrikon.core.flows.reading import flow_from
from metrikon.core.flows.text import from_yaml
from metrikon.core.flows.verify import remarks, verify
from metrikon.demo.scenario import flow_text

FLOW = """
metrikon: 1
name: prices
intakes: [{kind: upload}]
destinations: {sheet: {kind: csv, path: prices.csv}}
steps:
  - {name: row, write: {to: sheet, key: [KEY], columns: {Name: "${item.name}"}}}
"""


@pytest.mark.parametrize(
    ("key", "open_"),
    [
        ('"${item.name}"', True),
        ('"${item.data.number}", "${item.name}"', True),
        ('"${item.id}"', False),
        ('"line ${item.id}", "${item.name}"', False),
        ('"${run.id}"', False),
        ('"${item.name}"], if_there: keep, ignore_case: true, columns: {A: "${item.name}"}}}\n#', False),
    ],
)
def test_what_becomes_of_a_row_whose_key_a_second_paper_may_have_is_asked(key: str, open_: bool) -> None:
    flow = flow_from(from_yaml(FLOW.replace("KEY", key)), kinds().language)
    assert verify(flow, Known()) == []
    assert [(each.step, each.place) for each in remarks(flow, Known())] == ([("row", "write/key")] if open_ else [])


def test_the_demo_leaves_no_choice_open() -> None:
    assert remarks(flow_from(from_yaml(flow_text()), kinds().language), Known()) == []


def test_a_key_that_is_equal_for_three_papers_that_differ_is_told_and_one_that_is_not_never() -> None:
    seen = KeysAlike()
    assert [bool(seen.told("prices", "row", "k", f"paper {number}", {"Fernhill"})) for number in range(ENOUGH)] == [False] * (ENOUGH - 1) + [True]
    assert not seen.told("prices", "row", "k", "another", {"Hartwell"})
    assert not seen.told("prices", "row", "k", "paper 1", {"Fernhill"})
    for _ in range(ENOUGH):
        assert not seen.told("prices", "other", "k", "the same paper", {"Fernhill"})
    assert not any(seen.told("prices", "lines", "k", f"paper {number}", {"1", "2"}) for number in range(ENOUGH))
