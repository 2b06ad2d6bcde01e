"""The pattern reader: it really reads invoices it has never seen, and says so where it does not."""

from __future__ import annotations

import pytest

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.types import RecordType, record_type
from metrikon.demo import scenario
from metrikon.demo.invent import invent
from metrikon.drivers.extract import extract
from metrikon.drivers.paper import LocalPaper
from metrikon.models.pattern import PatternModel
from metrikon.readers.registry import read
from tests.helpers import typed_document


def test_of_fifty_unseen_invoices_most_header_fields_are_right_and_few_wrong_ones_go_unnoticed(seed: int, invoice: RecordType) -> None:
    right, wrong, unnoticed = 0, [], []
    for each in invent(seed, 50):
        found = extract(PatternModel(), invoice, LocalPaper(Index(read(each.data))), "2026-11-23").reading
        noticed = {pointer for finding in found.findings for pointer in finding.fields}
        for field in invoice.header:
            wanted, got = each.right.get(field.name), found.record.get(field.name)
            if wanted == got:
                right += wanted is not None
                continue
            wrong.append((each.name, field.name, wanted, got))
            if field.shape not in noticed:
                unnoticed.append(wrong[-1])
    assert right / (right + len(wrong)) >= 0.8, wrong
    assert len(unnoticed) <= 0.1 * max(len(wrong), 10), unnoticed


@pytest.mark.parametrize("each", list(scenario.expected()), ids=lambda each: each.name)
def test_the_demo_is_read_right(each: scenario.Expected, invoice: RecordType) -> None:
    if each.outcome not in ("done", "review"):
        return
    found = extract(PatternModel(), invoice, LocalPaper(Index(read(scenario.document(each.name)))), "2026-11-23").reading
    assert scenario.score(each.record, found.record).wrong == ()


def test_any_record_type_is_read_by_what_it_says_of_itself() -> None:
    kind = record_type(
        {
            "type": "object",
            "properties": {
                "bed": {"type": "string", "title": "Bed"},
                "planted": {"type": "string", "format": "date"},
                "height": {"type": "number", "x-metrikon": {"labels": ["tallest shoot"]}},
            },
        }
    )
    document = typed_document("Bed             North wall\nPlanted         4 May 2026\nTallest shoot   1.75")
    found = extract(PatternModel(), kind, LocalPaper(Index(document)), "2026-11-23").reading
    assert {name: str(value) for name, value in found.record.items()} == {"bed": "North wall", "planted": "2026-05-04", "height": "1.75"}
    assert found.evidence["/height"].quote == "1.75"


def test_two_candidates_as_good_as_each_other_are_not_taken_in_silence(invoice: RecordType) -> None:
    document = typed_document("Invoice No.   A-1\n\nInvoice No.   B-2")
    found = extract(PatternModel(), invoice, LocalPaper(Index(document)), "2026-11-23").reading
    assert any(each.check == "unsure" and "/number" in each.fields for each in found.findings)
