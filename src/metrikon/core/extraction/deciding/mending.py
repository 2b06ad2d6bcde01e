"""Repair: what may be asked again, and whether an answer made the record better."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass
from decimal import Decimal
from typing import Any

from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.extraction.parsing.readings import Draft
from metrikon.core.extraction.planning import prompt
from metrikon.core.extraction.planning.asking import ASK, REPAIR, ROWS, SECOND, Asking, Given, Request
from metrikon.core.extraction.planning.plan import Plan
from metrikon.core.extraction.planning.second import ask_again
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get
from metrikon.core.records.sums import Reckoned
from metrikon.core.records.types import Field, RecordType, resolved

TRIES = 3  # answers to one request before it is given up
MOST_ROWS = 40  # rows that are asked to be written out to mend a sum
MENDABLE = {"required", "type", "format", "unsupported", "sum", "order", "left out", "unusable", "pattern", "check digit"}
ROW_TROUBLE = {"required", "type", "format", "unsupported", "product", "sum", "unusable"}


@dataclass(frozen=True)
class Assessed:
    """A record with its evidence, findings and arithmetic; `notes` are the findings that come from reading, not from checks."""

    record: dict[str, Any]
    evidence: dict[str, Evidence]
    findings: list[Finding]
    notes: list[Finding]
    reckoned: Reckoned

    @property
    def stopping(self) -> int:
        return sum(1 for each in self.findings if each.level == "stop")

    @property
    def grounded(self) -> int:
        return sum(1 for each in self.evidence.values() if each.found)


def better(
    kind: RecordType, before: Assessed, values: dict[str, Any], answer: Given, assess: Callable[[dict[str, Any]], Assessed], told: list[str]
) -> Assessed | None:
    """The record with values of a repair, if that is better: fewer findings that stop it, each field by itself and then all."""
    wanted = {pointer.split("/")[1] for pointer in answer.fields}
    changes = {name: value for name, value in values.items() if name in wanted and value != before.record.get(name)}
    best = before
    for tried in [changes, *({name: value} for name, value in changes.items())] if len(changes) > 1 else [changes] if changes else []:
        now = assess(_ordered(kind, {**best.record, **tried}))
        if (now.stopping, -now.grounded) < (best.stopping, -best.grounded):
            for name, value in tried.items():
                told.append(f"/{name}: {_short(best.record.get(name))} became {_short(value)}, read again by {answer.model}.")
            best = now
            if not best.stopping:
                break
    return best if best is not before else None


def _ordered(kind: RecordType, record: dict[str, Any]) -> dict[str, Any]:
    return {name: record[name] for name in kind.schema["properties"] if record.get(name) is not None}


def _short(value: Any) -> str:
    return "nothing" if value is None else repr(str(value)[:40])


def rows_differ(kind: RecordType, record: dict[str, Any], made: Draft) -> Iterator[Finding]:
    """Rows read from a table and rows that a model wrote out, where their figures are not the same."""
    for pointer, written in made.written.items():
        rows = record.get(pointer[1:]) or []
        amounts = [each.name for each in kind.lists.get(pointer, ()) if each.kind == "amount"]
        if len(rows) != len(written):
            message = f"The table holds {len(rows)} rows, but the model wrote out {len(written)}. Compare them with the page."
            yield Finding("rows differ", "stop", message, (pointer,), {"table": str(len(rows)), "written": str(len(written))})
            continue
        for number, (row, other) in enumerate(zip(rows, written, strict=True)):
            for name in amounts:
                one, two = row.get(name), other.get(name) if isinstance(other, dict) else None
                if isinstance(one, Decimal | int) and isinstance(two, Decimal | int) and one != two:
                    message = f"Row {number + 1}: {name.replace('_', ' ')} is {one} in the table, but the model wrote {two}."
                    yield Finding("rows differ", "warn", message, (f"{pointer}/{number}/{name}",), {"table": str(one), "written": str(two)})


def following(kind: RecordType, index: Index, plan: Plan, made: Draft, now: Assessed, given: Sequence[Given], asking: Asking) -> Iterator[Request]:
    """What to ask next: answers that were not understood, rows whose columns were not told, then the fields that failed."""
    if not given:
        return
    again = list(_again(plan, made))
    if again:
        yield from again
        return
    if made.unread:
        return  # it was asked often enough: a person must look
    rest = _cut_short(kind, index, plan, made, given, asking)
    if rest is not None:
        yield rest
        return
    if not any(each.stage == ROWS for each in given):
        lists = [pointer for pointer in (*plan.lists, *plan.tables) if _rows_wanted(pointer, plan, made, now)]
        if lists:
            yield from _rows_asked(kind, index, plan, dict.fromkeys(lists), asking)
            return
    if asking.second and not any(each.stage == SECOND for each in given):
        second = list(ask_again(kind, index, now.record, asking))
        if second:
            yield from second
            return
    rounds = sum(1 for each in given if each.stage == REPAIR)
    fields = _failed(kind, plan, now)
    if fields and rounds < asking.repairs:
        yield _repair(kind, index, plan, now, fields, rounds, asking)


def _cut_short(kind: RecordType, index: Index, plan: Plan, made: Draft, given: Sequence[Given], asking: Asking) -> Request | None:
    """What an answer that was cut off never came to: asked once more, by itself, of a document that is asked about in one part."""
    if not made.cut_off or len(plan.asks) != 1 or any(each.part for each in given):
        return None
    come = made.answered
    header = [each for each in plan.header if each.shape.split("/")[1] not in come]
    lists = [pointer for pointer in plan.lists if pointer[1:] not in come and pointer not in plan.tables]
    if not come or not header:
        return None
    names = dict.fromkeys([*(each.shape.split("/")[1] for each in header), *(pointer[1:] for pointer in lists)])
    asked = plan.asks[0].schema["properties"]
    properties = {name: asked[name] for name in names if name in asked}
    schema = {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}
    lines = prompt.field_lines(kind, header, lists, {}, index)
    shown = prompt.parts(index, plan.tables, asking.room, today=asking.today)[0]
    messages = prompt.messages(lines, shown.text, prompt.dated(kind, index, asking.today), asking.context)
    return Request(ASK, f"{len(properties)} fields that an answer cut off never came to", messages, schema, 1, pages=shown.pages)


def _again(plan: Plan, made: Draft) -> Iterator[Request]:
    for each, problem in made.unread:
        if each.stage == ASK and each.tries + 1 < TRIES and each.part < len(plan.asks):
            first = plan.asks[each.part]
            yield Request(
                ASK,
                f"again, because {problem[:1].lower()}{problem[1:]}",
                prompt.again(first.messages, each.text, problem),
                first.schema,
                each.part,
                tries=each.tries + 1,
                pages=first.pages,
            )


def _rows_wanted(pointer: str, plan: Plan, made: Draft, now: Assessed) -> bool:
    if pointer in made.open_lists:
        return True
    if pointer not in plan.tables or pointer in plan.rows:
        return False
    trouble = [each for each in now.findings if each.level == "stop" and each.check in ROW_TROUBLE and _in_rows(each, pointer)]
    count = len(now.record.get(pointer[1:]) or ())
    return bool(trouble) and count <= MOST_ROWS


def _in_rows(finding: Finding, pointer: str) -> bool:
    return any(field == pointer or field.startswith(f"{pointer}/") for field in finding.fields)


def _rows_asked(kind: RecordType, index: Index, plan: Plan, lists: Any, asking: Asking) -> Iterator[Request]:
    """The rows of lists written out, from the whole document in as many parts as are needed."""
    properties = {
        p[1:]: prompt.nullable(kind.schema, resolved(kind.schema, kind.schema["properties"][p[1:]]), prompt.most_items(index)) for p in lists
    }
    schema = {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}
    lines = prompt.field_lines(kind, (), tuple(lists), {}, index)
    parts = prompt.parts(index, {}, asking.room, today=asking.today)
    for number, part in enumerate(parts):
        messages = prompt.messages(lines, part.text, prompt.dated(kind, index, asking.today), asking.context, number, len(parts))
        yield Request(ROWS, f"the rows of {', '.join(properties)} written out", messages, schema, number, pages=part.pages)


def _failed(kind: RecordType, plan: Plan, now: Assessed) -> list[Field]:
    """Header fields that a finding names and that a model was asked for."""
    asked = {each.shape: each for each in plan.header}
    named = dict.fromkeys(pointer for each in now.findings if each.level == "stop" and each.check in MENDABLE for pointer in each.fields)
    return [asked[pointer] for pointer in named if pointer in asked]


def _repair(kind: RecordType, index: Index, plan: Plan, now: Assessed, fields: Sequence[Field], rounds: int, asking: Asking) -> Request:
    shapes = tuple(each.shape for each in fields)
    findings = [each for each in now.findings if each.level == "stop" and set(each.fields) & set(shapes)]
    places = [spot for each in fields for spot in _spots(index, now, each)]
    part = prompt.repair_part(index, fields, places, plan.tables)
    properties = {}
    for each in fields:
        name = each.shape.split("/")[1]
        properties[name] = prompt.nullable(kind.schema, kind.schema["properties"][name])
    schema = {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}
    lines = prompt.field_lines(kind, fields, (), {}, index)
    messages = prompt.repair_messages(lines, findings, part.text[: asking.room], prompt.dated(kind, index, asking.today), asking.context)
    return Request(REPAIR, f"{', '.join(each.title for each in fields)} read again", messages, schema, 0, shapes, rounds, part.pages)


def _spots(index: Index, now: Assessed, field: Field) -> list[tuple[int, int]]:
    """Where the value of a field stands now."""
    value = get(now.record, field.shape)
    if value is None:
        return []
    return [(place.page, place.words[0]) for place in index.find_text(squeezed(str(value)))][:3]
