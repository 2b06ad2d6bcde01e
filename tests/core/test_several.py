"""Several documents in one file are told, and one document is never taken for two."""

from __future__ import annotations

from itertools import permutations

import pytest

from metrikon.core.documents.lines import in_lines
from metrikon.core.documents.model import Document, Page, Word
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.several import cut, several
from metrikon.demo import scenario
from metrikon.ports.reader import Refused
from metrikon.readers.registry import read
from tests.helpers import typed_page

SLIPS = [
    "FERN CORNER CAFE\n12 Moss Lane\nNo. 4417\n02.03.2026  10:15\n1 Nettle soup      6.50\n2 Elder cordial    7.00\nTOTAL EUR         13.50\nCARD",
    "HOLLOW PARK KIOSK\nGate 2\nReceipt 88-120\n03.03.2026  16:40\n1 Seed bag         3.20\n1 Twine            4.15\nTOTAL EUR          7.35\nCASH",
    "TUINWINKEL DE VAREN\nKade 7\nBon 901-22\n05.03.2026  09:05\n3 Potgrond        14.85\n1 Gieter           9.95\nTOTAAL EUR        24.80\nPIN",
]
LETTERS = [
    "Moss Lane Nursery\nMoss Lane 12, Ellerby\nhello@mosslane.example\n\nInvoice 2026-117\n2 March 2026\n\nFerns      3    9.00    27.00\n\nTotal                   27.00",
    "Hollow Park Tools\nKade 7, Marsh End\nwww.hollowtools.example\n\nRechnung Nr. 4711\n03.03.2026\n\nSpaten     1   31.50    31.50\n\nGesamtbetrag            31.50",
    "Seeds of Tarn\nTarn Road 1\ninfo@tarnseeds.example\n\nFactura F-0044\n05/03/2026\n\nMusgo      2    4.10     8.20\n\nTotal a pagar            8.20",
]


def moved(page: Page, across: float, down: float) -> list[Word]:
    return [Word(w.text, w.x0 + across, w.y0 + down, w.x1 + across, w.y1 + down) for w in page.words]


def photo(words: list[Word], width: float, height: float) -> Document:
    ordered, lines = in_lines(words)
    return Document("0" * 64, "jpeg", (Page(1, width, height, "ocr", ordered, lines),))


@pytest.mark.parametrize(("first", "second"), list(permutations(SLIPS, 2)))
@pytest.mark.parametrize("beside", [True, False])
def test_two_slips_on_one_picture_are_two_documents(first: str, second: str, beside: bool) -> None:
    one, two = typed_page(first), typed_page(second)
    words = [*one.words, *(moved(two, 300, 0) if beside else moved(two, 0, 260))]
    document = photo(words, 600, 800)
    held = several(document)
    assert len(held) == 2
    for each, text in zip(held, (first, second), strict=True):
        alone = cut(document, each.pages, each.box)
        assert sorted(word.text for word in alone.pages[0].words) == sorted(text.split())
        assert alone.pages[0].number == 1


@pytest.mark.parametrize(("first", "second"), list(permutations(LETTERS, 2)))
def test_two_letters_in_one_file_are_two_documents_and_each_keeps_the_numbers_of_its_pages(first: str, second: str) -> None:
    more = "Ferns      1    9.00     9.00\nMoss       1    2.00     2.00\nThank you for your order."
    document = Document("0" * 64, "pdf", (typed_page(first), typed_page(more, 2), typed_page(second, 3)))
    held = several(document)
    assert [each.pages for each in held] == [(1, 2), (3,)]
    index = Index(cut(document, held[1].pages))
    place = index.find_text(second.split()[0])[0]
    assert place.page == 3


def test_page_counts_that_begin_again_say_where_a_document_begins() -> None:
    texts = ["Minutes of March\nPage 1 of 2", "Ferns\nPage 2 of 2", "Minutes of April\nPage 1 of 3", "Moss\nPage 2 of 3", "Reeds\nPage 3 of 3"]
    document = Document("0" * 64, "pdf", tuple(typed_page(text, n) for n, text in enumerate(texts, 1)))
    assert [each.pages for each in several(document)] == [(1, 2), (3, 4, 5)]


def test_a_letter_of_several_pages_with_its_number_on_each_is_one_document() -> None:
    pages = [LETTERS[0], "Invoice 2026-117\n4 March 2026\nMoss 1 2.00 2.00\nTotal 29.00", "Invoice 2026-117\nTerms: pay by 30.04.2026"]
    assert several(Document("0" * 64, "pdf", tuple(typed_page(text, n) for n, text in enumerate(pages, 1)))) == ()


def test_no_document_of_the_demo_is_taken_for_several() -> None:
    for each in scenario.expected():
        try:
            document = read(scenario.document(each.name))
        except Refused:
            continue
        assert document.documents == (), each.name


def test_the_tables_of_a_document_within_a_file_are_its_own() -> None:
    table = "Part                    Qty      Each      Amount\nDrop pipe               4        10.00     40.00\nPressure switch         1        30.00     30.00\n"
    texts = [LETTERS[0], f"{LETTERS[1]}\n\n{table}"]
    document = Document("0" * 64, "pdf", tuple(typed_page(text, n) for n, text in enumerate(texts, 1)))
    second = cut(document, (2,))
    assert [table.pages for table in second.tables] == [(2,)]
    assert cut(document, (1,)).tables == ()
