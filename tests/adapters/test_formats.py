"""Formats one by one: what the mixed post does not show, and what is hostile or broken."""

from __future__ import annotations

import io
import random
import zipfile
from pathlib import Path

import pytest

from metrikon.core.documents.text import document_text
from metrikon.demo.mixed import archive
from metrikon.ports.reader import Limits, Refused
from metrikon.readers.detect import detect
from metrikon.readers.registry import formats, parts, read
from tests.adapters.test_mixed import NAMES, POST
from tests.helpers import damaged


def text(data: bytes | str) -> str:
    return document_text(read(data.encode() if isinstance(data, str) else data))


@pytest.mark.parametrize(
    ("data", "expected"),
    [
        (b"WEBVTT\n\n00:01.000 --> 00:02.000\nHello", "vtt"),
        (b"1\n00:00:01,000 --> 00:00:02,000\nHello", "srt"),
        (b"a;b;c\n1;2;3\n4;5;6", "csv"),
        (b"a\tb\n1\t2\n3\t4", "csv"),
        (b'{"a": 1}', "json"),
        (b"<html><body><p>x</p></body></html>", "html"),
        (b"<!DOCTYPE html><title>x</title>", "html"),
        (b"<order><id>4</id></order>", "xml"),
        (b"From: a@b.example\nSubject: x\n\nHello", "eml"),
        (b"BEGIN:VCARD\nFN:Ada\nEND:VCARD", "vcard"),
        (b"BEGIN:VCALENDAR\nBEGIN:VEVENT\nSUMMARY:x\nEND:VEVENT\nEND:VCALENDAR", "icalendar"),
        (b"Dear friends, the garden opens at nine, and closes at six.", "text"),
        (b"{ this is no JSON", "text"),
        ("\ufeffGrüße aus dem Garten".encode("utf-16"), "text"),
    ],
)
def test_a_format_is_found_from_the_bytes(data: bytes, expected: str) -> None:
    found = detect(data)
    assert found.format == expected
    assert found.why


def test_the_name_says_nothing_and_the_reason_is_told() -> None:
    found = read((POST / "31-application-thistlewood.docx").read_bytes())
    assert (found.format, found.why) == ("docx", "it is a ZIP archive that holds word/document.xml")


def test_every_format_that_can_be_found_has_a_reader() -> None:
    assert {detect((POST / name).read_bytes()).format for name in NAMES} <= set(formats())


@pytest.mark.parametrize("name", ["cp1252", "utf-8", "utf-16", "iso-8859-15"])
def test_western_texts_are_read_in_any_usual_encoding(name: str) -> None:
    assert "Señor Müller pays 4 crêpes" in text("Señor Müller pays 4 crêpes".encode(name))


def test_polish_and_cyrillic_texts_are_read_too() -> None:
    assert "Żółć i śnieg w ogrodzie" in text("Żółć i śnieg w ogrodzie, później też".encode("cp1250"))
    russian = "Ботанический сад открыт каждый день с девяти утра до шести вечера, кроме понедельника."
    assert "Ботанический сад" in text(russian.encode("cp1251"))


@pytest.mark.parametrize(("separator", "quoted"), [(",", '"Moss, green"'), (";", '"Moss; green"'), ("\t", "Moss green"), ("|", "Moss green")])
def test_separators_and_quotes_are_found_out(separator: str, quoted: str) -> None:
    data = "\n".join(separator.join(row) for row in (("article", "name", "pieces"), ("A-1", quoted, "12"), ("A-2", "Fern", "7"), ("A-3", "Ivy", "9")))
    (table,) = read(data.encode()).tables
    assert [cell.text for cell in table.header] == ["article", "name", "pieces"]
    assert table.rows[0][1].text == quoted.strip('"')
    assert table.types == ("text", "text", "number")


def test_rows_of_the_wrong_length_are_kept_and_told_of() -> None:
    found = read(b"a,b,c\n1,2,3\n4,5\n6,7,8\n9,10,11\n12,13,14\n15,16,17")
    assert [cell.text for cell in found.tables[0].rows[1]] == ["4", "5", ""]
    assert "do not have 3 values" in found.warnings[0]


def test_sentences_that_go_backwards_are_put_in_order_and_told_of() -> None:
    found = read(b"WEBVTT\n\n00:05.000 --> 00:04.000\n<v Ada>Second\n\n00:01.000 --> 00:02.000\n<v Ben>First\n")
    assert [(each.speaker, each.start, each.end) for each in found.sentences] == [("Ben", 1000, 2000), ("Ada", 5000, None)]
    assert len(found.warnings) == 2


@pytest.mark.parametrize(
    "written", ["ada (at) fern (dot) example", "ada[at]fern[dot]example", "ada AT fern DOT example", "ada&#64;fern.example", "ada [at] fern.example"]
)
def test_addresses_written_to_fool_robots_are_understood(written: str) -> None:
    assert "ada@fern.example" in text(f"<html><body><p>Write to {written} please, we answer every mail.</p></body></html>")


def test_prose_is_no_address() -> None:
    assert "meet at ten" in text("<html><body><p>We meet at ten at the gate.</p></body></html>")


def test_microdata_rdfa_and_nested_json_ld_are_facts() -> None:
    page = """<html><body><main><div itemscope itemtype="https://schema.org/Offer"><span itemprop="price" content="4.20">4,20</span></div>
    <div vocab="https://schema.org/" typeof="Person"><b property="name">Ada Finch</b></div><p>Some text of the page.</p></main>
    <script type="application/ld+json">{"@graph": [{"@type": "Event", "location": {"@type": "Place", "name": "Fern house"}}]}</script>
    <script type="application/ld+json">{broken</script></body></html>"""
    found = read(page.encode())
    facts = {(fact.source, fact.path): fact.value for fact in found.facts}
    assert facts["microdata", "/Offer/price"] == "4.20"
    assert facts["rdfa", "/Person/name"] == "Ada Finch"
    assert facts["json-ld", "/0/@graph/0/location/name"] == "Fern house"
    assert any("no JSON" in warning for warning in found.warnings)


def test_nothing_outside_an_xml_file_is_looked_at(tmp_path: Path) -> None:
    secret = tmp_path / "secret.txt"
    secret.write_text("the key of the seed vault")
    data = f'<!DOCTYPE o [<!ENTITY x SYSTEM "file://{secret}"><!ENTITY y "yyyy">]><o><a>&x;</a><b>&y;</b><c>4</c></o>'
    found = read(data.encode())
    assert "seed vault" not in document_text(found)
    assert [fact.value for fact in found.facts] == ["4"]


def test_entities_that_multiply_are_not_expanded() -> None:
    levels = "".join(f'<!ENTITY l{n} "{f"&l{n - 1};" * 10}">' for n in range(1, 12))
    with pytest.raises(Refused, match="entity"):
        read(f'<!DOCTYPE o [<!ENTITY l0 "ha">{levels}]><o><a>&l11;</a><b>4</b></o>'.encode())


def test_an_archive_that_expands_without_end_is_refused_by_name_of_the_setting() -> None:
    bomb = archive([("zeros.txt", b"0" * 40_000_000)])
    with pytest.raises(Refused, match="max_ratio"):
        read(bomb)
    with pytest.raises(Refused, match="max_expanded"):
        read(archive([("a.txt", random.Random(4).randbytes(200_000))]), Limits(max_expanded=100_000))
    with pytest.raises(Refused, match="max_members"):
        read(archive([(f"{n}.txt", b"x") for n in range(12)]), Limits(max_members=10))


def test_an_archive_that_lies_about_its_sizes_is_refused() -> None:
    data = bytearray(archive([("a.txt", b"fern " * 4000)]))
    at = data.rindex(b"PK\x01\x02")
    data[at + 24 : at + 28] = (10).to_bytes(4, "little")
    with pytest.raises(Refused):
        list(parts(bytes(data)))


def test_an_office_file_whose_part_is_damaged_is_refused_in_words() -> None:
    given = (POST / "31-application-thistlewood.docx").read_bytes()
    out = io.BytesIO()
    with zipfile.ZipFile(io.BytesIO(given)) as before, zipfile.ZipFile(out, "w") as after:
        for member in before.infolist():
            after.writestr(member, b"<w:document" if member.filename == "word/document.xml" else before.read(member))
    with pytest.raises(Refused, match=r"word/document\.xml"):
        read(out.getvalue())


def test_more_rows_than_pages_allow_are_refused_and_not_cut() -> None:
    with pytest.raises(Refused, match="max_pages"):
        read(("a,b\n" + "1,2\n" * 2000).encode(), Limits(max_pages=10))


def test_json_that_nests_without_end_is_no_trouble() -> None:
    with pytest.raises(Refused):
        read(b'{"a":' * 200 + b"1" + b"}" * 200)
    assert read(b"[" * 100_000).format == "text"


@pytest.mark.parametrize("name", [name for name in NAMES if not name.endswith((".jpg", ".wav", "scan.pdf"))])
def test_damaged_files_are_read_or_refused_and_nothing_else(name: str, seed: int) -> None:
    dice = random.Random(f"{seed} {name}")
    given = (POST / name).read_bytes()
    for _ in range(25):
        try:
            found = read(damaged(given, dice), Limits(max_pages=60))
        except Refused as error:
            assert error.reason
        else:
            assert document_text(found) is not None
