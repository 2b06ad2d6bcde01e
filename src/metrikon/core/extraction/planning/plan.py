"""Plan: what the document says for certain, which columns hold which fields, and what is left to ask a model.

Facts answer first, header fields and rows alike. Where a table was found, its columns are known by
their heads when these are labels of the fields; else the model is asked which column holds which
field, and never to write the rows out. Only what is left is asked, in one request where it fits.
"""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from dataclasses import dataclass, field, replace
from functools import cached_property
from typing import Any

from metrikon.core.documents.model import Table
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.parsing.coerce import Coercion
from metrikon.core.extraction.planning import prompt
from metrikon.core.extraction.planning.asking import ASK, Request
from metrikon.core.extraction.planning.besides import Besides, certain_rows
from metrikon.core.extraction.planning.columns import ListTable, list_table
from metrikon.core.extraction.planning.facts import FactRows, Known, complete, known, known_rows
from metrikon.core.records.types import Field, RecordType, resolved

ROOM = 24_000  # characters of document in one request, unless the model's own limit says otherwise


@dataclass(frozen=True)
class Plan:
    """What is known and what is asked."""

    facts: list[Known]
    rows: Mapping[str, FactRows]  # by the pointer of the list
    tables: Mapping[str, ListTable]
    header: tuple[Field, ...]  # fields that are asked
    lists: tuple[str, ...]  # pointers of lists that are asked
    certain: Mapping[str, list[Any]] = field(default_factory=dict)  # rows that an independent reading is certain of
    besides: Besides = field(default_factory=Besides)
    make: Callable[[Plan], Sequence[Request]] = field(default=lambda made: ())

    @property
    def aside(self) -> tuple[Table, ...]:
        """Tables whose cells are taken as they stand: figures outside of rows are looked for outside of them first."""
        return tuple(each.table for each in self.tables.values() if each.known)

    @cached_property
    def asks(self) -> Sequence[Request]:
        """The first requests; made when they are wanted."""
        return self.make(self) if self.header or self.lists else ()

    @property
    def outcome(self) -> str:
        """The plan in a sentence."""
        said = []
        rows = sum(len(each.rows) for each in self.rows.values())
        if self.facts or rows:
            also = f" and {rows} row{'s' if rows != 1 else ''}" if rows else ""
            said.append(f"the file's own data gives {len(self.facts)} field{'s' if len(self.facts) != 1 else ''}{also}")
        said += [f"{pointer[1:]}: {len(rows)} rows add up and need no model" for pointer, rows in self.certain.items()]
        for pointer, each in self.tables.items():
            if pointer not in self.rows:
                how = "are known by their heads" if each.known else "are asked for"
                said.append(f"{pointer[1:]}: the columns of a table of {len(each.table.rows)} rows {how}")
        said += [f"{pointer[1:]}: no table was found, so its rows are asked for" for pointer in self.lists if pointer not in self.tables]
        said.append(f"{len(self.header)} fields are asked" if self.header or self.lists else "nothing is left to ask a model")
        return "; ".join(said).capitalize()[:1] + "; ".join(said)[1:] + "."


def plan(
    kind: RecordType, index: Index, today: str, context: str = "", room: int = ROOM, besides: Besides | None = None, guess: bool = False
) -> Plan:
    """The plan for one document.

    `room`: characters of document that fit into one request. `besides`: what an independent reading came to. `guess`: whether facts are
    taken by what their names mean, too, where no model can be asked which field they answer.
    """
    beside = besides or Besides()
    certain = certain_rows(kind, beside, index)
    coercion = Coercion(kind, index)
    facts = known(kind, index, coercion, guess)
    rows = known_rows(kind, index, coercion, guess)
    whole = complete(index)
    have = {each.field.shape for each in facts}
    header = tuple(f for f in kind.header if f.shape not in have and not f.lookup and not (whole and f.ours.get("terms")))
    tables = _tables(kind, index, rows)
    tables = {pointer: table for pointer, table in tables.items() if pointer not in certain}
    open_lists = tuple(p for p in kind.lists if p not in rows and p not in certain and not (p in tables and tables[p].known))
    simple = tuple(dict.fromkeys(f.shape.split("/*")[0] for f in kind.fields if "/*" in f.shape))
    asked_lists = tuple(p for p in simple if p in open_lists or (p not in kind.lists and p not in rows))
    return Plan(facts, rows, tables, header, asked_lists, certain, beside, lambda made: _asks(kind, index, made, today, context, room))


def _tables(kind: RecordType, index: Index, rows: Mapping[str, FactRows]) -> dict[str, ListTable]:
    """The table of each list, none for two lists."""
    found: dict[str, ListTable] = {}
    taken: list[Table] = []
    for pointer, fields in kind.lists.items():
        if pointer in rows or pointer.count("/") != 1:
            continue
        schema = resolved(kind.schema, kind.schema["properties"][pointer[1:]])
        best = list_table(pointer, fields, schema, index, taken)
        labelled = any("labels" in each.ours for each in fields)
        if best is not None and ((best.known and labelled) or best.worth_asking(index)):
            # heads that a builder did not name may be those of another table: a model is asked
            found[pointer] = best if labelled else replace(best, known=False)
            taken.append(best.table)
    return found


def _asks(kind: RecordType, index: Index, made: Plan, today: str, context: str, room: int) -> Sequence[Request]:
    schema = asked_schema(kind, made, prompt.most_items(index))
    lines = prompt.field_lines(kind, made.header, made.lists, made.tables, index)
    parts = prompt.parts(index, made.tables, room, _lines_of_rows(index, made), today)
    about = f"{len(made.header)} fields" + (f" and {', '.join(p[1:] for p in made.lists)}" if made.lists else "")
    found = []
    for number, part in enumerate(parts):
        messages = prompt.messages(lines, part.text, prompt.dated(kind, index, today), context, number, len(parts))
        told = f"{about}, part {number + 1} of {len(parts)} of the document" if len(parts) > 1 else about
        found.append(Request(ASK, told, messages, schema, number, pages=part.pages))
    return found


def _lines_of_rows(index: Index, made: Plan) -> list[list[tuple[int, int]]]:
    """The lines that each certain row stands on."""
    found = []
    for pointer, rows in made.certain.items():
        for number in range(len(rows)):
            places = [place for at, place in made.besides.places.items() if at.startswith(f"{pointer}/{number}/")]
            found.append(sorted({(place.page, index.pages[place.page].line_of[word]) for place in places for word in place.words}))
    return found


def asked_schema(kind: RecordType, made: Plan, most: int = 0) -> dict[str, Any]:
    """The JSON Schema of the answer: every field may be null, so that no value has to be made up."""
    fields = {each.shape for each in made.header} | {pointer for pointer in made.lists if pointer.count("/") > 1}
    properties: dict[str, Any] = {}
    for name, part in kind.schema["properties"].items():
        pointer = f"/{name}"
        resolved_part = resolved(kind.schema, part)
        if pointer in made.lists:
            table = made.tables.get(pointer)
            properties[name] = _columns_schema(table) if table is not None else prompt.nullable(kind.schema, resolved_part, most)
        elif pointer in fields or any(shape.startswith(f"{pointer}/") for shape in fields):
            properties[name] = prompt.nullable(kind.schema, resolved_part)
    return _object(properties)


def _columns_schema(table: ListTable) -> dict[str, Any]:
    options = [*table.heads, prompt.NONE]
    properties: dict[str, Any] = {"columns": _object({each.name: {"enum": options} for each in table.fields})}
    if table.odd:
        properties["not_rows"] = {"type": "array", "items": {"enum": [number + 1 for number in table.odd]}, "maxItems": len(table.odd)}
    return _object(properties)


def _object(properties: dict[str, Any]) -> dict[str, Any]:
    return {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}
