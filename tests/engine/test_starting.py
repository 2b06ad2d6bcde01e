"""A record type that was started from a sample reads that sample: what it proposes is found again, with the type that it proposes."""

from __future__ import annotations

import pytest

from metrikon.core.documents.model import Document
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.types import record_type
from metrikon.demo import scenario
from metrikon.drivers.starting import started
from metrikon.models.pattern.reader import read_record
from metrikon.readers.registry import read

ENQUIRY = b"""Cascade Garden Trust
Fern Lane 4, Ashbourne

Name: Ida Wren
E-mail: ida.wren@garden.example
Phone: +43 1 234 5678
Website: https://garden.example/visit
Date: 12 March 2026
Guests: 12
Vegetarian: yes
Signature: ____________
"""


def read_again(document: Document) -> tuple[dict[str, object], dict[str, object]]:
    schema = started(document)
    return schema["properties"], read_record(record_type(schema, "started"), Index(document)).record


def test_mails_telephones_and_addresses_are_read_behind_their_labels() -> None:
    proposed, found = read_again(read(ENQUIRY))
    assert found == {
        "name": "Ida Wren",
        "e_mail": "ida.wren@garden.example",
        "phone": "+4312345678",
        "website": "https://garden.example/visit",
        "date": "2026-03-12",
        "guests": 12,
        "vegetarian": "yes",
    }
    assert "signature" not in proposed, "a line to sign on is no value"


@pytest.mark.parametrize(
    "name", ["01-fernhill-nurseries.pdf", "03-larkmead-horticulture.pdf", "08-tannhof-baumschulen.pdf", "15-kwekerij-zonnehof.pdf"]
)
def test_each_field_that_is_proposed_from_a_paper_is_found_in_it(name: str) -> None:
    proposed, found = read_again(read(scenario.document(name)))
    fields = [each for each, part in proposed.items() if isinstance(part, dict) and part["type"] != "array"]
    assert len(fields) >= 3
    assert [each for each in fields if found.get(each) is None] == []


def test_a_sample_without_a_label_gives_no_field() -> None:
    assert started(read(b"Good morning.\n"))["properties"] == {}
