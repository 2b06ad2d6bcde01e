"""Archives and mails on their way in: each file within is an item of its own, once, however often it is sent."""

from __future__ import annotations

from collections.abc import Callable

import pytest

from metrikon.app.assemble import App
from metrikon.demo import scenario
from metrikon.demo.mixed import archive, mail
from metrikon.engine.arrivals import Arrivals
from metrikon.store import listing
from metrikon.store.items import OtherContent
from tests.helpers import at_rest

INVOICE = scenario.document("01-fernhill-nurseries.pdf")
OTHER = scenario.document("02-moorgate-seed.pdf")


def names(app: App) -> list[str]:
    with app.database.reading() as connection:
        return sorted(row["name"] for row in listing.item_page(connection, most=50).rows)


def take(arrivals: Arrivals, name: str, data: bytes, identity: str | None = None) -> int:
    return len(arrivals.take_opened(scenario.FLOW, "upload", identity, name, data))


def test_an_attachment_is_an_item_and_a_logo_is_not(house: Callable[..., App]) -> None:
    app = house()
    assert take(app.arrivals, "march.eml", mail(INVOICE)) == 1
    assert names(app) == ["march.eml, FN-20417.pdf"]
    app.start()
    at_rest(app, 1)
    with app.database.reading() as connection:
        (row,) = listing.item_page(connection, most=5).rows
    assert row["state"] == "done"


def test_archives_within_archives_are_opened_too(house: Callable[..., App]) -> None:
    app = house()
    inner = archive([("b.pdf", OTHER)])
    assert take(app.arrivals, "post.zip", archive([("a.pdf", INVOICE), ("more.zip", inner), ("mail.eml", mail(INVOICE))])) == 3
    assert names(app) == ["post.zip, FN-20417.pdf", "post.zip, a.pdf", "post.zip, b.pdf"]


def test_an_archive_nested_deeper_than_allowed_stays_closed(house: Callable[..., App]) -> None:
    app = house(max_depth=2)
    data = archive([("a.pdf", INVOICE)])
    for level in range(3):
        data = archive([(f"level-{level}.zip", data)])
    assert take(app.arrivals, "deep.zip", data) == 1
    assert names(app) == ["deep.zip, level-1.zip"]


def test_the_same_archive_sent_again_starts_nothing_new(house: Callable[..., App]) -> None:
    app = house()
    data = archive([("a.pdf", INVOICE), ("b.pdf", OTHER)])
    for _ in range(3):
        assert take(app.arrivals, "post.zip", data, "post-1") == 2
    assert len(names(app)) == 2


@pytest.mark.parametrize(
    "other",
    [archive([("a.pdf", INVOICE), ("b.pdf", INVOICE)]), archive([("a.pdf", INVOICE)]), INVOICE],
    ids=["another file within", "one file less", "no archive"],
)
def test_another_archive_under_the_same_identity_is_refused_whole(house: Callable[..., App], other: bytes) -> None:
    app = house()
    take(app.arrivals, "post.zip", archive([("a.pdf", INVOICE), ("b.pdf", OTHER)]), "post-1")
    with pytest.raises(OtherContent, match=r"post\.zip, [ab]\.pdf \(item \w+\) was sent before"):
        take(app.arrivals, "other.zip", other, "post-1")
    assert names(app) == ["post.zip, a.pdf", "post.zip, b.pdf"]


def test_what_holds_nothing_is_an_item_itself(house: Callable[..., App]) -> None:
    app = house()
    assert take(app.arrivals, "a.pdf", INVOICE) == 1
    assert take(app.arrivals, "note.eml", b"From: ada@fern.example\nTo: office@ellerby.example\nSubject: ferns\n\nThey grow.\n") == 1
    assert names(app) == ["a.pdf", "note.eml"]


@pytest.mark.parametrize("data", [b"PK\x03\x04 and nothing more", archive([("zeros.txt", b"0" * 40_000_000)])])
def test_an_archive_that_cannot_be_opened_is_refused_where_people_see_it(data: bytes, house: Callable[..., App]) -> None:
    app = house()
    assert take(app.arrivals, "broken.zip", data) == 1
    app.start()
    at_rest(app, 1)
    with app.database.reading() as connection:
        (row,) = listing.item_page(connection, most=5).rows
    assert row["state"] == "refused"


def test_an_archive_in_a_watched_folder_is_opened(house: Callable[..., App]) -> None:
    app = house()
    folder = app.home / "invoices"
    folder.mkdir(parents=True, exist_ok=True)
    (folder / "post.zip").write_bytes(archive([("a.pdf", INVOICE), ("b.pdf", OTHER)]))
    app.start()
    at_rest(app, 2)
    assert names(app) == ["post.zip, a.pdf", "post.zip, b.pdf"]


PARTS_FLOW = """
metrikon: 1
name: supplier-invoices
intakes:
  - kind: upload
destinations:
  table: {kind: sql, url: "sqlite:///parts.db", table: invoices}
steps:
  - name: message
    read: {file: "${item.file}"}
  - name: papers
    each:
      of: ${message.parts[role = "attachment"]}
      as: part
      steps:
        - name: document
          read: {file: "${part.file}"}
        - name: invoice
          extract: {document: "${document}", record_type: invoice}
        - name: row
          write:
            to: table
            key: ["${invoice.record.vendor}", "${invoice.record.number}"]
            columns: {vendor: "${invoice.record.vendor}", number: "${invoice.record.number}", file: "${part.name}"}
"""


def test_a_flow_can_go_through_the_attachments_of_a_mail_itself(house: Callable[..., App]) -> None:
    import sqlite3

    app = house(flow=PARTS_FLOW)
    app.arrivals.take(scenario.FLOW, "upload", None, "march.eml", mail(INVOICE))
    app.start()
    at_rest(app, 1)
    with sqlite3.connect(app.home / "parts.db") as connection:
        assert connection.execute("SELECT vendor, number, file FROM invoices").fetchall() == [("Fernhill Nurseries Ltd", "FN-20417", "FN-20417.pdf")]
