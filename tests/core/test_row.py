"""The row of stages: each takes a frozen state and gives a new one; checks are found by their folder; only a finding's maker takes it back."""

from __future__ import annotations

import copy
import json
from dataclasses import replace

import pytest

from metrikon.core.extraction.doubting.row import doubts, every_check, spoiling
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking, Given
from metrikon.core.extraction.planning.plan import plan
from metrikon.core.extraction.row import ANSWERS, DECISIONS, RECORD, STAGES, again, names
from metrikon.core.extraction.settle import settled
from metrikon.core.extraction.state import State, made_by
from metrikon.core.records.checks import record_checks
from metrikon.core.records.findings import Finding
from metrikon.core.records.types import record_type
from tests.helpers import typed_document

TEXT = "Fernhill Nurseries\nInvoice 41 of 3 March 2026\nNet  20.00\nTax   4.00\nTotal  24.00\n"
KIND = record_type(
    {
        "type": "object",
        "properties": {name: {"type": "number"} for name in ("net", "tax", "total")} | {"vendor": {"type": "string"}},
        "x-metrikon": {"sums": [{"parts": ["/net", "/tax"], "equals": "/total"}]},
    }
)
ANSWER = {"net": 20, "tax": 4, "total": 25, "vendor": "Fernhill Nurseries"}


@pytest.fixture
def start() -> State:
    index = Index(typed_document(TEXT))
    return State(KIND, index, plan(KIND, index, "2026-03-04"), (Given("ask", json.dumps(ANSWER), "m"),), Asking("2026-03-04"))


def test_the_order_of_the_stages_is_that_of_the_row() -> None:
    assert names() == [*names(ANSWERS), *names(RECORD), "repair", *names(DECISIONS)]
    assert names().index("ground_all") < names().index("doubt") < names().index("trust")


def test_no_stage_changes_the_state_that_it_was_given(start: State) -> None:
    state = start
    for step in STAGES:
        before = copy.deepcopy((state.record, state.evidence, state.notes, state.checked, state.changes, state.draft))
        made = step(state)
        assert (state.record, state.evidence, state.notes, state.checked, state.changes, state.draft) == before, step.__name__
        state = made


def test_the_stages_of_a_record_start_anew_for_another_one(start: State) -> None:
    state = start
    for step in (*ANSWERS, *RECORD):
        state = step(state)
    assert [each.check for each in state.findings if each.level == "stop"] == ["unsupported", "sum"]
    assert not again(state, {**state.record, "total": 24}).stopping
    assert state.stopping == 2


def test_the_same_answers_give_the_same_reading(start: State) -> None:
    first, then = (settled(KIND, Index(typed_document(TEXT)), start.given, start.asking) for _ in range(2))
    assert (first.record, first.evidence, first.findings) == (then.record, then.evidence, then.findings)


def test_checks_say_what_they_look_at_and_what_may_be_done_about_their_findings() -> None:
    assert len(doubts()) > 10
    assert len(record_checks()) > 4
    for check in every_check():
        assert check.names
        assert check.looks_at.endswith(".")
        assert set(check.mendable) | set(check.of_rows) <= set(check.names)
    assert spoiling() == {"cut off", "no answer"}


def test_every_finding_of_a_reading_bears_its_maker_and_the_name_of_a_check(start: State) -> None:
    found = settled(KIND, start.index, [Given("ask", '{"net": 20, "tax": 4, "total": 25, "vendor": "', "m")], start.asking).findings
    assert {each.maker for each in found} == {"reading", "record"}
    assert {each.check for each in found} <= {name for check in every_check() for name in check.names}


def test_a_finding_that_bears_a_maker_keeps_it() -> None:
    one = Finding("sum", "stop", "It does not add up.")
    assert [each.maker for each in made_by("reading", [one, one.by("record")])] == ["reading", "record"]


def test_an_empty_object_is_no_answer_and_is_asked_for_again(start: State) -> None:
    state = replace(start, given=(Given("ask", "{}", "m"),))
    (ask,) = settled(KIND, state.index, state.given, state.asking).next
    assert (ask.stage, ask.tries) == ("ask", 1)
    assert "none of the fields" in ask.messages[-1]["content"]
    tired = [Given("ask", "{}", "m", tries=2)]
    assert [each.check for each in settled(KIND, state.index, tired, state.asking).findings if each.maker == "reading"] == ["no answer"]
