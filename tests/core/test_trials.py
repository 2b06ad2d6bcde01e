"""Trials: readings are scored as a person would, rows whatever their order, and the figures add up."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.records.types import record_type
from metrikon.core.trials.score import Rules, paired, score_record
from metrikon.core.trials.tally import Tried, differences, reliability, report

BED = record_type(
    {
        "type": "object",
        "properties": {
            "garden": {"type": "string"},
            "opened": {"type": ["string", "null"], "format": "date"},
            "area": {"type": "number"},
            "open": {"type": "boolean"},
            "gist": {"type": "string", "description": "A summary in one sentence"},
            "beds": {"type": "array", "items": {"type": "object", "properties": {"plant": {"type": "string"}, "count": {"type": "integer"}}}},
        },
    }
)
RIGHT: dict[str, Any] = {
    "garden": "Ellerby Botanic Garden",
    "opened": None,
    "area": Decimal("12.50"),
    "open": True,
    "gist": "The garden opens a new fern house in May",
    "beds": [{"plant": "Fern", "count": 12}, {"plant": "Moss", "count": 3}],
}


def counts(given: dict[str, Any], rules: Rules | None = None) -> tuple[int, int, int, int]:
    score = score_record(BED, RIGHT, given, rules)
    return score.right, score.wrong, score.missing, score.invented


@pytest.mark.parametrize(
    ("changes", "told"),
    [
        ({}, (7, 0, 0, 0)),
        ({"garden": "ELLERBY botanic-garden", "area": 12.5}, (7, 0, 0, 0)),
        ({"beds": list(reversed(RIGHT["beds"]))}, (7, 0, 0, 0)),
        ({"area": 12.51}, (6, 1, 0, 0)),
        ({"area": "12.5"}, (6, 1, 0, 0)),
        ({"open": 1}, (6, 1, 0, 0)),
        ({"garden": None}, (6, 0, 1, 0)),
        ({"opened": "2026-05-01"}, (7, 0, 0, 1)),
        ({"beds": [*RIGHT["beds"], {"plant": "Lichen", "count": 1}]}, (7, 0, 0, 2)),
        ({"beds": RIGHT["beds"][:1]}, (5, 0, 2, 0)),
        ({"gist": "In May a new fern house opens"}, (7, 0, 0, 0)),
    ],
)
def test_values_are_counted_right_wrong_missing_or_invented(changes: dict[str, Any], told: tuple[int, int, int, int]) -> None:
    assert counts({**RIGHT, **changes}) == told


def test_texts_in_ones_own_words_are_compared_by_the_words_they_share() -> None:
    assert score_record(BED, RIGHT, {**RIGHT, "gist": "In May a new fern house opens"}).loose_right == 1
    assert score_record(BED, RIGHT, {**RIGHT, "gist": "Somebody mows lawns"}).loose_right == 0


def test_further_values_count_as_right_where_the_rules_say_so() -> None:
    assert counts({**RIGHT, "garden": "Ellerby"}, Rules({"garden": ["Ellerby"]}, frozenset({"gist"}))) == (7, 0, 0, 0)


@given(st.lists(st.lists(st.sampled_from([0.0, 0.5, 1.0]), min_size=3, max_size=3), min_size=1, max_size=3))
def test_rows_are_paired_so_that_most_agrees(likeness: list[list[float]]) -> None:
    from itertools import permutations

    pairs = paired(likeness)
    best = max(sum(likeness[n][column] for n, column in enumerate(order[: len(likeness)])) for order in permutations(range(3)))
    assert sum(likeness[n][column] for n, column in pairs.items()) == pytest.approx(best)
    assert len(set(pairs.values())) == len(pairs)


def test_a_report_adds_up_by_field_and_says_how_sure_against_how_right() -> None:
    score = score_record(BED, RIGHT, {**RIGHT, "area": 9, "garden": None})
    sure = {"/area": 0.95, "/open": 0.95, "/beds/0/plant": 0.55}
    one = Tried("fern.pdf", score, True, sure, 120, 1.5, "0.02").as_json()
    told = report([one, {**one, "name": "moss.pdf"}])
    assert (told["right"], told["wrong"], told["missing"], told["through_wrong"]) == (10, 2, 2, 2)
    assert told["fields"]["beds[].plant"] == {"right": 4, "wrong": 0, "missing": 0, "invented": 0, "completeness": 1.0}
    assert told["fields"]["garden"]["completeness"] == 0.0
    assert told["cost"] == "0.04"
    assert [(each["values"], each["right"]) for each in told["reliability"]] == [(2, 1.0), (4, 0.5)]


def test_two_trials_are_told_apart_by_document_and_field() -> None:
    one = [Tried("fern.pdf", score_record(BED, RIGHT, {**RIGHT, "area": 9})).as_json()]
    two = [Tried("fern.pdf", score_record(BED, RIGHT, {**RIGHT, "garden": "Elsewhere"})).as_json()]
    assert [(each["field"], each["better"]) for each in differences(one, two)] == [("area", "second"), ("garden", "first")]


def test_nothing_counts_as_nothing() -> None:
    assert report([])["precision"] is None
    assert reliability([]) == []
