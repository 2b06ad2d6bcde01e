"""In what manner a field comes by its value, what form it has, and what it means: found from its schema alone."""

from __future__ import annotations

import json
from typing import Any

import pytest

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking, Given
from metrikon.core.extraction.settle import settled
from metrikon.core.records.checks import check_record
from metrikon.core.records.lexicon import concepts, concepts_in
from metrikon.core.records.meaning import concept_of, label_fit
from metrikon.core.records.types import BadRecordType, Field, record_type
from tests.helpers import typed_document


def field(schema: dict[str, Any], name: str = "field") -> Field:
    return record_type({"type": "object", "properties": {name: schema}}).fields[0]


@pytest.mark.parametrize(
    ("schema", "manner", "kind"),
    [
        ({"type": "string"}, "copied", "text"),
        ({"type": "number"}, "copied", "amount"),
        ({"type": "boolean"}, "decided", "yes/no"),
        ({"enum": ["a", "b", None]}, "decided", "choice"),
        ({"type": "string", "format": "date"}, "mapped", "date"),
        ({"type": "string", "pattern": r"^\+[1-9][0-9]{6,14}$"}, "mapped", "phone"),
        ({"type": "string", "pattern": r"^\d{4}-\d{2}$"}, "mapped", "month"),
        ({"type": "string", "pattern": "^[0-2][0-9]:[0-5][0-9]$"}, "mapped", "time"),
        ({"type": "string", "pattern": r"^\d{4}-\d{2}-\d{2}T\d{2}:\d{2}$"}, "mapped", "moment"),
        ({"type": "string", "pattern": "^[A-Z]{3}$", "description": "Devise, code ISO"}, "mapped", "currency"),
        ({"type": "string", "pattern": "^[A-Z]{3}$", "description": "Airport"}, "copied", "text"),
        ({"type": "string", "pattern": "^[0-9]{4}$"}, "copied", "text"),
        ({"type": "string", "description": "Summary, two sentences at most"}, "decided", "text"),
        ({"type": "string", "description": "Zusammenfassung in einem Satz"}, "decided", "text"),
        ({"type": "number", "x-metrikon": {"derived": {"sum": "/rows/*/sum"}}}, "derived", "amount"),
        ({"type": "string", "x-metrikon": {"manner": "decided"}}, "decided", "text"),
    ],
)
def test_manner_and_form_are_found_from_the_schema(schema: dict[str, Any], manner: str, kind: str) -> None:
    found = field(schema)
    assert (found.manner, found.kind) == (manner, kind)


@pytest.mark.parametrize(
    ("description", "label", "fits"),
    [
        ("Total hors taxes", "Sous-total HT", True),
        ("Fälligkeitsdatum", "Zahlbar bis", True),
        ("Date limite de paiement", "À régler avant le", True),
        ("Totale da pagare", "Totale documento", True),
        ("Factuurnummer", "Factuur nr.", True),
        ("Importe sin IVA", "Base imponible", False),
        ("Total hors taxes", "TVA 20 %", False),
        ("Due date", "Invoice number", False),
    ],
)
def test_a_label_fits_a_field_by_what_both_mean(description: str, label: str, fits: bool) -> None:
    kind = {"type": "string", "format": "date"} if "date" in description.lower() or "datum" in description else {"type": "number"}
    kind = {"type": "string"} if "nummer" in description else kind
    assert (label_fit(field({**kind, "description": description}), label) >= 0.5) == fits


def test_every_concept_is_found_by_its_own_phrases() -> None:
    assert len(concepts()) > 60
    assert concept_of(field({"type": "number", "description": "Unit price"}, "x")) == "unit price"
    assert ("number", 0, 2) in concepts_in("Invoice no. 4417")


def test_null_is_an_answer_where_it_is_allowed() -> None:
    kind = record_type(
        {
            "type": "object",
            "required": ["name", "fax", "rows", "due"],
            "properties": {
                "name": {"type": "string"},
                "fax": {"type": ["string", "null"]},
                "due": {"anyOf": [{"type": "string", "format": "date"}, {"type": "null"}]},
                "rows": {"type": "array", "items": {"type": "object", "required": ["a"], "properties": {"a": {"type": ["number", "null"]}}}},
            },
        }
    )
    assert check_record(kind, {"name": "Fern", "rows": [{}]}, {}) != []  # the name stands nowhere
    assert [each.check for each in check_record(kind, {"rows": [{}]}, {})] == ["required"]
    assert [each.fields for each in check_record(kind, {}, {}) if each.check == "required"] == [("/name",)]


@pytest.mark.parametrize(
    ("schema", "said", "text", "kept"),
    [
        ({"type": "string", "pattern": r"^\+[1-9][0-9]{6,14}$"}, "01632 960 412", "Tel. 01632 960 412, VAT GB123456789", "+441632960412"),
        ({"type": "string", "pattern": "^[0-9]{4}$"}, "**** **** 0412", "Card **** **** 0412", "0412"),
        ({"type": "string", "pattern": "^[A-Z0-9]+$"}, "AB 12-34", "Code AB 12-34", "AB1234"),
        ({"type": "string", "pattern": "^[0-2][0-9]:[0-5][0-9]$"}, "2.30 pm", "at 2.30 pm", "14:30"),
        ({"type": "string", "pattern": r"^\d{4}-\d{2}$"}, "March 2026", "since March 2026", "2026-03"),
        ({"type": "number", "description": "Discount (positive)"}, "-3.00", "Discount -3.00", 3),
    ],
)
def test_a_value_is_brought_into_the_form_that_its_field_asks_for(schema: dict[str, Any], said: str, text: str, kept: Any) -> None:
    kind = record_type({"type": "object", "properties": {"x": schema}})
    found = settled(kind, Index(typed_document(text)), [Given("ask", json.dumps({"x": said}), "m")], Asking())
    assert found.record["x"] == kept
    assert not [each for each in found.findings if each.level == "stop"], found.findings


def test_what_holds_by_default_says_so() -> None:
    kind = record_type({"type": "object", "properties": {"day": {"type": "string", "format": "date", "x-metrikon": {"default": "today"}}}})
    found = settled(kind, Index(typed_document("12 on potting soil")), [Given("ask", "{}", "m")], Asking("2026-11-26"))
    assert found.record == {"day": "2026-11-26"}
    assert found.evidence["/day"].how == "not in the document, by default"
    with pytest.raises(BadRecordType, match="no FEEL expression"):
        record_type({"type": "object", "properties": {"day": {"type": "string", "x-metrikon": {"default": "today +"}}}})


@pytest.mark.parametrize(("text", "kept"), [("Garden post, 2 May 2026", None), ("Garden, telephone 01632 960 412", "+441632999999")])
def test_an_invented_telephone_number_stays_a_suggestion_where_none_stands_and_is_doubted_where_another_does(text: str, kept: str | None) -> None:
    kind = record_type({"type": "object", "required": ["x"], "properties": {"x": {"type": ["string", "null"], "pattern": r"^\+[1-9][0-9]{6,14}$"}}})
    found = settled(kind, Index(typed_document(text)), [Given("ask", '{"x": "+441632999999"}', "m")], Asking())
    assert found.record.get("x") == kept
    (told,) = found.findings
    assert (told.level, told.compared.get("suggested")) == (("warn", "+441632999999") if kept is None else ("stop", None))
