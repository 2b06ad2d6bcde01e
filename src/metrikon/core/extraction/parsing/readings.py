"""Answers made into one record: the parts of a long document merged, rows taken from tables or as they were written."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from typing import Any

from metrikon.core.extraction.grounding.ground import ground
from metrikon.core.extraction.indexing.index import Index, Place, squeezed
from metrikon.core.extraction.parsing.chances import chance_of, chances
from metrikon.core.extraction.parsing.coerce import Coercion
from metrikon.core.extraction.parsing.parse import NotUnderstood, parse_answer
from metrikon.core.extraction.parsing.repeats import without_repeats
from metrikon.core.extraction.parsing.sections import rows_of_another_section
from metrikon.core.extraction.planning.asking import ASK, DOUBT, REPAIR, ROWS, SECOND, Given
from metrikon.core.extraction.planning.besides import merged_rows
from metrikon.core.extraction.planning.columns import ListTable, columns_said, read_rows
from metrikon.core.extraction.planning.plan import Plan
from metrikon.core.records.adding import ended
from metrikon.core.records.pointers import get, leaves, shape
from metrikon.core.records.types import RecordType, resolved
from metrikon.core.values.text import name_key

DOUBTED = 0.9  # probability of a value's least likely token below which a model was not sure of it
UNASKED = object()  # stands for no answer at all, which is not null


@dataclass
class Draft:
    """A record in the making, and what is known of where its values came from."""

    record: dict[str, Any] = field(default_factory=dict)
    places: dict[str, Place] = field(default_factory=dict)
    cells: set[str] = field(default_factory=set)  # pointers of values that are cells of a table as they stand
    changes: list[str] = field(default_factory=list)
    dropped: list[str] = field(default_factory=list)
    cut_off: bool = False
    answered: set[str] = field(default_factory=set)  # names that the first answer came to
    unread: list[tuple[Given, str]] = field(default_factory=list)
    open_lists: list[str] = field(default_factory=list)  # lists whose columns were not told: their rows must be written out
    written: dict[str, list[Any]] = field(default_factory=dict)  # rows as a model wrote them, besides those of the table
    repairs: list[tuple[Given, dict[str, Any]]] = field(default_factory=list)
    choices: dict[str, Any] = field(default_factory=dict)  # answers to closed questions, by pointer
    second: list[dict[str, Any]] = field(default_factory=list)  # what a second reading came to
    tokens: list[tuple[str, tuple[tuple[int, float], ...]]] = field(default_factory=list)

    def chosen(self, pointer: str) -> Any:
        """What a closed question about the value at a pointer was answered with; `UNASKED` where none was."""
        return self.choices.get(pointer, UNASKED)

    def doubted(self, pointer: str, value: Any) -> bool:
        """Whether the model itself was unsure of a value, by the probabilities of its tokens; what it was sure of is never replaced."""
        if not self.tokens:
            return False
        told = chance_of(chances(self.tokens), shape(pointer), value)
        return told is not None and told < DOUBTED


def draft(kind: RecordType, index: Index, plan: Plan, given: Sequence[Given]) -> Draft:
    """What all answers together say."""
    made = Draft()
    answers: list[tuple[Given, Any]] = []
    for each in latest(given):
        try:
            parsed = parse_answer(each.text)
        except NotUnderstood as error:
            if each.stage == DOUBT:
                continue  # what was doubted stays so
            made.unread.append((each, str(error)))
            continue
        if each.stage == ASK and not _answers(plan, each, parsed.value):
            made.unread.append((each, "The answer holds none of the fields that were asked for."))
            continue
        answers.append((each, parsed.value))
        if each.stage == ASK and isinstance(parsed.value, dict):
            made.answered |= set(parsed.value)
        made.changes.extend(parsed.changes)
        made.cut_off = made.cut_off or (parsed.cut_off and each.stage not in (REPAIR, SECOND, DOUBT))
        if each.stage == ASK and each.tokens:
            made.tokens.append((each.text, each.tokens))
    said = {pointer: _said(pointer, table, answers) for pointer, table in plan.tables.items()}
    records = [_fitted(kind, index, plan, made, value) for each, value in answers if each.stage == ASK]
    made.record = _merged(kind, index, records)
    for each, value in answers:
        if each.stage == ROWS:
            made.written.update(
                {f"/{name}": rows for name, rows in _fitted(kind, index, plan, made, value, rows=True).items() if isinstance(rows, list)}
            )
        elif each.stage == SECOND:
            made.second.append(Coercion(kind, index).record(value))
        elif each.stage == DOUBT:
            chosen = Coercion(kind, index).record(value)
            made.choices.update({pointer: get(chosen, pointer) for pointer in each.fields})
        elif each.stage == REPAIR:
            made.repairs.append((each, _fitted(kind, index, plan, made, value)))
    _without_repeats(kind, index, made)
    _without_other_sections(kind, index, made)
    _rows(kind, index, plan, made, said, bool(records))
    for row, still, end in ended(kind, made.record):
        if made.doubted(still.shape, True):
            row[still.name] = False
            made.changes.append(f"{still.shape}: it was given as yes, but {end.title} {row[end.name]} is given; it is no.")
    made.record = {name: made.record[name] for name in kind.schema["properties"] if name in made.record}
    return made


def _answers(plan: Plan, given: Given, value: Any) -> bool:
    """Whether an answer holds any of the names that were asked for; a value of null is one, a missing name is none."""
    if value in ({}, [], [{}]):
        return given.part >= len(plan.asks) or not plan.asks[given.part].schema["properties"]
    return True


def _without_repeats(kind: RecordType, index: Index, made: Draft) -> None:
    """Lists without what a model said again and again."""
    for name, rows in [*made.record.items(), *((pointer[1:], rows) for pointer, rows in made.written.items())]:
        if not isinstance(rows, list) or len(rows) < 2:
            continue
        kept = without_repeats(kind.lists.get(f"/{name}", ()), rows, index)
        if len(kept) < len(rows):
            made.changes.append(f"/{name}: {len(rows) - len(kept)} rows that were said again were left out.")
            for into, at in ((made.record, name), (made.written, f"/{name}")):
                if into.get(at) is rows:
                    into[at] = kept


def _without_other_sections(kind: RecordType, index: Index, made: Draft) -> None:
    """Lists of posts and schools without what stands under the heading of something else."""
    for pointer, fields in kind.lists.items():
        rows = made.record.get(pointer[1:]) if pointer.count("/") == 1 else None
        if not isinstance(rows, list) or len(rows) < 2:
            continue
        about = str(resolved(kind.schema, kind.schema["properties"][pointer[1:]]).get("description") or "")
        others = {
            number
            for number in rows_of_another_section(pointer[1:], fields, about, rows, index)
            if any(made.doubted(f"{pointer}/*{at}", value) for at, value in leaves(rows[number]))
        }
        for number in others:
            told = next((str(value) for _, value in leaves(rows[number])), "")
            made.changes.append(f"{pointer}: {told!r} stands under the heading of something else and was left out.")
        made.record[pointer[1:]] = [row for number, row in enumerate(rows) if number not in others]


def latest(given: Sequence[Given]) -> list[Given]:
    """Of answers to the same request the last one; repairs are all kept."""
    found: dict[tuple[object, ...], Given] = {}
    for number, each in enumerate(given):
        found[(each.stage, each.part, number if each.stage == REPAIR else 0)] = each
    return list(found.values())


def _fitted(kind: RecordType, index: Index, plan: Plan, made: Draft, value: Any, rows: bool = False) -> dict[str, Any]:
    """An answer fitted to the record type, without what it says of columns."""
    coercion = Coercion(kind, index)
    body = coercion.unwrapped(value)
    if isinstance(body, dict) and not rows:
        skipped = {name_key(p[1:]) for p, table in plan.tables.items() if not isinstance(_own(body, p[1:]), list) or table.known}
        body = {name: part for name, part in body.items() if name_key(str(name)) not in skipped}
    record = coercion.record(body)
    made.changes.extend(coercion.changes)
    made.dropped.extend(pointer for pointer in coercion.dropped if pointer not in made.dropped)
    return record


def _own(body: Mapping[str, Any], name: str) -> Any:
    return next((part for key, part in body.items() if name_key(str(key)) == name_key(name)), None)


def _said(pointer: str, table: ListTable, answers: Sequence[tuple[Given, Any]]) -> tuple[dict[str, int], list[int]] | None:
    """The columns of a table by all answers: what most parts say, the first where they differ."""
    for each, value in answers:
        if each.stage != ASK or not isinstance(value, dict):
            continue
        own = _own(value, pointer[1:])
        if own is None and "columns" in value:
            own = value
        found = columns_said(own, table)
        if found is not None and found[0]:
            return found
    return None


def _rows(kind: RecordType, index: Index, plan: Plan, made: Draft, said: Mapping[str, Any], asked: bool) -> None:
    """Rows of every list: facts, then cells of a table, then as they were written."""
    for pointer in kind.lists:
        name = pointer[1:]
        if pointer in plan.certain:
            made.record[name] = plan.certain[pointer]
            own = {at: place for at, place in plan.besides.places.items() if at.startswith(f"{pointer}/")}
            made.places.update(own)
            made.cells.update(own)
            continue
        facts = plan.rows.get(pointer)
        if facts is not None:
            made.record[name] = facts.rows
            continue
        table = plan.tables.get(pointer)
        if table is None:
            if pointer in made.written:
                made.record[name] = made.written.pop(pointer)
        else:
            _from_table(index, made, table, said.get(pointer), asked)
        merged = merged_rows(pointer, kind.lists[pointer], made.record.get(name) or (), plan.besides, index) if asked else None
        if merged is not None and not any("labels" in each.ours for each in kind.lists[pointer]):
            made.record[name] = merged[0]
            made.places.update(merged[1])
            made.cells = {at for at in made.cells if not at.startswith(f"{pointer}/")} | set(merged[1])


def _from_table(index: Index, made: Draft, table: ListTable, said: tuple[dict[str, int], list[int]] | None, asked: bool) -> None:
    name = table.pointer[1:]
    columns, left_out = (dict(table.columns), []) if table.known else said or ({}, [])
    missing = [each.name for each in table.fields if each.required and each.name not in columns]
    if missing and not table.known:
        heads = {each: table.columns[each] for each in missing if each in table.columns and table.columns[each] not in columns.values()}
        if heads and columns:
            columns = {**columns, **heads}
            made.changes.append(f"/{name}: the columns of {', '.join(heads)} were taken from their heads.")
            missing = [each for each in missing if each not in heads]
    rows, places, _ = read_rows(table.pointer, table.fields, table.table, columns, index, table.not_rows, left_out) if columns else ([], {}, {})
    if rows and not missing:
        for number in left_out:
            made.changes.append(f"/{name}: row {number + 1} of the table was left out, because the model says that it is none.")
        made.record[name] = rows
        made.places.update(places)
        made.cells.update(places)
        return
    if table.pointer in made.written:
        made.record[name] = made.written.pop(table.pointer)
    elif asked and name not in made.record:
        made.open_lists.append(table.pointer)
        if rows:
            made.record[name] = rows
            made.places.update(places)


def _merged(kind: RecordType, index: Index, records: Sequence[dict[str, Any]]) -> dict[str, Any]:
    """One record from those of the parts: scalars where they are grounded best, rows one after the other."""
    if len(records) < 2:
        return dict(records[0]) if records else {}
    best: dict[str, Any] = {}
    sure: dict[str, float] = {}
    for record in records:
        evidence = ground(kind, {name: value for name, value in record.items() if not isinstance(value, list)}, index)
        for name, value in record.items():
            if isinstance(value, list):
                best[name] = _joined(best.get(name) or [], value)
                continue
            own = [evidence[pointer].sure for pointer, _ in leaves({name: value}) if pointer in evidence]
            found = sum(own) / len(own) if own else 0.0
            if name not in best or found > sure.get(name, 0.0):
                best[name], sure[name] = value, found
    return best


def _joined(before: list[Any], after: list[Any]) -> list[Any]:
    """Rows of two parts; rows at their border that were read in both stand once."""
    first, then = [_squeezed_row(row) for row in before], [_squeezed_row(row) for row in after]
    for count in range(min(len(before), len(after)), 0, -1):
        if first[-count:] == then[:count]:
            return [*before, *after[count:]]
    return [*before, *after]


def _squeezed_row(row: Any) -> tuple[str, ...]:
    return tuple(squeezed(str(value)) for _, value in leaves(row))
