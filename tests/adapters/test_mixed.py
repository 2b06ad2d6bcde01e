"""The mixed post: every kind of file that people send is read as a person would read it."""

from __future__ import annotations

import json
import re
from importlib import resources
from pathlib import Path
from typing import Any

import pytest

from metrikon.core.documents.drawing import drawn
from metrikon.core.documents.model import Document, from_bytes, to_bytes
from metrikon.core.documents.text import document_text
from metrikon.demo.mixed import mixed
from metrikon.ports.reader import Limits
from metrikon.readers.recording import heard
from metrikon.readers.registry import parts, picture, read

POST = Path(str(resources.files("metrikon.demo").joinpath("mixed")))
NAMES = sorted(path.name.removesuffix(".right.json") for path in POST.glob("*.right.json"))
_READ: dict[str, Document] = {}


def document(name: str) -> Document:
    if name not in _READ:
        said = POST / f"{name}.said.json"
        data = (POST / name).read_bytes()
        _READ[name] = heard(said.read_bytes(), "0" * 64, "wav", "tests", Limits()) if said.exists() else read(data)
    return _READ[name]


def right(name: str) -> dict[str, Any]:
    return dict(json.loads((POST / f"{name}.right.json").read_text("utf-8")))


def test_the_files_are_what_their_makers_make() -> None:
    for each in mixed():
        assert (POST / each.name).read_bytes() == each.data, f"{each.name}: run `make demo-documents`"


@pytest.mark.parametrize("name", NAMES)
def test_its_text_says_what_a_person_reads_and_nothing_else(name: str) -> None:
    text = " ".join(document_text(document(name)).split())
    assert [said for said in right(name).get("says", ()) if said not in text] == []
    assert [said for said in right(name).get("lacks", ()) if said in text] == []


@pytest.mark.parametrize("name", NAMES)
def test_its_tables_hold_their_rows(name: str) -> None:
    tables = document(name).tables
    if "rows" in right(name):
        assert [len(table.rows) for table in tables] == right(name)["rows"]
    for table, row, column, text in right(name).get("cells", ()):
        assert tables[table].rows[row][column].text == text


@pytest.mark.parametrize("name", NAMES)
def test_its_facts_sentences_and_hidden_text_are_found(name: str) -> None:
    found = document(name)
    facts = {fact.name: fact.value for fact in found.facts} | {fact.term: fact.value for fact in found.facts if fact.term}
    assert {key: facts.get(key) for key in right(name).get("facts", {})} == right(name).get("facts", {})
    assert len(found.sentences) == right(name).get("sentences", 0)
    hidden = " ".join(each.text for each in found.hidden)
    assert [said for said in right(name).get("hidden", ()) if said not in hidden] == []


@pytest.mark.parametrize("name", NAMES)
def test_every_word_of_a_cell_a_fact_and_a_sentence_has_its_place(name: str) -> None:
    found = document(name)
    pages = {page.number: page for page in found.pages}
    for table in found.tables:
        for cell in (cell for row in (table.header, *table.rows) for cell in row if cell.words):
            text = " ".join(pages[cell.page].words[n].text for n in cell.words)
            assert text.split() == cell.text.split() or text.replace(" ", "") == cell.text.replace(" ", "")
    for fact in (fact for fact in found.facts if fact.words):
        assert "".join(pages[fact.page].words[n].text for n in fact.words) == re.sub(r"\s", "", fact.value)
    for said in found.sentences:
        assert said.text.split()[0] in [pages[said.page].words[n].text for n in said.words]
    assert from_bytes(to_bytes(found)) == found


@pytest.mark.parametrize("name", NAMES)
def test_each_page_has_a_picture_of_its_size(name: str) -> None:
    data = (POST / name).read_bytes()
    found = document(name)
    if (POST / f"{name}.said.json").exists():
        return  # a recording has no picture but that of its transcript, which the house draws
    for page in found.pages[:1]:
        drawing = picture(data, page.number, page.turned)
        if page.source == "set":
            assert drawing == drawn(found, page.number)
            assert f'width="{page.width:g}"'.encode() in drawing
            assert drawing.count(b"<text ") == len(page.words)
        else:
            assert drawing.startswith(b"\x89PNG")


@pytest.mark.parametrize("name", [name for name in NAMES if "parts" in right(name)])
def test_files_within_a_file_come_with_their_bytes(name: str) -> None:
    data = (POST / name).read_bytes()
    found = list(parts(data))
    assert [part.name for part, _ in found] == right(name)["parts"]
    assert [part.sha256 for part, _ in found] == [part.sha256 for part in document(name).parts]
    assert all(len(content) == part.size for part, content in found)


def test_a_logo_in_a_mail_is_told_from_a_document() -> None:
    roles = {part.name: part.role for part in document("61-mail-with-invoice.eml").parts}
    assert roles == {"logo.png": "inline", "FN-20417.pdf": "attachment"}


def test_a_call_keeps_who_spoke_and_when() -> None:
    for name in ("21-visitor-line-call.vtt", "22-visitor-line-call.srt", "23-visitor-line-call.json"):
        second = document(name).sentences[1]
        assert (second.speaker, second.start, second.end) == ("Caller", 2900, 6400)


def test_the_two_columns_are_read_one_after_the_other() -> None:
    text = " ".join(document_text(document("51-application-two-columns.pdf")).split())
    assert text.index("too hard for them") < text.index("Besides") < text.index("Saturday workshop")
    assert text.index("Candidate for the propagation house") < text.index("At the nursery")
    assert text.rstrip().endswith("2 April 2026")
