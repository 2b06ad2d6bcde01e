"""Repair: what may be asked again, and whether an answer made the record better."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import replace
from functools import cache
from typing import Any

from metrikon.core.extraction.doubting.row import every_check
from metrikon.core.extraction.indexing.index import Index, squeezed
from metrikon.core.extraction.parsing.readings import Draft
from metrikon.core.extraction.planning import prompt
from metrikon.core.extraction.planning.asking import ASK, DOUBT, REPAIR, ROWS, SECOND, Asking, Given, Request
from metrikon.core.extraction.planning.closed import question
from metrikon.core.extraction.planning.plan import Plan
from metrikon.core.extraction.planning.second import ask_again
from metrikon.core.extraction.state import State
from metrikon.core.records.findings import Finding
from metrikon.core.records.pointers import get
from metrikon.core.records.types import Field, RecordType, resolved

TRIES = 3  # answers to one request before it is given up
MOST_ROWS = 40  # rows that are asked to be written out to mend a sum


@cache
def mendable() -> frozenset[str]:
    """Findings that a model asked once more can mend, as their checks say."""
    return frozenset(name for check in every_check() for name in check.mendable)


@cache
def of_rows() -> frozenset[str]:
    """Findings for which the rows of a table are asked for anew."""
    return frozenset(name for check in every_check() for name in check.of_rows)


def mend(state: State, again: Callable[[State, dict[str, Any]], State]) -> State:
    """The record with values of repairs, where it is better with them. `again`: the stages of a record gone through with another one."""
    for answer, values in state.draft.repairs:
        state = _better(state, values, answer, again)
    return state


def _better(state: State, values: dict[str, Any], answer: Given, again: Callable[[State, dict[str, Any]], State]) -> State:
    """The record with values of a repair, if that is better: fewer findings that stop it, each field by itself and then all."""
    wanted = {pointer.split("/")[1] for pointer in answer.fields}
    changes = {name: value for name, value in values.items() if name in wanted and value != state.record.get(name)}
    best = state
    for tried in [changes, *({name: value} for name, value in changes.items())] if len(changes) > 1 else [changes] if changes else []:
        now = again(best, _ordered(state.kind, {**best.record, **tried}))
        if (now.stopping, -now.grounded) < (best.stopping, -best.grounded):
            told = [
                f"/{name}: {_short(best.record.get(name))} became {_short(value)}, read again by {answer.model}." for name, value in tried.items()
            ]
            best = replace(now, mended=(*best.mended, *told))
            if not best.stopping:
                break
    return best


def _ordered(kind: RecordType, record: dict[str, Any]) -> dict[str, Any]:
    return {name: record[name] for name in kind.schema["properties"] if record.get(name) is not None}


def _short(value: Any) -> str:
    return "nothing" if value is None else repr(str(value)[:40])


def following(state: State) -> Iterator[Request]:
    """What to ask next: answers that were not understood, rows whose columns were not told, then the fields that failed."""
    kind, index, plan, made, asking = state.kind, state.index, state.planned, state.draft, state.asking
    if not state.given:
        return
    again = list(_again(plan, made))
    if again:
        yield from again
        return
    if made.unread:
        return  # it was asked often enough: a person must look
    rest = _cut_short(kind, index, plan, made, state.given, asking)
    if rest is not None:
        yield rest
        return
    if not _asked(state, ROWS):
        lists = [pointer for pointer in (*plan.lists, *plan.tables) if _rows_wanted(pointer, state)]
        if lists:
            yield from _rows_asked(kind, index, plan, dict.fromkeys(lists), asking)
            return
    if asking.second and not _asked(state, SECOND):
        second = list(ask_again(kind, index, state.record, asking))
        if second:
            yield from second
            return
    if state.doubts and not _asked(state, DOUBT) and (closed := question(state, asking)) is not None:
        yield closed
        return
    rounds = sum(1 for each in state.given if each.stage == REPAIR)
    fields = _failed(state)
    if fields and rounds < asking.repairs:
        yield _repair(state, fields, rounds)


def _asked(state: State, stage: str) -> bool:
    return any(each.stage == stage for each in state.given)


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


def _rows_wanted(pointer: str, state: State) -> bool:
    if pointer in state.draft.open_lists:
        return True
    if pointer not in state.planned.tables or pointer in state.planned.rows:
        return False
    troubles = of_rows()
    trouble = [each for each in state.findings if each.level == "stop" and each.check in troubles and _in_rows(each, pointer)]
    count = len(state.record.get(pointer[1:]) or ())
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


def _failed(state: State) -> list[Field]:
    """Header fields that a finding names and that a model was asked for."""
    asked = {each.shape: each for each in state.planned.header}
    named = dict.fromkeys(pointer for each in state.findings if each.level == "stop" and each.check in mendable() for pointer in each.fields)
    return [asked[pointer] for pointer in named if pointer in asked]


def _repair(state: State, fields: Sequence[Field], rounds: int) -> Request:
    kind, index, asking = state.kind, state.index, state.asking
    shapes = tuple(each.shape for each in fields)
    findings = [each for each in state.findings if each.level == "stop" and set(each.fields) & set(shapes)]
    places = [spot for each in fields for spot in _spots(state, each)]
    part = prompt.repair_part(index, fields, places, state.planned.tables)
    properties = {}
    for each in fields:
        name = each.shape.split("/")[1]
        properties[name] = prompt.nullable(kind.schema, kind.schema["properties"][name])
    schema = {"type": "object", "properties": properties, "required": list(properties), "additionalProperties": False}
    lines = prompt.field_lines(kind, fields, (), {}, index)
    messages = prompt.repair_messages(lines, findings, part.text[: asking.room], prompt.dated(kind, index, asking.today), asking.context)
    return Request(REPAIR, f"{', '.join(each.title for each in fields)} read again", messages, schema, 0, shapes, rounds, part.pages)


def _spots(state: State, field: Field) -> list[tuple[int, int]]:
    """Where the value of a field stands now."""
    value = get(state.record, field.shape)
    if value is None:
        return []
    return [(place.page, place.words[0]) for place in state.index.find_text(squeezed(str(value)))][:3]
