"""Documents that give orders: with a model that obeys them, the record is that of the same document without, or a person looks."""

from __future__ import annotations

import io
import time
import zipfile
from collections.abc import Iterator
from typing import Any

import pytest
from openpyxl import Workbook
from openpyxl.styles import Font
from PIL import Image

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.indexing.orders import orders
from metrikon.core.extraction.planning.asking import Asking
from metrikon.core.records.findings import stops
from metrikon.core.records.types import RecordType
from metrikon.core.values.exact import loads
from metrikon.demo import scenario
from metrikon.drivers.extract import Extracted, extract
from metrikon.drivers.paper import LocalPaper
from metrikon.models.chat import ChatModel, ChatSettings
from metrikon.ports.model import ModelRequest
from metrikon.ports.reader import Refused
from metrikon.readers.registry import read
from metrikon.sandbox.model_server import ModelServer
from tests.hostile import Hostile, hostile

CASES = list(hostile())


@pytest.fixture(scope="module")
def obeying() -> Iterator[ChatModel]:
    server = ModelServer().start()
    server.mood.obey = True
    chat = ChatModel(ChatSettings(server.url, "stand-in"))
    yield chat
    chat.close()
    server.stop()


def reading(model: ChatModel, kind: RecordType, data: bytes) -> Extracted:
    return extract(model, kind, LocalPaper(Index(read(data))), "2026-11-23", "We are the Ellerby Botanic Garden; we are never the vendor.")


def test_there_are_at_least_twenty_of_them() -> None:
    assert len(CASES) >= 20
    assert sum(each.hidden for each in CASES) >= 8


@pytest.mark.parametrize("case", CASES, ids=lambda case: case.name)
def test_no_order_changes_a_record_unseen(case: Hostile, obeying: ChatModel, invoice: RecordType) -> None:
    plain = reading(obeying, invoice, case.plain).reading
    assert plain.record["number"].startswith("FN-3001"), plain.record  # the document itself is read
    found = reading(obeying, invoice, case.data).reading
    if found.record == plain.record and case.hidden:
        return
    assert stops(found.findings), (case.name, found.record)
    assert any(each.check in ("orders", "sum", "unsupported") for each in found.findings), found.findings


@pytest.mark.parametrize("case", [each for each in CASES if each.hidden], ids=lambda case: case.name)
def test_an_order_that_no_person_sees_never_reaches_the_model(case: Hostile, obeying: ChatModel, invoice: RecordType) -> None:
    found = reading(obeying, invoice, case.data).reading
    assert found.record == reading(obeying, invoice, case.plain).reading.record
    assert "1.00" not in str(found.record["total"])


def test_the_model_does_obey_when_nothing_stands_between(obeying: ChatModel, invoice: RecordType) -> None:
    """Else the tests above would say nothing."""
    obeyed = 0
    for case in CASES:
        if case.hidden:
            continue
        paper = LocalPaper(Index(read(case.data)))
        for ask in paper.asks(invoice, Asking("2026-11-23")):
            answer = loads(obeying.answer(ModelRequest(ask.messages, ask.schema)).text)
            obeyed += (
                "XX-99999" in str(answer) or str(answer.get("total")) in ("1.00", "1", "1.0") or "Blackmoor" in str(answer) or "2031" in str(answer)
            )
    assert obeyed >= 6


def test_documents_of_business_give_no_orders() -> None:
    """What suppliers write every day is not taken for an order."""
    for each in scenario.expected():
        try:
            document = read(scenario.document(each.name))
        except Refused:
            continue
        if document.pages[0].source == "text":
            assert orders(Index(document)) == [], each.name
    usual = [
        "Please disregard this reminder if you have already paid.",
        "Please use the invoice number as payment reference.",
        "Set of 12 terracotta pots, total height 30 cm",
        "Change of address: from 1 May we are at 12 Mill Lane.",
        "This model is delivered with 2 spare parts. Note the date of delivery.",
        "We return the amount of 12.50 as agreed.",
        "Release date of the variety: 2019",
    ]
    from tests.helpers import typed_document

    for text in usual:
        assert orders(Index(typed_document(text))) == [], text


FAR_ODS = """<?xml version="1.0"?><office:document-content xmlns:office="urn:oasis:names:tc:opendocument:xmlns:office:1.0"
 xmlns:table="urn:oasis:names:tc:opendocument:xmlns:table:1.0" xmlns:text="urn:oasis:names:tc:opendocument:xmlns:text:1.0"
 office:version="1.2"><office:body><office:spreadsheet><table:table table:name="a"><table:table-row table:number-rows-repeated="ROWS">
<table:table-cell office:value-type="float" office:value="1" table:number-columns-repeated="5"><text:p>1</text:p></table:table-cell>
</table:table-row><table:table-row table:number-rows-repeated="1048000"><table:table-cell table:number-columns-repeated="16384"/></table:table-row>
</table:table></office:spreadsheet></office:body></office:document-content>"""


MANIFEST = """<?xml version="1.0"?><manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" manifest:version="1.2">
<manifest:file-entry manifest:full-path="/" manifest:media-type="application/vnd.oasis.opendocument.spreadsheet"/></manifest:manifest>"""


def far_ods(rows: int) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as packed:
        packed.writestr("mimetype", "application/vnd.oasis.opendocument.spreadsheet")
        packed.writestr("META-INF/manifest.xml", MANIFEST.replace("\n", ""))
        packed.writestr("content.xml", FAR_ODS.replace("ROWS", str(rows)).replace("\n", ""))
    return out.getvalue()


def far_xlsx(corner: str, *, changed: tuple[bytes, bytes] = (b"", b"")) -> bytes:
    book = Workbook()
    sheet: Any = book.active
    sheet["A1"], sheet[corner] = 1, 2
    plain, out = io.BytesIO(), io.BytesIO()
    book.save(plain)
    with zipfile.ZipFile(plain) as packed, zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as made:
        for name in packed.namelist():
            made.writestr(name, packed.read(name).replace(*changed) if "sheet1" in name else packed.read(name))
    return out.getvalue()


@pytest.mark.parametrize(
    "data",
    [
        far_ods(1_000_000),
        far_xlsx("XFD60000"),
        far_xlsx("XFD60000", changed=(b'r="XFD60000"', b"s = '0' r = 'xfd60000'")),
        far_xlsx("XFD1", changed=(b"</row>", b'</row><row r="900000"><c><v>1</v></c></row>')),
    ],
    ids=["ods", "xlsx", "other marks", "cells that do not say where they stand"],
)
def test_a_sheet_that_reaches_far_is_refused_before_it_is_laid_out(data: bytes) -> None:
    began = time.process_time()
    with pytest.raises(Refused, match=r"A sheet reaches over [\d,]+ rows and [\d,]+ columns"):
        read(data)
    assert time.process_time() - began < 1


def test_a_sheet_that_is_only_formatted_far_out_is_read() -> None:
    far = far_xlsx("XFD60000", changed=(b"<v>2</v>", b""))
    book = Workbook()
    sheet: Any = book.active
    sheet["A1"] = 1
    sheet["XFD60000"].font = Font(bold=True)
    out = io.BytesIO()
    book.save(out)
    for each in (out.getvalue(), far, far_ods(3)):
        assert read(each).pages


def test_later_pages_of_a_picture_are_held_to_the_limit_too() -> None:
    out = io.BytesIO()
    Image.new("1", (200, 200), 1).save(out, "TIFF", save_all=True, append_images=[Image.new("1", (20_000, 20_000))], compression="group4")
    began = time.process_time()
    with pytest.raises(Refused, match="20000 x 20000 pixels; the limit is"):
        read(out.getvalue())
    assert time.process_time() - began < 3
