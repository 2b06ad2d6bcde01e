"""Facts come first: what a file says of itself for programs is taken before what is read in its print."""

from __future__ import annotations

import json
from importlib import resources

import msgspec
import pytest

from metrikon.core.documents.model import Document, Fact, Hidden
from metrikon.core.documents.setting import Paragraph, Piece, set_blocks
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.settle import settle
from metrikon.core.records.types import RecordType
from metrikon.readers.registry import read
from tests.helpers import typed_document


def post(name: str) -> Document:
    return read(resources.files("metrikon.demo").joinpath("mixed", name).read_bytes())


def test_an_e_invoice_answers_the_header_whatever_the_model_says(invoice: RecordType) -> None:
    answer = {"vendor": "field", "number": "Invoice", "total": 999, "currency": "EUR", "lines": []}
    reading = settle(invoice, json.dumps(answer), Index(post("41-moorgate-ubl.xml")))
    got = {name: str(reading.record[name]) for name in ("document_type", "vendor", "number", "date", "currency", "net", "tax", "total")}
    assert got == {
        "document_type": "invoice",
        "vendor": "Moorgate Seed Company Ltd",
        "number": "MSC-8841",
        "date": "2026-05-04",
        "currency": "GBP",
        "net": "159.00",
        "tax": "31.80",
        "total": "190.80",
    }
    assert reading.evidence["/vendor"].quote == "Moorgate Seed Company Ltd"
    assert any("'field' gave way to" in change for change in reading.changes)


def test_a_fact_that_is_printed_nowhere_says_where_it_stands(invoice: RecordType) -> None:
    reading = settle(invoice, "{}", Index(post("55-invoice-with-its-xml.pdf")))
    assert str(reading.record["date"]) == "2026-05-06"
    assert reading.evidence["/date"].how == "fact"
    assert "cii /rsm:ExchangedDocument/ram:IssueDateTime" in reading.evidence["/date"].quote
    assert not any(each.check == "unsupported" for each in reading.findings)


@pytest.mark.parametrize(("printed", "stops"), [("190.80", False), ("290.80", True)])
def test_print_that_contradicts_the_data_goes_to_a_person(printed: str, stops: bool, invoice: RecordType) -> None:
    document = typed_document(f"Invoice      A-1\nTotal        {printed}")
    document = msgspec.structs.replace(document, facts=(Fact("cii", "/x", "Total", "190.80", "BT-112"),))
    reading = settle(invoice, json.dumps({"total": float(printed)}), Index(document))
    assert str(reading.record["total"]) == "190.80"
    found = [each for each in reading.findings if each.check == "facts differ"]
    assert bool(found) is stops
    if stops:
        assert found[0].compared == {"data": "190.80", "printed": "290.8"}


def test_what_pages_say_for_search_engines_is_no_fact_of_a_record(invoice: RecordType) -> None:
    document = msgspec.structs.replace(typed_document("Total   4.00"), facts=(Fact("json-ld", "/total", "Total", "9.00"),))
    assert str(settle(invoice, '{"total": 4}', Index(document)).record["total"]) == "4.00"


def test_text_that_no_person_sees_is_told_and_not_read(invoice: RecordType) -> None:
    document = msgspec.structs.replace(typed_document("Total   4.00"), hidden=(Hidden("Total 9.99", "it is white on white", 1),))
    findings = settle(invoice, '{"total": 4}', Index(document)).findings
    (told,) = [each for each in findings if each.check == "hidden text"]
    assert "“Total 9.99” (it is white on white)" in told.message
    assert told.level == "warn"


def test_a_value_that_is_crossed_out_is_not_taken_in_silence(invoice: RecordType) -> None:
    made, _ = set_blocks([Paragraph((Piece("Total"), Piece("4.50", True), Piece("3.95")))])
    index = Index(Document("0" * 64, "html", made.pages))
    old = settle(invoice, '{"total": 4.5}', index)
    assert any(each.check == "unsure" and each.fields == ("/total",) for each in old.findings)
    new = settle(invoice, '{"total": 3.95}', index)
    assert not any(each.check == "unsure" for each in new.findings)
    assert new.evidence["/total"].quote == "3.95"
