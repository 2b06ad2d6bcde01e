"""Evidence for all values of a record: cells and facts where they stand, the others looked up."""

from __future__ import annotations

from collections.abc import Collection, Iterator, Mapping
from dataclasses import replace
from decimal import Decimal
from typing import Any

from metrikon.core.documents.model import Page, words_box
from metrikon.core.extraction.grounding.between import years_since
from metrikon.core.extraction.grounding.ground import CROSSED_OUT, ground
from metrikon.core.extraction.planning.facts import fact_evidence
from metrikon.core.extraction.state import State
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.pointers import escape, get, leaves, shape, with_values

COUNTED = 0.7  # of years that are counted from the first one named: others may be named, too


def ground_all(state: State) -> State:
    """With the evidence of every value, and how surely the reader itself read it."""
    index, planned, record = state.index, state.planned, state.record
    cells = {pointer: place for pointer, place in state.places.items() if pointer in state.cells}
    known = {*cells, *(at for rows in planned.rows.values() for at in rows.facts)}
    searched = {name: value for name, value in record.items() if not _all_known(name, value, known)}
    evidence = ground(state.kind, searched, index, state.places, planned.aside)
    for pointer, place in cells.items():
        evidence[pointer] = _cell(index.pages[place.page], place.words)
    for each in planned.facts:
        if each.fact.words or not evidence[each.field.shape].found:
            evidence[each.field.shape] = fact_evidence(each.fact, index)
    for rows in planned.rows.values():
        evidence.update({pointer: fact_evidence(fact, index) for pointer, fact in rows.facts.items()})
    evidence.update(_by_today(state, evidence))
    return replace(state, evidence=evidence)


def _by_today(state: State, evidence: Mapping[str, Evidence]) -> Iterator[tuple[str, Evidence]]:
    """Evidence for numbers of years that are counted up to the day that it is."""
    for pointer, each in evidence.items():
        field = state.kind.by_shape.get(shape(pointer))
        value = None if each.found or field is None or field.kind != "amount" else get(state.record, pointer)
        if field is not None and isinstance(value, Decimal | int):
            told = years_since(field, Decimal(value), state.index, state.asking.today)
            if told is not None:
                yield pointer, Evidence("derived", quote=told, sure=COUNTED)


def _all_known(name: str, value: Any, known: Collection[str]) -> bool:
    """Whether the place of every value of a list is known: then none has to be looked for."""
    return isinstance(value, list) and bool(value) and all(at in known for at, each in leaves(value, f"/{escape(name)}") if each is not None)


def put(state: State, values: Mapping[str, Any]) -> State:
    """With some values in the place of others, by pointer, and evidence anew."""
    return ground_all(replace(state, record=with_values(state.record, values))) if values else state


def _cell(page: Page, numbers: tuple[int, ...]) -> Evidence:
    """Evidence for a cell as it stands."""
    if len(numbers) == 1:
        word = page.words[numbers[0]]
        sure = word.sure if not word.struck else word.sure * CROSSED_OUT
        return Evidence("printed", page.number, word.box, word.text, sure if sure == 1 else round(sure, 3))
    words = [page.words[n] for n in numbers]
    sure = min(word.sure for word in words) * (CROSSED_OUT if any(word.struck for word in words) else 1.0)
    return Evidence("printed", page.number, words_box(page, numbers), " ".join(word.text for word in words), round(sure, 3))
