"""A second reading: what is decided is asked once more, by itself; where the two differ a person must look."""

from __future__ import annotations

import json
from typing import Any

import pytest

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import SECOND
from metrikon.core.records.findings import stops
from metrikon.core.records.types import record_type
from metrikon.drivers.extract import Extracted, extract
from metrikon.drivers.paper import LocalPaper
from metrikon.ports.model import ModelAnswer, ModelRequest, Usage
from tests.helpers import typed_document

TEXT = "Fern walk\nDogs are welcome on the lead.\nRoyal fern      in stock\nLady fern      sold out"
YES = {"type": ["boolean", "null"]}
KIND: dict[str, Any] = {
    "type": "object",
    "properties": {
        "walk": {"type": "string"},
        "dogs": {**YES, "description": "Whether dogs are welcome"},
        "season": {"enum": ["spring", "autumn", None], "x-metrikon": {"readings": 1}},
        "plants": {
            "type": "array",
            "items": {"type": "object", "properties": {"plant": {"type": "string"}, "stock": {**YES, "description": "In stock"}}},
        },
    },
}
FIRST = {
    "walk": "Fern walk",
    "dogs": True,
    "season": "autumn",
    "plants": [{"plant": "Royal fern", "stock": True}, {"plant": "Lady fern", "stock": False}],
}


class Model:
    """Says what it is told to, first and second."""

    name, room, sees = "told", 24_000, 0

    def __init__(self, second: dict[str, Any]) -> None:
        self.second, self.asked = second, []  # type: ignore[var-annotated]

    def answer(self, request: ModelRequest) -> ModelAnswer:
        self.asked.append(request)
        return ModelAnswer(json.dumps(self.second if request.stage == SECOND else FIRST), Usage(1, 1, 1))


def read(second: dict[str, Any], twice: bool = True) -> tuple[Extracted, Model]:
    model = Model(second)
    kind = record_type(json.loads(json.dumps(KIND)))
    return extract(model, kind, LocalPaper(Index(typed_document(TEXT))), "2026-11-26", second_reading=model if twice else None), model


def test_the_same_said_twice_goes_through() -> None:
    found, model = read({"dogs": True, "plants": FIRST["plants"]})
    assert not stops(found.reading.findings), found.reading.findings
    assert [each.stage for each in model.asked] == ["ask", "second"]


def test_the_second_reading_does_not_see_the_first_and_asks_only_what_is_decided() -> None:
    _, model = read({"dogs": True, "plants": FIRST["plants"]})
    again = model.asked[1]
    assert set(again.schema["properties"]) == {"dogs", "plants"}  # one reading is enough for the season
    assert set(again.schema["properties"]["plants"]["items"]["properties"]) == {"plant", "stock"}
    assert "Whether dogs are welcome" in again.messages[1]["content"]
    assert "autumn" not in json.dumps(again.messages)


@pytest.mark.parametrize(
    ("second", "pointer"),
    [
        ({"dogs": False, "plants": FIRST["plants"]}, "/dogs"),
        ({"dogs": None, "plants": FIRST["plants"]}, "/dogs"),
        ({"dogs": True, "plants": [{"plant": "Royal fern", "stock": True}, {"plant": "Lady fern", "stock": True}]}, "/plants/1/stock"),
        ({"dogs": True, "plants": [{"plant": "Lady fern", "stock": True}]}, "/plants/1/stock"),
    ],
)
def test_where_two_readings_differ_a_person_must_look(second: dict[str, Any], pointer: str) -> None:
    found, _ = read(second)
    (told,) = [each for each in found.reading.findings if each.check == "readings differ"]
    assert (told.level, told.fields) == ("stop", (pointer,))
    assert "by the second reading" in told.message


def test_without_a_second_reading_none_is_made() -> None:
    found, model = read({"dogs": False}, twice=False)
    assert len(model.asked) == 1
    assert not stops(found.reading.findings)


def test_the_limit_on_requests_holds_for_the_first_ones_too() -> None:
    kind = record_type({"type": "object", "properties": {"walk": {"type": "string"}}})
    model = Model({})
    model.room = 1200
    pages = ["\n".join(f"Fern number {n} of page {page} stands in the shade of the wall" for n in range(30)) for page in range(4)]
    found = extract(model, kind, LocalPaper(Index(typed_document(*pages))), "2026-11-26", most_calls=2)
    assert len(model.asked) == 2
    assert any(each.check == "calls" and each.level == "stop" for each in found.reading.findings)


def test_what_was_read_before_does_not_change_where_a_value_stands() -> None:
    from metrikon.core.extraction.grounding.ground import ground
    from metrikon.core.extraction.planning.plan import plan
    from metrikon.core.values.exact import loads
    from metrikon.demo import scenario
    from metrikon.readers.registry import read as read_file

    index = Index(read_file(scenario.document("01-fernhill-nurseries.pdf")))
    invoice = record_type(loads(scenario.invoice_type()), "invoice")
    other = record_type({"type": "object", "properties": {"total": {"type": "number"}}})
    value = {"total": next(iter(index.numbers))}
    before = ground(other, value, index)
    assert plan(invoice, index, "2026-11-26").aside
    assert ground(other, value, index) == before
