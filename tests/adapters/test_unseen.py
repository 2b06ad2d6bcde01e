"""What no person who looks at a document can see is never sure by itself, and never stands against what is printed."""

from __future__ import annotations

import json

import pytest

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.records.types import record_type
from metrikon.drivers.extract import Extracted, extract
from metrikon.drivers.paper import LocalPaper
from metrikon.ports.model import ModelAnswer, ModelRequest, Usage
from metrikon.ports.reader import Limits
from metrikon.readers.registry import read

PRINTED, HIDDEN = "DE89 3704 0044 0532 0130 00", "GB29NWBK60161331926819"
SCHEMA: dict[str, object] = {
    "type": "object",
    "properties": {
        "iban": {"type": "string", "description": "The account to which is paid", "x-metrikon": {"kind": "iban"}},
        "mail": {"type": "string", "format": "email", "description": "Where one writes to"},
        "published": {"type": "string", "format": "date", "description": "The day on which it was published"},
        "vendor": {"type": "string", "description": "Who sends it"},
    },
}
KIND = record_type({"title": "bill", **SCHEMA}, "bill")


class Says:
    """A model that says what it was told to."""

    name, room, sees = "says", 8000, 0

    def __init__(self, answer: dict[str, str]) -> None:
        self._answer = answer

    def answer(self, request: ModelRequest) -> ModelAnswer:
        return ModelAnswer(json.dumps(self._answer), Usage(1, 1, 1))


def _page(head: str = "", body: str = "") -> bytes:
    return f"<!doctype html><html lang=en><head><title>Fernhill Nurseries</title>{head}</head><body><h1>Fernhill Nurseries</h1><p>Thank you for your order.</p>{body}</body></html>".encode()


def _read(data: bytes, **answer: str) -> Extracted:
    return extract(Says(answer), KIND, LocalPaper(Index(read(data, Limits()))), "2026-12-01")


def _stops(found: Extracted, pointer: str) -> list[str]:
    return [each.check for each in found.reading.findings if each.level == "stop" and pointer in each.fields]


UNSEEN = {
    "meta": (f'<meta name="description" content="{HIDDEN}">', ""),
    "meta that names it": (f'<meta name="author" content="{HIDDEN}">', ""),
    "json-ld": (f'<script type="application/ld+json">{{"@type": "Organization", "iban": "{HIDDEN}"}}</script>', ""),
    "link": ("", f'<p><a href="https://pay.example/{HIDDEN}">Pay here</a></p>'),
    "link as a whole": ("", f'<p><a href="{HIDDEN}">Pay here</a></p>'),
}


@pytest.mark.parametrize("where", UNSEEN)
@pytest.mark.parametrize("shown", ["", f"<p>IBAN: {PRINTED}</p>"])
def test_an_account_that_nobody_sees_goes_to_a_person_whether_another_is_printed_or_none(where: str, shown: str) -> None:
    head, body = UNSEEN[where]
    found = _read(_page(head, body + shown), iban=HIDDEN, vendor="Fernhill Nurseries")
    assert _stops(found, "/iban"), found.reading.findings
    right = _read(_page(head, body + f"<p>IBAN: {PRINTED}</p>"), iban=PRINTED.replace(" ", ""), vendor="Fernhill Nurseries")
    assert not _stops(right, "/iban")


def test_an_address_behind_a_link_is_taken_as_a_whole_and_stops_where_another_is_printed() -> None:
    link = '<p><a href="mailto:office@fernhill.example?subject=x">Write to us</a></p>'
    found = _read(_page("", link), mail="office@fernhill.example", vendor="Fernhill Nurseries")
    assert not _stops(found, "/mail")
    part = _read(_page("", '<p><a href="https://a.example/?to=office@fernhill.example">Write</a></p>'), mail="office@fernhill.example")
    assert "unsupported" in _stops(part, "/mail")
    other = _read(_page("", f"{link}<p>ada@fernhill.example</p>"), mail="office@fernhill.example")
    assert "unseen" in _stops(other, "/mail")


def test_the_id_of_a_mail_vouches_for_nothing_and_what_its_reader_shows_does() -> None:
    mail = (
        "From: Ida <ida@fernhill.example>\r\nTo: office@garden.example\r\nSubject: Bill\r\nDate: Tue, 1 Dec 2026 10:00:00 +0000\r\n"
        f"Message-ID: <{HIDDEN}@x.example>\r\nMIME-Version: 1.0\r\nContent-Type: text/plain\r\n\r\nPlease pay to {PRINTED}.\r\n"
    ).encode()
    found = _read(mail, iban=HIDDEN, mail="ida@fernhill.example")
    assert _stops(found, "/iban")
    assert not _stops(found, "/mail")


def test_a_day_that_a_page_tells_programs_alone_is_taken_and_is_not_sure() -> None:
    head = '<script type="application/ld+json">{"@type": "Article", "datePublished": "2026-03-04"}</script>'
    found = _read(_page(head), published="2026-03-04", vendor="Fernhill Nurseries")
    assert not _stops(found, "/published")
    assert found.reading.evidence["/published"].sure <= 0.7
