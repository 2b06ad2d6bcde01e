"""Reading order: columns are read one after the other; tables and forms are left as they are."""

from __future__ import annotations

from metrikon.core.documents.lines import in_lines
from metrikon.core.documents.model import Page, Word
from metrikon.core.documents.order import in_order
from metrikon.core.documents.text import page_text

LEFT = [
    "The glasshouse was built in the",
    "year of the great frost and has",
    "been mended many times since by",
    "the gardeners themselves, who had",
    "no money for glass and used old",
    "windows from the school instead.",
    "They still let the light through.",
]
RIGHT = [
    "In the walled garden the beds are",
    "laid out as they were a hundred",
    "years ago, with pears on the south",
    "wall and figs by the boiler house.",
    "Visitors may pick up fallen fruit",
    "but are asked not to shake trees,",
    "since some of them are very old.",
]


def page(rows: list[list[tuple[float, str]]], top: float = 100.0, pitch: float = 14.0) -> Page:
    words = []
    for number, row in enumerate(rows):
        for x, text in row:
            at = x
            for word in text.split():
                words.append(Word(word, at, top + number * pitch, at + 5.5 * len(word), top + number * pitch + 10))
                at += 5.5 * (len(word) + 1) - 2
    ordered, lines = in_lines(words)
    return Page(1, 595, 842, "text", ordered, lines)


def lines_of(made: Page) -> list[str]:
    return page_text(made).splitlines()


def test_two_columns_are_read_one_after_the_other() -> None:
    rows = [[(50.0, a), (320.0, b)] for a, b in zip(LEFT, RIGHT, strict=True)]
    assert lines_of(in_order(page(rows))) == LEFT + RIGHT


def test_a_heading_over_both_columns_comes_first_and_a_footer_last() -> None:
    rows = [[(50.0, "A walk through the garden for those who come for the first time and have an hour")]]
    rows += [[(50.0, a), (320.0, b)] for a, b in zip(LEFT, RIGHT, strict=True)]
    rows += [[(50.0, "Printed by the friends of the garden in the spring of the year, all rights are with them")]]
    found = lines_of(in_order(page(rows)))
    assert found[0].startswith("A walk")
    assert found[1 : 1 + len(LEFT)] == LEFT
    assert found[-1].startswith("Printed by")


def test_the_words_are_the_same_and_their_numbers_fit() -> None:
    rows = [[(50.0, a), (320.0, b)] for a, b in zip(LEFT, RIGHT, strict=True)]
    before, after = page(rows), in_order(page(rows))
    assert sorted(word.box for word in before.words) == sorted(word.box for word in after.words)
    for line in after.lines:
        for segment in line.segments:
            assert " ".join(word.text for word in after.words[segment.first : segment.last]) == segment.text


def test_a_table_is_not_taken_for_columns() -> None:
    rows = [[(50.0, "Description of the plant"), (300.0, "Pieces"), (400.0, "Price"), (480.0, "Amount")]]
    rows += [[(50.0, f"A fern of the kind {n}"), (300.0, str(n)), (400.0, "4.50"), (480.0, f"{4.5 * n:.2f}")] for n in range(12)]
    assert in_order(page(rows)) == page(rows)


def test_labels_with_values_are_not_taken_for_columns() -> None:
    rows = [[(50.0, f"Label number {n}:"), (320.0, f"value of it {n}")] for n in range(10)]
    assert in_order(page(rows)) == page(rows)


def test_a_few_lines_side_by_side_stay_lines() -> None:
    rows = [[(50.0, a), (320.0, b)] for a, b in zip(LEFT[:3], RIGHT[:3], strict=True)]
    assert in_order(page(rows)) == page(rows)
