"""PDFs: what is seen is read, what is hidden is told of, what is filled in or attached is found."""

from __future__ import annotations

import io
from collections.abc import Callable

import pytest
from PIL import Image
from pypdf import PdfReader, PdfWriter
from reportlab.lib.colors import Color, white
from reportlab.lib.utils import ImageReader
from reportlab.pdfgen.canvas import Canvas

from metrikon.core.documents.text import document_text
from metrikon.demo import scenario
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.pdf import plausible
from metrikon.readers.registry import parts, picture, read


def made(draw: Callable[[Canvas], None]) -> bytes:
    out = io.BytesIO()
    canvas = Canvas(out, pagesize=(595, 842), invariant=1)
    canvas.setFont("Helvetica", 11)
    canvas.drawString(60, 780, "An offer that everyone can see, with its price of 12.00")
    draw(canvas)
    canvas.save()
    return out.getvalue()


def _white(canvas: Canvas) -> None:
    canvas.setFillColor(white)
    canvas.drawString(60, 700, "secret order")


def _pale(canvas: Canvas) -> None:
    canvas.setFillColor(Color(0.99, 0.99, 0.985))
    canvas.drawString(60, 700, "secret order")


def _invisible(canvas: Canvas) -> None:
    text = canvas.beginText(60, 700)
    text.setTextRenderMode(3)
    text.textLine("secret order")
    canvas.drawText(text)


def _tiny(canvas: Canvas) -> None:
    canvas.setFont("Helvetica", 1)
    canvas.drawString(60, 700, "secret order")


def _off(canvas: Canvas) -> None:
    canvas.drawString(-400, 700, "secret order")


def _clear(canvas: Canvas) -> None:
    canvas.setFillColor(Color(0, 0, 0, alpha=0))
    canvas.drawString(60, 700, "secret order")


def _covered(canvas: Canvas) -> None:
    canvas.drawString(60, 700, "secret order")
    canvas.drawImage(ImageReader(Image.new("RGB", (40, 10), "tan")), 50, 690, 200, 30)


@pytest.mark.parametrize(
    ("draw", "why"),
    [
        (_white, "white on white"),
        (_pale, "white on white"),
        (_invisible, "invisible ink"),
        (_tiny, "too small"),
        (_off, "off the page"),
        (_clear, "transparent"),
        (_covered, "under a picture"),
    ],
)
def test_text_that_a_person_does_not_see_is_left_out_and_told_of(draw: Callable[[Canvas], None], why: str) -> None:
    found = read(made(draw))
    assert "everyone can see" in document_text(found)
    assert "secret" not in document_text(found)
    assert [each.text for each in found.hidden] == ["secret order"]
    assert why in found.hidden[0].why
    assert found.hidden[0].page == 1


def test_white_text_on_a_dark_ground_is_seen() -> None:
    def draw(canvas: Canvas) -> None:
        canvas.setFillColor(Color(0.1, 0.3, 0.2))
        canvas.rect(50, 690, 300, 30, fill=1, stroke=0)
        canvas.setFillColor(white)
        canvas.drawString(60, 700, "plain to see")

    found = read(made(draw))
    assert "plain to see" in document_text(found)
    assert found.hidden == ()


def test_text_over_a_picture_is_seen() -> None:
    def draw(canvas: Canvas) -> None:
        canvas.drawImage(ImageReader(Image.new("RGB", (40, 10), "tan")), 50, 690, 200, 30)
        canvas.drawString(60, 700, "plain to see")

    assert "plain to see" in document_text(read(made(draw)))


def test_a_scan_that_came_with_its_text_is_read_from_that() -> None:
    page = picture(scenario.document("02-moorgate-seed.pdf"), 1, 0.0, 110)
    out = io.BytesIO()
    canvas = Canvas(out, pagesize=(595, 842), invariant=1)
    canvas.drawImage(ImageReader(io.BytesIO(page)), 0, 0, 595, 842)
    text = canvas.beginText(60, 700)
    text.setFont("Helvetica", 11)
    text.setTextRenderMode(3)
    text.textLine("Moorgate Seed Company invoice of the layer")
    canvas.drawText(text)
    canvas.save()
    found = read(out.getvalue())
    assert found.pages[0].source == "text"
    assert document_text(found) == "Moorgate Seed Company invoice of the layer"
    assert found.hidden == ()


def test_a_text_layer_that_went_wrong_is_told_from_language() -> None:
    words = read(made(lambda canvas: None)).pages[0].words
    assert plausible(words)
    odd = [type(word)("\ue012\ue044\ue001", *word.box) for word in words]
    assert not plausible(odd)
    assert not plausible([type(word)("¤¦¬¶", *word.box) for word in words])


def test_filled_fields_are_facts_and_stand_where_they_are_filled_in() -> None:
    def draw(canvas: Canvas) -> None:
        canvas.acroForm.textfield(name="bed_number", value="North 4", x=200, y=600, width=150, height=20)
        canvas.acroForm.textfield(name="empty", value="", x=200, y=560, width=150, height=20)
        canvas.acroForm.checkbox(name="watered", checked=False, x=200, y=520, size=14)

    found = read(made(draw))
    assert {fact.name: fact.value for fact in found.facts} == {"bed number": "North 4", "watered": "no"}
    (north,) = [word for word in found.pages[0].words if word.text == "North"]
    assert 200 < north.x0 < 230
    assert 842 - 620 < north.y0 < 842 - 595


def test_links_are_kept() -> None:
    found = read(made(lambda canvas: canvas.linkURL("https://fern.example/pay?x=1", (60, 770, 200, 795))))
    assert [(link.address, link.page) for link in found.links] == [("https://fern.example/pay?x=1", 1)]


def test_attached_files_come_with_their_bytes_and_within_limits() -> None:
    writer = PdfWriter(clone_from=PdfReader(io.BytesIO(made(lambda canvas: None))))
    for number in range(3):
        writer.add_attachment(f"list-{number}.csv", b"a;b\n1;2\n" * (number + 1))
    out = io.BytesIO()
    writer.write(out)
    found = list(parts(out.getvalue()))
    assert [(part.name, len(data)) for part, data in found] == [("list-0.csv", 8), ("list-1.csv", 16), ("list-2.csv", 24)]
    with pytest.raises(Refused, match="max_members"):
        read(out.getvalue(), Limits(max_members=2))


def test_an_attached_file_that_is_no_e_invoice_is_no_trouble() -> None:
    writer = PdfWriter(clone_from=PdfReader(io.BytesIO(made(lambda canvas: None))))
    writer.add_attachment("broken.xml", b"<not xml")
    writer.add_attachment("other.xml", b"<order><id>4</id></order>")
    out = io.BytesIO()
    writer.write(out)
    found = read(out.getvalue())
    assert found.facts == ()
    assert "broken.xml" in found.warnings[0]


def test_sums_carried_from_page_to_page_are_facts_and_no_rows() -> None:
    found = read(scenario.document("04-silverbeck-plants-three-pages.pdf"))
    carried = [fact for fact in found.facts if fact.source == "carried forward"]
    assert carried
    assert all("orward" in fact.name or "over" in fact.name for fact in carried)
    for fact in carried:
        words = found.pages[fact.page - 1].words
        assert " ".join(words[n].text for n in fact.words) == fact.value
    assert len(found.tables[0].rows) == 88
