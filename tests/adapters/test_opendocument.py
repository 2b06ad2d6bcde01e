"""ODT: headings, lists, tables and links in the order of the text; what is hidden or deleted is told of; broken files are refused."""

from __future__ import annotations

import io
import zipfile

import pytest

from metrikon.core.documents.model import Document
from metrikon.core.documents.text import document_text
from metrikon.ports.reader import Refused
from metrikon.readers.registry import read

SPACES = " ".join(
    f'xmlns:{short}="urn:oasis:names:tc:opendocument:xmlns:{name}:1.0"'
    for short, name in (
        ("office", "office"),
        ("text", "text"),
        ("table", "table"),
        ("style", "style"),
        ("fo", "xsl-fo-compatible"),
        ("draw", "drawing"),
    )
)
STYLES = """<style:style style:name="H"><style:text-properties text:display="none"/></style:style>
<style:style style:name="W"><style:text-properties fo:color="#ffffff"/></style:style>
<style:style style:name="X"><style:text-properties style:text-line-through-style="solid"/></style:style>"""


def odt(body: str, **members: str) -> bytes:
    content = (
        f'<office:document-content {SPACES} xmlns:xlink="http://www.w3.org/1999/xlink"><office:automatic-styles>{STYLES}</office:automatic-styles>'
        f"<office:body><office:text>{body}</office:text></office:body></office:document-content>"
    )
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr("mimetype", "application/vnd.oasis.opendocument.text")
        archive.writestr("content.xml", content)
        for name, text in members.items():
            archive.writestr(name.replace("_", "."), text)
    return out.getvalue()


def found(body: str) -> Document:
    return read(odt(body))


def test_headings_paragraphs_and_lists_come_in_their_order() -> None:
    document = found(
        "<text:h>Fern care</text:h><text:p>Water<text:s text:c='3'/>well,<text:line-break/>keep<text:tab/>shaded.</text:p>"
        "<text:list><text:list-item><text:p>Polypodium</text:p></text:list-item><text:list-item><text:p>Blechnum</text:p></text:list-item></text:list>"
    )
    assert [line.text for page in document.pages for line in page.lines] == ["Fern care", "Water well, keep shaded.", "• Polypodium", "• Blechnum"]
    assert (document.format, document.why) == ("odt", "it is a ZIP archive whose mimetype names an OpenDocument text")


def test_a_table_keeps_its_cells_also_those_that_are_repeated() -> None:
    cell = "<table:table-cell><text:p>{}</text:p></table:table-cell>".format
    head = "".join(map(cell, ("Plant", "Bed", "Count")))
    row = cell("Ferns") + "<table:table-cell table:number-columns-repeated='2'><text:p>4</text:p></table:table-cell>"
    (table,) = found(f"<table:table><table:table-row>{head}</table:table-row><table:table-row>{row}</table:table-row></table:table>").tables
    assert [each.text for each in table.header] == ["Plant", "Bed", "Count"]
    assert [[each.text for each in cells] for cells in table.rows] == [["Ferns", "4", "4"]]


def test_what_nobody_sees_is_told_of_and_what_is_crossed_out_is_marked() -> None:
    document = found(
        "<text:tracked-changes><text:changed-region><text:deletion><text:p>old price</text:p></text:deletion></text:changed-region></text:tracked-changes>"
        "<text:p>Seen <text:span text:style-name='H'>hidden</text:span><text:span text:style-name='W'>white</text:span>"
        "<text:span text:style-name='X'>struck</text:span></text:p>"
    )
    assert {each.text: each.why for each in document.hidden} == {
        "old price": "it was deleted with changes tracked",
        "hidden": "it is formatted as hidden",
        "white": "it is white on white",
    }
    assert [word.text for page in document.pages for word in page.words if word.struck] == ["struck"]
    assert "hidden" not in document_text(document)


def test_links_keep_their_address() -> None:
    (link,) = found("<text:p><text:a xlink:href='https://fern.example/care'>care</text:a></text:p>").links
    assert (link.text, link.address) == ("care", "https://fern.example/care")


@pytest.mark.parametrize("body", ["<text:p>", "<text:p>&bomb;</text:p>"])
def test_what_is_damaged_is_refused_with_the_reason(body: str) -> None:
    with pytest.raises(Refused, match="damaged"):
        read(odt(body))


def test_sections_within_sections_end() -> None:
    deep = "<text:section>" * 60 + "<text:p>ferns</text:p>" + "</text:section>" * 60
    assert found(f"<text:p>seen</text:p>{deep}").pages


def test_boxes_within_boxes_are_read_once_each() -> None:
    body = "<text:p>innermost</text:p>"
    for number in range(8):
        body = f"<text:p>box {number}<draw:frame><draw:text-box>{body}</draw:text-box></draw:frame></text:p>"
    lines = [line.text for page in found(body).pages for line in page.lines]
    assert lines == [*(f"box {number}" for number in reversed(range(8))), "innermost"]
