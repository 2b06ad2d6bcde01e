"""Documents: words become lines and tables, wherever they were printed."""

from __future__ import annotations

from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.documents.lines import in_lines
from metrikon.core.documents.model import Word, from_bytes, to_bytes, words_box
from metrikon.core.documents.text import document_text
from tests.helpers import typed_document, typed_page

TABLE = """
Code     Description                 Qty    Price    Amount
A1       Acer palmatum               2      48.50    97.00
B22      Helleborus with a long      24     3.95     94.80
         name that wraps
C3       Compost                     30     7.20     216.00
                                     Subtotal        407.80
                                     VAT 20%         81.56
"""


def texts(row: tuple[object, ...]) -> list[str]:
    return [cell.text for cell in row]  # type: ignore[attr-defined]


def test_a_table_is_found_with_its_wrapped_rows_and_without_its_totals() -> None:
    (table,) = typed_document(TABLE).tables
    assert texts(table.header) == ["Code", "Description", "Qty", "Price", "Amount"]
    assert [texts(row) for row in table.rows] == [
        ["A1", "Acer palmatum", "2", "48.50", "97.00"],
        ["B22", "Helleborus with a long name that wraps", "24", "3.95", "94.80"],
        ["C3", "Compost", "30", "7.20", "216.00"],
    ]


def test_a_table_goes_on_over_pages_with_and_without_its_header() -> None:
    second = "\n".join(TABLE.splitlines()[:3]) + "\n"
    bare = "D4       Fern                        1      9.00     9.00\nE5       Moss                        2      1.00     2.00\n"
    (table,) = typed_document(TABLE.split("                                     Sub")[0], second, bare).tables
    assert table.pages == (1, 2, 3)
    assert [row[0].text for row in table.rows] == ["A1", "B22", "C3", "A1", "D4", "E5"]
    assert [row[0].page for row in table.rows] == [1, 1, 1, 2, 3, 3]


def test_every_cell_knows_where_its_words_stand() -> None:
    document = typed_document(TABLE)
    cell = document.tables[0].rows[1][1]
    box = words_box(document.pages[0], cell.words)
    assert document.pages[0].words[cell.words[0]].text == "Helleborus"
    assert box[3] - box[1] > 20  # it reaches over two lines


def test_a_page_without_figures_has_no_table() -> None:
    assert typed_document("One   two   three\nfour  five  six\nseven eight nine").tables == ()


def test_the_text_keeps_what_stands_apart_apart() -> None:
    assert document_text(typed_document("Total          12.00")) == "Total   12.00"


WORDS = st.lists(
    st.tuples(st.text("abc1.", min_size=1, max_size=6), st.integers(0, 500), st.integers(0, 700)).map(
        lambda w: Word(w[0], w[1], w[2], w[1] + 6 * len(w[0]), w[2] + 10)
    ),
    max_size=60,
)


@given(WORDS)
def test_no_word_is_lost_or_doubled_on_the_way_into_lines(words: list[Word]) -> None:
    ordered, lines = in_lines(words)
    assert sorted(map(str, ordered)) == sorted(map(str, words))
    covered = [number for line in lines for number in range(line.first, line.last)]
    assert covered == list(range(len(words)))


@given(st.text("AB 12.,\n", max_size=400))
def test_no_page_breaks_the_finding_of_tables(text: str) -> None:
    document = typed_document(text, text)
    assert all(len(row) == len(table.header) for table in document.tables for row in table.rows)


def test_a_document_survives_being_stored() -> None:
    document = typed_document(TABLE)
    assert from_bytes(to_bytes(document)) == document


def test_each_word_knows_its_line() -> None:
    page = typed_page("one two\nthree")
    assert page.line_of == (0, 0, 1)


HEADS_BETWEEN = """
     Item                                     Price
#             Details           Qty   UoM              Amount
     no.                                      each
1    54747    Galanthus         12    pcs    224.60   2695.20
2    K-       Bamboo canes      10    tray   219.03   2190.30
     71031
3    27870    Horticultural     120   bag    237.83  28539.60
"""


def test_heads_of_two_lines_that_stand_above_and_below_the_others_are_whole() -> None:
    (table,) = typed_document(HEADS_BETWEEN).tables
    assert texts(table.header) == ["#", "Item no.", "Details", "Qty", "UoM", "Price each", "Amount"]
    assert [texts(row)[1] for row in table.rows] == ["54747", "K-71031", "27870"]


def test_a_page_whose_header_is_repeated_has_the_columns_of_the_page_before() -> None:
    poorer = "\n".join(HEADS_BETWEEN.splitlines()[:4]) + "\n4    K-       Moss              120   tray    37.00    4440.00\n     8\n"
    (table,) = typed_document(HEADS_BETWEEN, poorer).tables
    assert texts(table.rows[3]) == ["4", "K-8", "Moss", "120", "tray", "37.00", "4440.00"]


def test_words_in_letters_of_one_width_stand_together() -> None:
    line = [Word(text, at * 6.3, 10, (at + len(text)) * 6.3, 19) for at, text in ((0, "Mill"), (5, "Lane"), (10, "8"), (14, "Datum"))]
    _, (found,) = in_lines(line)
    assert [segment.text for segment in found.segments] == ["Mill Lane 8", "Datum"]
