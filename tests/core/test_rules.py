"""What a builder may ask of records: rules, lists of known values, records that look alike, values that are worked out, alternatives."""

from __future__ import annotations

import json
from decimal import Decimal
from typing import Any

import pytest

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking, Given
from metrikon.core.extraction.settle import settle, settled
from metrikon.core.records.rules import alike_key, feel_rules
from metrikon.core.records.starting import from_document, from_heads, from_row
from metrikon.core.records.types import BadRecordType, RecordType, record_type
from tests.helpers import typed_document

RECEIPT = """Tamarack Field Supplies
Receipt No.      4471
Telephone        01632 960143
IBAN             GB82 WEST 1234 5698 7654 32
Opened           2.30 pm

Article               Qty    Price    Amount
Specimen bags         2      6.20     12.40
Silica gel            1      16.20    16.20
"""


def kind(properties: dict[str, Any], **ours: Any) -> RecordType:
    return record_type({"type": "object", "properties": properties, "x-metrikon": ours}, "receipt")


def rows() -> dict[str, Any]:
    fields = {"article": {"type": "string"}, "qty": {"type": "number"}, "price": {"type": "number"}, "amount": {"type": "number"}}
    return {"type": "array", "items": {"type": "object", "properties": fields}}


@pytest.mark.parametrize(
    ("rule", "levels"),
    [
        ({"holds": "total <= 500", "message": "More than 500 needs a second look.", "fields": ["/total"]}, ["stop"]),
        ({"holds": "total <= 5000"}, []),
        ({"holds": "vendor = \"Fernhill\"", "level": "warn"}, ["warn"]),
        ({"holds": "due > date"}, ["warn"]),
        ({"holds": "due > date", "null_means": False}, ["stop"]),
        ({"holds": "due > date", "null_means": True}, []),
        ({"holds": "some line in lines satisfies line.amount > 100"}, ["stop"]),
    ],
)  # fmt: skip
def test_rules_in_feel_stop_or_warn(rule: dict[str, Any], levels: list[str]) -> None:
    fields = {name: {"type": "string"} for name in ("vendor", "date", "due")} | {"total": {"type": "number"}, "lines": rows()}
    given = kind(fields, rules=[rule])
    record = {"vendor": "Tamarack", "date": "2026-03-04", "total": Decimal("1200.00"), "lines": [{"amount": Decimal(3)}]}
    found = list(feel_rules(given, record))
    assert [each.level for each in found] == levels
    if rule.get("message"):
        assert (found[0].message, found[0].compared) == (rule["message"], {"/total": "1200.00"})


def test_a_rule_that_is_no_feel_is_told_when_the_type_is_kept() -> None:
    with pytest.raises(BadRecordType, match="rules/0"):
        kind({"total": {"type": "number"}}, rules=[{"holds": "total >"}])


def test_records_look_alike_whatever_the_order_and_case_of_their_words() -> None:
    given = kind({"vendor": {"type": "string"}, "total": {"type": "number"}}, alike=["/vendor", "/total"])
    one = alike_key(given, {"vendor": "Fernhill Nurseries Ltd", "total": Decimal("12.50")})
    assert one == alike_key(given, {"vendor": "NURSERIES FERNHILL, LTD", "total": Decimal("12.50")})
    assert one != alike_key(given, {"vendor": "Fernhill Nurseries Ltd", "total": Decimal("12.51")})
    assert alike_key(given, {"vendor": "Fernhill"}) is None


def test_sums_and_counts_are_worked_out_when_they_are_not_printed() -> None:
    fields = {
        "count": {"type": "integer", "x-metrikon": {"derived": {"count": "/lines"}}},
        "total": {"type": "number", "x-metrikon": {"derived": {"sum": "/lines/*/amount"}}},
        "lines": rows(),
    }
    lines = '{"lines": [{"article": "Specimen bags", "amount": 12.40}, {"article": "Silica gel", "amount": 16.20}]'
    reading = settled(kind(fields), Index(typed_document(RECEIPT)), [Given("ask", lines + "}", "m")], Asking())
    assert (reading.record["count"], reading.record["total"]) == (2, Decimal("28.60"))
    assert reading.evidence["/total"].how == "derived"
    assert not any(each.check == "unsupported" for each in reading.findings)
    wrong = settled(kind(fields), Index(typed_document(RECEIPT)), [Given("ask", lines + ', "total": 99.00}', "m")], Asking())
    assert any(each.check == "unsupported" for each in wrong.findings)


def test_codes_and_numbers_take_their_form_and_keep_the_words_of_the_document() -> None:
    fields = {
        "phone": {"type": "string", "x-metrikon": {"kind": "phone"}},
        "iban": {"type": "string", "x-metrikon": {"kind": "iban"}},
        "opened": {"type": "string", "format": "time"},
    }
    answer = json.dumps({"phone": "01632 960143", "iban": "GB82 WEST 1234 5698 7654 32", "opened": "2.30 pm"})
    reading = settle(kind(fields), answer, Index(typed_document(RECEIPT)))
    assert reading.record == {"phone": "+441632960143", "iban": "GB82WEST12345698765432", "opened": "14:30:00"}
    assert {pointer: each.quote for pointer, each in reading.evidence.items()} == {
        "/phone": "01632 960143",
        "/iban": "GB82 WEST 1234 5698 7654 32",
        "/opened": "2.30 pm",
    }
    assert reading.findings == []
    misread = settle(kind(fields), json.dumps({"iban": "GB82 WEST 1234 5698 7654 33"}), Index(typed_document(RECEIPT.replace("32", "33"))))
    assert any(each.check == "check digit" for each in misread.findings)


def test_alternatives_and_references_of_a_type_are_all_read() -> None:
    given = record_type(
        {
            "type": "object",
            "$defs": {"person": {"type": "object", "properties": {"name": {"type": "string"}}}},
            "properties": {
                "sender": {"oneOf": [{"$ref": "#/$defs/person"}, {"type": "object", "properties": {"company": {"type": "string"}}}]},
                "amount": {"anyOf": [{"type": "number"}, {"type": "null"}]},
                "when": {"oneOf": [{"type": "string", "format": "date"}, {"type": "null"}]},
                "state": {"oneOf": [{"const": "paid"}, {"const": "open"}]},
            },
        },
        "bill",
    )
    assert {each.shape: each.kind for each in given.fields} == {
        "/sender/name": "text",
        "/sender/company": "text",
        "/amount": "amount",
        "/when": "date",
        "/state": "choice",
    }


def test_a_type_is_started_from_a_row_from_heads_and_from_a_sample() -> None:
    row = from_row({"Invoice No.": "A-7", "Issued": "4 March 2026", "Net": "12.50 EUR", "Paid": True, "Contact": "ada@garden.example"})
    fields = {each.name: each.kind for each in record_type(row).fields}
    assert fields == {"invoice_no": "text", "issued": "date", "net": "amount", "paid": "yes/no", "contact": "mail"}
    assert list(from_heads(["Vendor", "", "Vendor"])["properties"]) == ["vendor", "vendor_2"] or list(
        from_heads(["Vendor", "Total"])["properties"]
    ) == ["vendor", "total"]
    sample = record_type(from_document(typed_document(RECEIPT)))
    assert {"/receipt_no", "/telephone", "/lines/*/article", "/lines/*/amount"} <= {each.shape for each in sample.fields}
    reading = settled(sample, Index(typed_document(RECEIPT)), [Given("ask", '{"receipt_no": "4471"}', "m")], Asking())
    assert [str(line["amount"]) for line in reading.record["lines"]] == ["12.40", "16.20"]
