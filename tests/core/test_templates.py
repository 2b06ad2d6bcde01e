"""Templates: holes split over runs, repeated rows, pictures; what is missing is told first; what values hold is never worked out."""

from __future__ import annotations

import io
import subprocess
import zipfile
from collections.abc import Mapping
from decimal import Decimal
from pathlib import Path
from typing import Any

import docx as office
import pytest
from hypothesis import given as trying
from hypothesis import settings
from hypothesis import strategies as st
from lxml import etree
from PIL import Image

from metrikon.core.feel import evaluate
from metrikon.core.templates import docx, odt, page
from metrikon.core.templates.filling import BadTemplate, Given, Picture

LINES = [{"name": "Fern", "total": Decimal("12.50")}, {"name": "Moss & <lichen>", "total": Decimal(3)}]


def _given(values: Mapping[str, Any], lists: Mapping[str, Any] | None = None, pictures: Mapping[str, Picture] | None = None) -> Given:
    return Given(lambda expression, besides: evaluate(expression, {**values, **besides}), lists or {}, pictures or {})


def _picture() -> Picture:
    out = io.BytesIO()
    Image.new("RGB", (400, 200), "green").save(out, "PNG")
    return Picture(out.getvalue(), "png", 400, 200)


def _word(*, split: bool = True) -> bytes:
    """A template as an office program keeps it: a hole over three runs, curly quotes, a table row, a header, a picture."""
    made = office.Document()
    line = made.add_paragraph("Spent in ")
    for part in ("${mon", "th", "} by the garden: ") if split else ("${month} by the garden: ",):
        line.add_run(part).bold = part == "th"
    line.add_run("${if total > 10 then “much” else “little”} (${total})")
    made.add_paragraph("${prose}")
    made.add_paragraph("before ${chart} after")
    table = made.add_table(rows=2, cols=2)
    for at, text in enumerate(("Name", "Total", "${line.name}", "${line.total} of ${total}")):
        table.cell(at // 2, at % 2).text = text
    made.sections[0].header.paragraphs[0].text = "The garden, ${month}"
    out = io.BytesIO()
    made.save(out)
    return out.getvalue()


VALUES = {"month": "October", "total": Decimal("15.50"), "prose": "One line.\nAnother with ${total} and <b>."}


def _texts(document: Any) -> list[str]:
    return [each.text for each in document.paragraphs]


def test_holes_of_a_word_document_are_filled_over_runs_rows_headers_and_with_a_picture() -> None:
    data, missing = docx.made(_word(), _given(VALUES, {"line": LINES}, {"chart": _picture()}))
    assert missing == []
    made = office.Document(io.BytesIO(data))
    assert _texts(made)[:2] == ["Spent in October by the garden: much (15.50)", "One line.\nAnother with ${total} and <b>."]
    assert _texts(made)[2] == "before  after"
    assert [[cell.text for cell in row.cells] for row in made.tables[0].rows] == [
        ["Name", "Total"],
        ["Fern", "12.50 of 15.50"],
        ["Moss & <lichen>", "3 of 15.50"],
    ]
    assert made.sections[0].header.paragraphs[0].text == "The garden, October"
    (shape,) = made.inline_shapes
    assert (shape.width.inches, shape.height.inches) == (2.0, 1.0)
    assert made.part.related_parts["rIdMetrikon1"].blob == _picture().data
    assert [run.bold for run in made.paragraphs[0].runs if run.text == "October"] == [False], "the value looks as the first run of its hole does"


def test_all_other_parts_of_the_document_stay_byte_for_byte() -> None:
    template = _word()
    data, _ = docx.made(template, _given(VALUES, {"line": LINES}, {"chart": _picture()}))
    before, after = zipfile.ZipFile(io.BytesIO(template)), zipfile.ZipFile(io.BytesIO(data))
    changed = {"word/document.xml", "word/header1.xml", "word/_rels/document.xml.rels", "[Content_Types].xml"}
    kept = [name for name in before.namelist() if name not in changed]
    assert len(kept) > 5
    assert all(before.read(name) == after.read(name) for name in kept)
    assert docx.made(template, _given(VALUES, {"line": LINES}, {"chart": _picture()}))[0] == data, "the same values give the same bytes"


def test_what_has_no_value_is_told_each_once_for_the_whole_document() -> None:
    _, missing = docx.made(_word(), _given({"total": 1, "prose": "x"}, {"line": [{"name": "Fern"}]}, {"chart": _picture()}))
    assert missing == ["line.total", "month"]


def test_a_row_of_an_empty_list_goes_and_one_about_two_lists_is_an_error() -> None:
    data, _ = docx.made(_word(), _given(VALUES, {"line": []}, {"chart": _picture()}))
    assert len(office.Document(io.BytesIO(data)).tables[0].rows) == 1
    with pytest.raises(BadTemplate, match="about line and other"):
        page.made(b"<table><tr><td>${line.a}${other.b}</td></tr></table>", _given({}, {"line": [{}], "other": [{}]}))


def _open(body: str, styles: str = "") -> bytes:
    spaces = " ".join(
        f'xmlns:{name}="urn:oasis:names:tc:opendocument:xmlns:{space}:1.0"'
        for name, space in (("office", "office"), ("text", "text"), ("table", "table"), ("draw", "drawing"), ("style", "style"))
    )
    content = f"<office:document-content {spaces} office:version='1.3'><office:body><office:text>{body}</office:text></office:body></office:document-content>"
    manifest = '<manifest:manifest xmlns:manifest="urn:oasis:names:tc:opendocument:xmlns:manifest:1.0" manifest:version="1.3">%s</manifest:manifest>'
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        archive.writestr(zipfile.ZipInfo("mimetype"), "application/vnd.oasis.opendocument.text")
        archive.writestr("content.xml", content)
        archive.writestr("styles.xml", f"<office:document-styles {spaces} office:version='1.3'>{styles}</office:document-styles>")
        entries = (("/", "application/vnd.oasis.opendocument.text"), ("content.xml", "text/xml"), ("styles.xml", "text/xml"))
        told = "".join(f'<manifest:file-entry manifest:full-path="{place}" manifest:media-type="{kind}"/>' for place, kind in entries)
        archive.writestr("META-INF/manifest.xml", manifest % told)
    return out.getvalue()


def test_holes_of_an_open_document_are_filled_in_spans_rows_footers_and_with_a_picture() -> None:
    body = (
        "<text:p>Spent in ${mon<text:span>th</text:span>} <text:span>by <text:span>${to</text:span>tal</text:span>}!</text:p><text:p>${prose}</text:p>"
        "<table:table><table:table-row><table:table-cell><text:p>${line.name}</text:p></table:table-cell></table:table-row></table:table>"
        "<text:p>before ${chart} after</text:p>"
    )
    data, missing = odt.made(
        _open(body, "<style:footer><text:p>${month}</text:p></style:footer>"), _given(VALUES, {"line": LINES}, {"chart": _picture()})
    )
    assert missing == []
    archive = zipfile.ZipFile(io.BytesIO(data))
    assert archive.infolist()[0].filename == "mimetype"
    assert archive.infolist()[0].compress_type == zipfile.ZIP_STORED
    root = etree.fromstring(archive.read("content.xml"))
    paragraphs = ["".join(map(str, each.itertext())) for each in root.iter(f"{odt.TEXT}p")]
    assert paragraphs == ["Spent in October by 15.50!", "One line.Another with ${total} and <b>.", "Fern", "Moss & <lichen>", "before  after"]
    assert len(list(root.iter(f"{odt.TEXT}line-break"))) == 1
    (frame,) = root.iter(f"{odt.DRAW}frame")
    assert frame.get(f"{odt.SVG}width") == "5.08cm"
    assert archive.read("Pictures/metrikon-1.png") == _picture().data
    assert b"Pictures/metrikon-1.png" in archive.read("META-INF/manifest.xml")
    assert b"October" in archive.read("styles.xml")


def test_a_page_takes_values_as_text_and_leaves_scripts_alone() -> None:
    template = (
        b"<title>${month}</title><script>var a = '${month}';</script><p>In <b>${mon</b>th}: ${prose}</p><ul><li>${line.name}</li></ul><p>${chart}</p>"
    )
    data, missing = page.made(template, _given({**VALUES, "month": "<script>alert(1)</script>"}, {"line": LINES}, {"chart": _picture()}))
    text = data.decode()
    assert missing == []
    assert "<title>&lt;script&gt;alert(1)&lt;/script&gt;</title>" in text or "<title><script>alert(1)</script></title>" in text
    assert "var a = '${month}'" in text
    assert "<b>&lt;script&gt;alert(1)&lt;/script&gt;</b>: One line.<br>Another with ${total} and &lt;b&gt;." in text
    assert "<li>Fern</li><li>Moss &amp; &lt;lichen&gt;</li>" in text
    assert 'src="data:image/png;base64,' in text


@pytest.mark.parametrize(
    ("data", "told"),
    [
        (b"", "cannot be opened"),
        (b"PK\x03\x04 not a zip", "cannot be opened"),
        (_open("<text:p/>"), "it has no text"),
    ],
)
def test_what_is_no_template_is_told_in_words(data: bytes, told: str) -> None:
    with pytest.raises(BadTemplate, match=told):
        docx.made(data, _given({}))


@pytest.mark.parametrize(("text", "told"), [("${a", "not closed"), ("${a +}", "cannot be worked out|no expression")])
def test_a_hole_that_is_none_is_told_with_its_words(text: str, told: str) -> None:
    with pytest.raises(BadTemplate, match=told):
        page.made(f"<p>{text}</p>".encode(), _given({"a": 1}))


def test_a_bomb_of_entities_and_one_of_zeros_cost_nothing() -> None:
    bomb = '<!DOCTYPE a [<!ENTITY a "aaaaaaaaaa"><!ENTITY b "&a;&a;&a;&a;">]><text:p xmlns:text="t">&b;</text:p>'
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("content.xml", bomb)
        archive.writestr("META-INF/manifest.xml", "<a/>")
    data, _ = odt.made(out.getvalue(), _given({}))
    assert b"aaaa" not in zipfile.ZipFile(io.BytesIO(data)).read("content.xml").replace(b'"aaaaaaaaaa"', b"")
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w", zipfile.ZIP_DEFLATED) as archive:
        archive.writestr("word/document.xml", b"0" * 300_000_000)
    with pytest.raises(BadTemplate, match="larger"):
        docx.made(out.getvalue(), _given({}))


@settings(max_examples=60, deadline=None)
@trying(cuts=st.lists(st.integers(0, 60), max_size=6), value=st.text(st.characters(exclude_categories=["Cs", "Cc"]), max_size=30))
def test_a_hole_is_filled_wherever_the_office_program_has_split_it(cuts: list[int], value: str) -> None:
    """However a line is cut into spans, its text after filling is that of the line with the value in the place of the hole."""
    line = "Dear ${person.name}, thank you for ${person.name}."
    at = sorted({each for each in cuts if each < len(line)})
    parts = [line[begin:end] for begin, end in zip([0, *at], [*at, len(line)], strict=True)]
    body = "<text:p>" + "".join(f"<text:span>{part}</text:span>" if number % 2 else part for number, part in enumerate(parts)) + "</text:p>"
    data, missing = odt.made(_open(body), _given({"person": {"name": value}}))
    root = etree.fromstring(zipfile.ZipFile(io.BytesIO(data)).read("content.xml"))
    (paragraph,) = root.iter(f"{odt.TEXT}p")
    told = value.replace("\ue000", "").replace("\ufffe", "").replace("\uffff", "")
    assert missing == []
    assert "".join(map(str, paragraph.itertext())) == f"Dear {told}, thank you for {told}."


@pytest.mark.parametrize("ending", ["docx", "odt"])
def test_an_office_program_opens_what_was_made(ending: str, tmp_path: Path) -> None:
    rows = "<table:table><table:table-column/><table:table-row><table:table-cell><text:p>${line.name}</text:p></table:table-cell></table:table-row></table:table>"
    template = (
        _word()
        if ending == "docx"
        else _open(f"<text:p>Spent in ${{month}}: ${{total}}</text:p><text:p>${{prose}}</text:p>{rows}<text:p>${{chart}}</text:p>")
    )
    data, _ = (docx.made if ending == "docx" else odt.made)(template, _given(VALUES, {"line": LINES}, {"chart": _picture()}))
    (tmp_path / f"made.{ending}").write_bytes(data)
    command = [
        "soffice",
        f"-env:UserInstallation=file://{tmp_path}/office",
        "--headless",
        "--convert-to",
        "txt:Text (encoded):UTF8",
        "--outdir",
        str(tmp_path),
    ]
    subprocess.run([*command, str(tmp_path / f"made.{ending}")], check=True, capture_output=True, timeout=120)
    text = (tmp_path / "made.txt").read_text("utf-8-sig")
    assert "Spent in October" in text
    assert "One line.\nAnother with ${total} and <b>." in text
    assert "Fern" in text
    assert "Moss & <lichen>" in text
