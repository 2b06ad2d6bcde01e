"""Documents joined into one: a mail with its attachments, read as one. Each page says which file it is of."""

from __future__ import annotations

from collections.abc import Sequence
from typing import TypeVar

import msgspec

from metrikon.core.documents.model import Cell, Document, Fact, Hidden, Link, Page, Sentence, Start, Table


def joined(first: Document, others: Sequence[tuple[str, Document]], most_pages: int) -> Document:
    """The pages of `first`, then those of the others under their names, numbered on; what does not fit in `most_pages` is told of."""
    made = first
    for name, other in others:
        if len(made.pages) + len(other.pages) > most_pages:
            made = msgspec.structs.replace(made, warnings=(*made.warnings, f"{name} was not read along: it would make more than {most_pages} pages."))
            continue
        made = _added(made, name, other)
    return made


def _added(made: Document, name: str, other: Document) -> Document:
    by = len(made.pages)
    return msgspec.structs.replace(
        made,
        pages=(*made.pages, *(_page(page, by, name) for page in other.pages)),
        tables=(*made.tables, *(_table(table, by) for table in other.tables)),
        facts=(*made.facts, *(_on(fact, by) for fact in other.facts)),
        links=(*made.links, *(_on(link, by) for link in other.links)),
        hidden=(*made.hidden, *(_on(each, by) for each in other.hidden)),
        sentences=(*made.sentences, *(_on(each, by) for each in other.sentences)),
        alike=(*made.alike, *(Start(each.page + by, each.line, each.number, each.of) for each in other.alike)),
        warnings=(*made.warnings, *(f"{name}: {warning}" for warning in other.warnings)),
    )


def _page(page: Page, by: int, name: str) -> Page:
    """A page as one that is drawn from its words, since its own file is within another."""
    return Page(page.number + by, page.width, page.height, "set", page.words, page.lines, 0.0, page.part or name)


T = TypeVar("T", Fact, Link, Hidden, Sentence)


def _on(each: T, by: int) -> T:
    return msgspec.structs.replace(each, page=each.page + by) if each.page else each


def _table(table: Table, by: int) -> Table:
    def moved(cells: tuple[Cell, ...]) -> tuple[Cell, ...]:
        return tuple(Cell(cell.text, cell.page + by if cell.page else 0, cell.words) for cell in cells)

    return Table(moved(table.header), tuple(map(moved, table.rows)), tuple(number + by for number in table.pages), table.types)
