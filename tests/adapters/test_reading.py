"""Reading: PDFs and pictures become documents; anything else is refused in words; nothing takes the service down."""

from __future__ import annotations

import io
from collections.abc import Callable
from pathlib import Path

import pypdf
import pytest
from hypothesis import HealthCheck, given, settings
from hypothesis import strategies as st
from PIL import Image, ImageEnhance, ImageFilter

from metrikon.core.documents.text import document_text
from metrikon.demo import scenario
from metrikon.demo.garden import sent
from metrikon.drivers.reading import ReaderPool
from metrikon.ports.reader import Limits, Refused
from metrikon.ports.step import ReaderDied, WorkFailed
from metrikon.readers.registry import picture, read
from metrikon.readers.usable import verdict

DOCUMENT = scenario.document("01-fernhill-nurseries.pdf")


def encrypted() -> bytes:
    writer = pypdf.PdfWriter(clone_from=pypdf.PdfReader(io.BytesIO(DOCUMENT)))
    writer.encrypt("secret", algorithm="RC4-128")
    out = io.BytesIO()
    writer.write(out)
    return out.getvalue()


def turned(degrees: int) -> bytes:
    writer = pypdf.PdfWriter(clone_from=pypdf.PdfReader(io.BytesIO(DOCUMENT)))
    writer.pages[0].rotate(degrees)
    out = io.BytesIO()
    writer.write(out)
    return out.getvalue()


@pytest.mark.parametrize(
    ("data", "code", "said"),
    [
        (b"", "empty", "0 bytes"),
        (DOCUMENT[:700], "broken", "cut off"),
        (encrypted(), "encrypted", "password"),
        (b"%PDF-1.7\nnothing more", "broken", "broken"),
        (b"PK\x03\x04 and so on", "broken", "ZIP"),
        (b"\x00\x00\x00\x20ftypheic", "unknown-format", "JPEG"),
        (b"\xd0\xcf\x11\xe0 old", "unknown-format", "DOCX"),
        (b"\x00\x01\x02\x03" * 50, "unknown-format", "not known"),
        (b"\x89PNG\r\n\x1a\n broken", "broken", "broken"),
        (b"\xff\xd8\xff\xe0 broken", "broken", "broken"),
        (b"MZ\x90\x00", "unknown-format", "program"),
    ],
)
def test_what_cannot_be_read_is_refused_in_words(data: bytes, code: str, said: str) -> None:
    with pytest.raises(Refused) as caught:
        read(data)
    assert caught.value.code == code
    assert said in caught.value.reason


@pytest.mark.parametrize(
    ("limits", "said"),
    [(Limits(max_bytes=100), "max_bytes"), (Limits(max_pages=2), "max_pages")],
)
def test_a_limit_names_itself(limits: Limits, said: str) -> None:
    with pytest.raises(Refused, match=said):
        read(scenario.document("04-silverbeck-plants-three-pages.pdf"), limits)


def test_a_picture_beyond_the_limit_is_refused_before_it_is_opened() -> None:
    out = io.BytesIO()
    Image.new("1", (9000, 9000)).save(out, "PNG")
    with pytest.raises(Refused, match="max_pixels"):
        read(out.getvalue(), Limits(max_pixels=1_000_000))


def test_the_name_of_a_file_does_not_matter(tmp_path: Path) -> None:
    path = tmp_path / "photo.jpg"
    path.write_bytes(DOCUMENT)
    pool = ReaderPool(1)
    try:
        assert pool.read(path).format == "pdf"
    finally:
        pool.close()


def test_words_come_with_their_place() -> None:
    page = read(DOCUMENT).pages[0]
    (word,) = [w for w in page.words if w.text == "FN-20417"]
    assert 450 < word.x0 < word.x1 < 545
    assert page.height == pytest.approx(841.9, abs=0.1)
    assert "Fernhill Nurseries Ltd" in document_text(read(DOCUMENT))


@pytest.mark.parametrize("degrees", [90, 180, 270])
def test_a_turned_page_reads_as_it_is_shown(degrees: int) -> None:
    upright, other = read(DOCUMENT), read(turned(degrees))
    assert len(other.pages[0].words) == len(upright.pages[0].words)
    assert (other.pages[0].width > other.pages[0].height) == (degrees in (90, 270))
    assert all(0 <= w.x0 <= other.pages[0].width and 0 <= w.y0 <= other.pages[0].height for w in other.pages[0].words)


def test_a_table_over_three_pages_is_one() -> None:
    (table,) = read(scenario.document("04-silverbeck-plants-three-pages.pdf")).tables
    assert table.pages == (1, 2, 3)
    assert len(table.rows) == 88


@pytest.mark.parametrize("name", ["05-oakhanger-garden-scan.pdf", "06-hollins-bulb-photo.jpg"])
def test_a_scan_and_a_photo_are_read_with_their_places(name: str) -> None:
    document = read(scenario.document(name))
    page = document.pages[0]
    (right,) = [each for each in scenario.expected() if each.name == name]
    assert page.source == "ocr"
    assert right.record["number"] in document_text(document)
    (total,) = [w for w in page.words if str(right.record["total"]) in w.text]
    shot = Image.open(io.BytesIO(picture(scenario.document(name), 1, page.turned, 110))).convert("L")
    across, down = shot.width / page.width, shot.height / page.height
    mark = shot.crop((int(total.x0 * across), int(total.y0 * down), int(total.x1 * across) + 1, int(total.y1 * down) + 1))
    assert int(mark.getextrema()[0]) < 110  # type: ignore[arg-type]  # there is ink where the box says the word stands


def test_a_turned_scan_is_put_upright() -> None:
    page = read(scenario.document("05-oakhanger-garden-scan.pdf")).pages[0]
    assert page.turned == pytest.approx(1.3, abs=0.3)
    assert [w.text for w in page.words].count("Qty") == 1


def test_the_demo_files_are_what_their_makers_make() -> None:
    for each in sent():
        assert scenario.document(each.name) == each.data, f"{each.name}: run `make demo-documents`"


def test_a_reader_that_takes_too_long_is_killed_and_the_next_one_reads(tmp_path: Path) -> None:
    path = tmp_path / "scan.pdf"
    path.write_bytes(scenario.document("05-oakhanger-garden-scan.pdf"))
    quick = tmp_path / "quick.pdf"
    quick.write_bytes(DOCUMENT)
    pool = ReaderPool(1)
    try:
        with pytest.raises(ReaderDied, match="seconds"):
            pool.read(path, Limits(seconds=0.3))
        assert pool.read(quick).format == "pdf"
    finally:
        pool.close()


def test_a_reader_that_dies_is_replaced(tmp_path: Path) -> None:
    path = tmp_path / "a.pdf"
    path.write_bytes(DOCUMENT)
    pool = ReaderPool(1)
    try:
        pool.read(path)
        worker = pool._free.take()
        assert worker is not None
        worker.process.kill()
        worker.process.wait()
        pool._free.give(worker)
        with pytest.raises(WorkFailed, match="ended from outside; the machine may be short of memory"):
            pool.read(path)
        assert pool.read(path).format == "pdf"
    finally:
        pool.close()


@given(st.integers(0, len(DOCUMENT) - 1), st.binary(min_size=1, max_size=40), st.booleans())
@settings(max_examples=150, suppress_health_check=[HealthCheck.function_scoped_fixture])
def test_a_damaged_file_is_read_or_refused_and_nothing_else(at: int, junk: bytes, cut: bool) -> None:
    data = DOCUMENT[:at] + junk + (b"" if cut else DOCUMENT[at + len(junk) :])
    try:
        read(data)
    except Refused as error:
        assert error.reason


def _page() -> Image.Image:
    return Image.open(io.BytesIO(picture(scenario.document("02-moorgate-seed.pdf"), 1, 0.0, 110))).convert("RGB")


@pytest.mark.parametrize(
    ("spoilt", "usable", "said"),
    [
        (lambda page: page, "good", ""),
        (lambda page: page.filter(ImageFilter.GaussianBlur(1.6)), "doubtful", "blurred"),
        (lambda page: page.filter(ImageFilter.GaussianBlur(5)), "unusable", "blurred"),
        (lambda page: ImageEnhance.Contrast(page).enhance(0.1), "doubtful", "faint"),
        (lambda page: ImageEnhance.Contrast(page).enhance(0.03), "unusable", "contrast"),
        (lambda page: ImageEnhance.Brightness(page).enhance(0.04), "unusable", "dark"),
        (lambda page: page.resize((200, 283)), "unusable", "200 pixels"),
        (lambda page: page.resize((420, 594)), "doubtful", "420 pixels"),
        (lambda page: Image.new("RGB", (1000, 1400), "white"), "unusable", "contrast"),
    ],
)
def test_a_picture_is_judged_before_it_is_read(spoilt: Callable[[Image.Image], Image.Image], usable: str, said: str) -> None:
    found = verdict(spoilt(_page()))
    assert found.usable == usable
    assert said in found.reason


def test_a_photo_that_cannot_be_read_is_refused_with_the_reason_and_costs_nothing() -> None:
    out = io.BytesIO()
    _page().filter(ImageFilter.GaussianBlur(6)).save(out, "JPEG")
    with pytest.raises(Refused, match=r"too blurred\. Take it again"):
        read(out.getvalue())


@pytest.mark.parametrize("name", ["05-oakhanger-garden-scan.pdf", "06-hollins-bulb-photo.jpg"])
def test_the_scan_and_the_photo_of_the_demo_are_good_enough(name: str) -> None:
    assert verdict(Image.open(io.BytesIO(picture(scenario.document(name), 1, 0.0, 110)))).usable == "good"


def test_an_empty_page_among_others_is_told_of_and_the_rest_is_read() -> None:
    pages = [_page(), Image.new("RGB", _page().size, "white")]
    out = io.BytesIO()
    pages[0].save(out, "TIFF", save_all=True, append_images=pages[1:])
    found = read(out.getvalue())
    assert len(found.pages) == 2
    assert "Moorgate" in document_text(found)
    assert found.warnings == ("Page 2 is empty or was not read: there is hardly any contrast: nothing stands out from the ground.",)


@pytest.mark.parametrize("degrees", [90, 180, 270])
def test_a_photo_that_lies_on_its_side_or_stands_on_its_head_is_read_upright(degrees: int) -> None:
    photo = Image.open(scenario.post_folder() / "54-receipt-collecting-trip.jpg")
    out = io.BytesIO()
    photo.rotate(degrees, expand=True).save(out, "PNG")
    found = read(out.getvalue())
    assert "TAMARACK" in document_text(found)
    assert "38.40" in document_text(found)
    (total,) = [word for word in found.pages[0].words if word.text == "38.40"]
    assert total.x1 - total.x0 > total.y1 - total.y0
    assert round(found.pages[0].turned / 90) % 4 == degrees // 90
