"""From blocks to a document: what readers of files without pages share."""

from __future__ import annotations

from collections.abc import Iterable, Sequence
from dataclasses import dataclass, field

from metrikon.core.documents.model import Document, Fact, Hidden, Link, Part, Table
from metrikon.core.documents.setting import Block, Grid, paragraph, set_blocks
from metrikon.core.documents.types import column_types
from metrikon.ports.reader import Limits, Refused


@dataclass(frozen=True)
class Carried:
    """What a file carries besides its text."""

    facts: tuple[Fact, ...] = ()
    links: tuple[Link, ...] = ()
    hidden: tuple[Hidden, ...] = ()
    parts: tuple[Part, ...] = ()
    warnings: list[str] = field(default_factory=list)


def built(sha256: str, name: str, blocks: Iterable[Block], limits: Limits, carried: Carried | None = None, shown: Sequence[Fact] = ()) -> Document:
    """A document of blocks. `shown`: facts that are set as the first table, so that each has its place.

    Raises `Refused` when it would fill more pages than are allowed.
    """
    carried = carried or Carried()
    first = [Grid((), tuple((fact.name, fact.value) for fact in shown))] if shown else []
    made, enough = set_blocks([*first, *blocks], limits.max_pages)
    if not enough:
        raise Refused("too-many-pages", f"The file would fill more than {limits.max_pages} pages (setting max_pages). Send it in parts.")
    tables = made.tables
    facts = list(carried.facts)
    if shown:
        for fact, row in zip(shown, tables[0].rows, strict=True):
            facts.append(Fact(fact.source, fact.path, fact.name, fact.value, fact.term, row[1].page, row[1].words))
        tables = tables[1:]
    return Document(
        sha256,
        name,
        made.pages,
        tuple(typed(table) for table in tables),
        tuple(carried.warnings),
        tuple(facts),
        carried.links,
        carried.hidden,
        made.sentences,
        carried.parts,
        alike=made.alike,
    )


def row_block(row: Sequence[str]) -> Block:
    """A row that stands outside a table: a line of text when one cell of it is filled, else a table of its own."""
    filled = [cell for cell in row if cell.strip()]
    return paragraph(filled[0]) if len(filled) == 1 else Grid((), (tuple(row),))


def typed(table: Table) -> Table:
    """A table with the types of its columns."""
    return Table(table.header, table.rows, table.pages, column_types([[cell.text for cell in row] for row in table.rows]))


__all__ = ["Carried", "built", "row_block", "typed"]
