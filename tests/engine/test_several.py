"""Several documents in one file, and one record from several files, through the whole house."""

from __future__ import annotations

import io
import json
import sqlite3
from collections.abc import Callable

import pypdfium2
import pytest
from sqlalchemy import select

from metrikon.app.assemble import App
from metrikon.core.documents.bundling import bundled
from metrikon.core.values.exact import loads
from metrikon.demo import scenario
from metrikon.demo.mixed import archive
from metrikon.ports.reader import Refused
from metrikon.readers.registry import read
from metrikon.store import listing, tables
from tests.helpers import at_rest

NAMES = ("01-fernhill-nurseries.pdf", "02-moorgate-seed.pdf")
HEAD = """
metrikon: 1
name: supplier-invoices
intakes:
  - kind: upload
destinations:
  table: {kind: sql, url: "sqlite:///parts.db", table: invoices}
steps:
"""
EACH = f"""{HEAD}
  - name: document
    read: {{}}
  - name: papers
    each:
      of: ${{document.documents}}
      as: paper
      steps:
        - name: invoice
          extract: {{document: "${{document}}", only: "${{paper}}", record_type: invoice}}
        - name: row
          write:
            to: table
            key: ["${{invoice.record.vendor}}", "${{invoice.record.number}}"]
            columns: {{number: "${{invoice.record.number}}", first: "${{paper.pages[1]}}"}}
"""
TOGETHER = f"""{HEAD}
  - name: document
    read: {{together: true}}
  - name: invoice
    extract: {{document: "${{document}}", record_type: invoice}}
  - name: row
    write:
      to: table
      key: ["${{invoice.record.number}}"]
      columns: {{number: "${{invoice.record.number}}", pages: "${{document.pages}}"}}
"""


def merged(*names: str) -> bytes:
    """The pages of some papers of the demo in one PDF."""
    made = pypdfium2.PdfDocument.new()
    for name in names:
        made.import_pages(pypdfium2.PdfDocument(scenario.document(name)))
    kept = io.BytesIO()
    made.save(kept)
    return kept.getvalue()


def rows(app: App, columns: str) -> list[tuple[object, ...]]:
    with sqlite3.connect(app.home / "parts.db") as connection:
        return sorted(connection.execute(f"SELECT {columns} FROM invoices").fetchall())


def test_two_invoices_in_one_file_stop_for_a_person_and_no_record_of_both_is_written(house: Callable[..., App]) -> None:
    app = house()
    app.arrivals.take(scenario.FLOW, "upload", None, "two.pdf", merged(*NAMES))
    app.start()
    at_rest(app, 1)
    with app.database.reading() as connection:
        (record,) = connection.execute(select(tables.records)).mappings().all()
    findings = loads(record["findings"]) if isinstance(record["findings"], str | bytes) else record["findings"]
    told = [each for each in findings if each["check"] == "several documents"]
    assert record["state"] == "waits"
    assert [each["level"] for each in told] == ["stop"]
    assert "2 documents" in told[0]["message"]


def test_a_flow_goes_through_the_documents_of_a_file_one_by_one(house: Callable[..., App]) -> None:
    app = house(flow=EACH)
    app.arrivals.take(scenario.FLOW, "upload", None, "two.pdf", merged(*NAMES))
    app.arrivals.take(scenario.FLOW, "upload", None, "one.pdf", scenario.document("03-larkmead-horticulture.pdf"))
    app.start()
    at_rest(app, 2)
    assert rows(app, "number, first") == [("2026/0871", 2), ("FN-20417", 1), ("LH9920", 1)]
    with app.database.reading() as connection:
        kept = connection.execute(select(tables.records.c.evidence)).scalars().all()
        first = listing.item_page(connection, most=1)
        every = listing.item_page(connection, most=500)
        found = listing.item_page(connection, search="fn-20417").rows
    told = [(row["name"], row["record_count"]) for row in every.rows]
    assert told == [("one.pdf", 1), ("two.pdf", 2)], "an item with several records is listed once"
    assert first.following is not None
    assert [row["name"] for row in found] == ["two.pdf"], "found by what any of its records says"
    pages = sorted(
        {each.get("page") for text in kept for each in (loads(text) if isinstance(text, str | bytes) else text).values() if each.get("page")}
    )
    assert 2 in pages  # the second invoice's values stand on the page of the file that they are on


def test_the_files_of_an_archive_are_read_as_one_and_each_value_names_its_file(house: Callable[..., App]) -> None:
    app = house(flow=TOGETHER)
    form = json.dumps({"our_order": "EBG-77", "note": "the paper is beside this form"}).encode()
    app.arrivals.take(scenario.FLOW, "upload", None, "form.zip", archive([("form.json", form), ("paper.pdf", scenario.document(NAMES[0]))]))
    app.start()
    at_rest(app, 1)
    assert rows(app, "number") == [("FN-20417",)]
    with app.database.reading() as connection:
        (text,) = connection.execute(select(tables.records.c.evidence)).scalars().all()
    evidence = loads(text) if isinstance(text, str | bytes) else text
    assert evidence["/number"]["file"] == "paper.pdf"
    assert evidence["/number"]["page"] == 2


def test_files_read_as_one_hold_no_others_that_are_and_one_that_cannot_be_read_is_named() -> None:
    whole = bundled([("form.txt", b"Claimed by Rufus Tarn")])
    assert read(whole).pages[0].part == "form.txt"
    with pytest.raises(Refused, match=r"inner: it is itself made of several files"):
        read(bundled([("form.txt", b"Claimed by Rufus Tarn"), ("inner", whole)]))
    with pytest.raises(Refused, match=r"paper\.pdf: "):
        read(bundled([("paper.pdf", b"%PDF-1.7 and nothing more")]))
    with pytest.raises(Refused, match="No files"):
        read(bundled([]))
