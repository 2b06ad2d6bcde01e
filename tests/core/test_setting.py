"""Setting: what has no pages is set on pages, and every word, cell and sentence keeps its place."""

from __future__ import annotations

import xml.etree.ElementTree as ET
from itertools import pairwise

import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from metrikon.core.documents.drawing import drawn
from metrikon.core.documents.model import Document, Sentence, words_box
from metrikon.core.documents.setting import LINES, MOST_KEPT, Grid, Laid, Paragraph, Piece, Set, paragraph, set_blocks
from metrikon.core.documents.tables import find_tables
from metrikon.core.documents.text import document_text, page_text
from metrikon.core.documents.types import column_types, header_row
from metrikon.core.values.text import clean

TEXTS = st.text(max_size=120)
CELLS = st.text(st.characters(codec="utf-8", categories=("L", "N", "P", "Zs")), max_size=70)


def document(made: Set) -> Document:
    return Document("0" * 64, "text", made.pages, made.tables)


@given(st.lists(TEXTS, max_size=30))
@settings(max_examples=60, deadline=None)
def test_no_word_of_a_text_is_lost_or_doubled(texts: list[str]) -> None:
    made, enough = set_blocks([paragraph(text) for text in texts])
    assert enough
    printed = "".join(word.text for page in made.pages for word in page.words)
    assert printed == "".join(clean(text) for text in texts).replace(" ", "")


@given(st.integers(1, 6).flatmap(lambda n: st.lists(st.tuples(*[CELLS] * n), min_size=1, max_size=25)))
@settings(max_examples=60, deadline=None)
def test_a_cell_holds_its_words_and_nothing_of_its_neighbours(rows: list[tuple[str, ...]]) -> None:
    made, _ = set_blocks([Grid((), tuple(rows))])
    pages = {page.number: page for page in made.pages}
    for table in made.tables:
        for wanted, cells in zip(rows, table.rows, strict=True):
            for text, cell in zip(wanted, cells, strict=True):
                words = [pages[cell.page].words[n].text for n in cell.words]
                assert "".join(words) == clean(text).replace(" ", "")
            reach = [words_box(pages[c.page], c.words) for c in cells if c.words]
            assert all(a[2] < b[0] for a, b in pairwise(reach))


@given(st.lists(TEXTS, max_size=20))
@settings(max_examples=40, deadline=None)
def test_words_stand_within_their_page_and_none_over_another(texts: list[str]) -> None:
    made, _ = set_blocks([paragraph(text) for text in texts])
    for page in made.pages:
        for line in page.lines:
            words = page.words[line.first : line.last]
            assert all(a.x1 < b.x0 for a, b in pairwise(words))
        assert all(0 < w.x0 < w.x1 < page.width and 0 < w.y0 < w.y1 < page.height for w in page.words)


@given(st.lists(TEXTS, max_size=12))
@settings(max_examples=40, deadline=None)
def test_the_drawing_is_xml_that_holds_every_word_in_its_box(texts: list[str]) -> None:
    made, _ = set_blocks([paragraph(text) for text in texts])
    for page in made.pages:
        root = ET.fromstring(drawn(document(made), page.number))
        drawn_words = root.findall(".//{http://www.w3.org/2000/svg}text")
        assert [float(each.get("x", 0)) for each in drawn_words] == pytest.approx([word.x0 for word in page.words], abs=0.01)
        assert [each.get("textLength") for each in drawn_words] == [f"{word.x1 - word.x0:g}" for word in page.words]


def test_nothing_in_a_text_becomes_part_of_the_drawing() -> None:
    made, _ = set_blocks([paragraph('<script>alert(1)</script> & "x" </text><image href="http://evil.example"/>')])
    root = ET.fromstring(drawn(document(made), 1))
    assert {each.tag.split("}")[1] for each in root.iter()} == {"svg", "rect", "g", "text"}


def test_a_text_longer_than_a_page_goes_on_on_the_next() -> None:
    made, _ = set_blocks([paragraph(f"line {n}") for n in range(LINES * 2 + 3)])
    assert [len(page.lines) for page in made.pages] == [LINES, LINES, 3]
    assert page_text(made.pages[1]).startswith(f"line {LINES}")


def test_a_table_longer_than_a_page_is_one_table_on_both() -> None:
    made, _ = set_blocks([Grid(("n", "square"), tuple((str(n), str(n * n)) for n in range(LINES + 20)))])
    (table,) = made.tables
    assert table.pages == (1, 2)
    assert len(table.rows) == LINES + 20
    assert {cell.page for row in table.rows for cell in row} == {1, 2}


def test_more_pages_than_are_allowed_are_told_of() -> None:
    made, enough = set_blocks([paragraph("x")] * (LINES * 3), most=2)
    assert not enough
    assert len(made.pages) == 2


def test_a_wide_table_widens_its_page_and_a_long_cell_is_wrapped() -> None:
    made, _ = set_blocks([Grid(("a", "b"), (("word " * 40, "x" * 200),))])
    (page,) = made.pages
    assert page.width > 595
    assert len(page.lines) > 3
    (row,) = made.tables[0].rows
    assert row[0].text == ("word " * 40).strip()
    assert len(row[0].words) == 40


def test_crossed_out_words_say_so() -> None:
    made, _ = set_blocks([Paragraph((Piece("Price"), Piece("4.50 EUR", True), Piece("3.95 EUR")))])
    assert [word.struck for word in made.pages[0].words] == [False, True, True, False, False]
    assert document_text(document(made)) == "Price [crossed out: 4.50 EUR] 3.95 EUR"
    assert drawn(document(made), 1).count(b"line-through") == 2


def test_a_sentence_knows_its_words() -> None:
    said = Sentence("Good morning to all of you.", "Ada", 1000, 2000)
    made, _ = set_blocks([paragraph("heading"), Paragraph((Piece("0:00:01 Ada: Good morning to all of you."),), 0, said)])
    (found,) = made.sentences
    assert (found.speaker, found.start, found.page) == ("Ada", 1000, 1)
    assert " ".join(made.pages[0].words[n].text for n in found.words) == "0:00:01 Ada: Good morning to all of you."


def test_laid_lines_keep_their_gaps_so_that_tables_are_found_in_them() -> None:
    rows = [("Article", "Pieces", "Price"), ("Fern", "12", "4.50"), ("Moss", "3", "1.20"), ("Ivy", "40", "0.80")]
    made, _ = set_blocks([Laid(((0, a), (20, b), (32, c))) for a, b, c in rows])
    (table,) = find_tables(made.pages)
    assert [[cell.text for cell in row] for row in table.rows] == [list(row) for row in rows[1:]]


@pytest.mark.parametrize(
    ("column", "expected"),
    [
        (["1", "2,50", "-3.00"], "number"),
        (["£4", "€ 1.200,00"], "number"),
        (["2026-03-04", "5 May 2026", "06.07.2026"], "date"),
        (["yes", "no", "Yes"], "yes/no"),
        (["fern", "12"], "text"),
        (["", ""], "text"),
        (["A-1", "B-2"], "text"),
    ],
)
def test_a_column_is_of_the_type_of_its_cells(column: list[str], expected: str) -> None:
    assert column_types([[text] for text in column]) == (expected,)


@pytest.mark.parametrize(
    ("rows", "expected"),
    [
        ([["name", "pieces"], ["fern", "3"]], True),
        ([["fern", "3"], ["moss", "4"]], False),
        ([["name", ""], ["fern", "3"]], False),
        ([["name", "name"], ["fern", "3"]], False),
        ([["name", "pieces"]], False),
        ([["a", "b"], ["c", "d"], ["e", "f"]], True),
    ],
)
def test_a_header_row_is_told_from_the_first_row_of_data(rows: list[list[str]], expected: bool) -> None:
    assert header_row(rows) is expected


def test_a_cell_longer_than_a_page_loses_nothing() -> None:
    text = " ".join(f"word{n}" for n in range(1500))
    made, enough = set_blocks([Grid((), ((text, "x"),))])
    assert enough
    assert len(made.tables[0].rows[0][0].words) == 1500
    assert all(word.y1 < page.height for page in made.pages for word in page.words)


@given(st.lists(st.sampled_from(["2.", "März", "2026", "01632", "960", "417", "fern", "a", "glasshouses"]), min_size=1, max_size=60))
def test_what_holds_figures_stays_with_the_word_after_it(words: list[str]) -> None:
    made, _ = set_blocks([paragraph(" ".join(words))])
    lines = [[word.text for word in made.pages[0].words[line.first : line.last]] for line in made.pages[0].lines]
    assert [word for line in lines for word in line] == words
    at = 0
    for line in lines[:-1]:
        at += len(line)
        first, last = at, at
        while first and words[first - 1][0].isdigit():
            first -= 1
        while last < len(words) and words[last][0].isdigit():
            last += 1
        assert first == at or last - first > MOST_KEPT  # only a longer run of figures is broken
