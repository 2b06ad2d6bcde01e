"""How sure a model was of each value is read from the probabilities of its tokens, whatever the tokens are."""

from __future__ import annotations

import json
import math
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.parsing.chances import chance_of, chances
from metrikon.core.extraction.planning.asking import Asking, Given
from metrikon.core.extraction.settle import settled
from metrikon.core.records.types import record_type
from tests.helpers import typed_document

RECORD = {"number": "F-12", "paid": True, "lines": [{"plant": "Fern", "pieces": 3}, {"plant": "Moss", "pieces": 7}], "tags": ["shade", "wet"]}


def tokens(text: str, size: int, unsure: dict[str, float]) -> list[tuple[int, float]]:
    """(end, logarithm of the probability) of tokens of a size; those that touch a text of `unsure` have its probability."""
    spans = [(text.index(part), text.index(part) + len(part), chance) for part, chance in unsure.items()]
    found = []
    for start in range(0, len(text), size):
        end = min(len(text), start + size)
        least = min((chance for a, b, chance in spans if a < end and start < b), default=1.0)
        found.append((end, math.log(least)))
    return found


@given(st.integers(1, 3), st.sampled_from(["F-12", "true", "Moss", "wet"]), st.floats(0.05, 0.95))
def test_the_least_likely_token_of_a_value_says_how_sure_it_is(size: int, doubtful: str, chance: float) -> None:
    text = json.dumps(RECORD, indent=2)
    known = chances([(text, tokens(text, size, {doubtful: chance}))])
    told = {
        "F-12": chance_of(known, "/number", "F-12"),
        "true": chance_of(known, "/paid", True),
        "Moss": chance_of(known, "/lines/*/plant", "Moss"),
        "wet": chance_of(known, "/tags/*", "wet"),
    }
    assert told[doubtful] == pytest.approx(chance, abs=0.001)
    assert chance_of(known, "/lines/*/plant", "Fern") == 1.0


def test_a_value_that_was_brought_into_another_form_has_the_sureness_of_its_field() -> None:
    text = '{"phone": "07700 900123"}'
    known = chances([(text, tokens(text, 2, {"900123": 0.4}))])
    assert chance_of(known, "/phone", "+447700900123") == pytest.approx(0.4)


@given(st.text(max_size=60))
def test_any_text_can_be_looked_at(text: str) -> None:
    assert isinstance(chances([(text, [(len(text), -0.1)])]), dict)


def test_what_a_model_was_unsure_of_is_less_sure_and_a_reading_that_agrees_makes_up_for_it() -> None:
    kind = record_type({"type": "object", "properties": {"ours": {"type": "string", "description": "Our reference"}, "note": {"type": "string"}}})
    index = Index(typed_document("Quillfeather Ferns\nWe thank you for coming.\n"))
    said: dict[str, Any] = {"ours": "Quillfeather", "note": "We thank you"}
    text = json.dumps(said)
    sure = {}
    for chance in (0.99, 0.55):
        answer = Given("ask", text, "m", tokens=tuple(tokens(text, 1, {"We thank you": chance})))
        sure[chance] = settled(kind, index, [answer], Asking("2026-11-26")).evidence["/note"].confidence
    assert sure[0.99] > 0.9
    assert 0.5 < sure[0.55] < 0.6


def test_a_value_whose_doubt_need_not_stop_the_record_stays() -> None:
    note = {"type": ["string", "null"], "x-metrikon": {"unsure": "warn"}}
    kind = record_type({"type": "object", "properties": {"note": note}})
    text = json.dumps({"note": "We thank you"})
    answer = Given("ask", text, "m", tokens=tuple(tokens(text, 1, {"We thank you": 0.2})))
    index = Index(typed_document("Quillfeather Ferns\nWe thank you for coming.\n"))
    assert settled(kind, index, [answer], Asking("2026-11-26")).record == {"note": "We thank you"}


@pytest.mark.parametrize(("schema", "left"), [({"type": ["string", "null"]}, {"note": None}), ({"type": "string"}, {})])
def test_what_is_likelier_wrong_than_right_is_a_suggestion_beside_an_empty_field(schema: dict[str, Any], left: dict[str, Any]) -> None:
    kind = record_type({"type": "object", "properties": {"ours": {"type": "string"}, "note": schema}, "required": ["ours"]})
    index = Index(typed_document("Quillfeather Ferns\nWe thank you for coming.\n"))
    text = json.dumps({"ours": "Quillfeather", "note": "We thank you"})
    answer = Given("ask", text, "m", tokens=tuple(tokens(text, 1, {"We thank you": 0.2, "Quillfeather": 0.2})))
    reading = settled(kind, index, [answer], Asking("2026-11-26"))
    assert reading.record == {"ours": "Quillfeather", **left}  # what must have a value keeps it
    assert "/note" not in reading.evidence
    told = next(each for each in reading.findings if each.check == "suggested")
    assert (told.level, told.fields, told.compared) == ("stop", ("/note",), {"suggested": "We thank you"})
