"""From answers to a settled reading, and what becomes of one when a person or a list changes values. Pure; asks nothing, but says what to ask next.

The stages and their order stand in `row.py`.
"""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from typing import Any

from metrikon.core.extraction.deciding.telling import stages
from metrikon.core.extraction.grounding.ground import ground
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.parsing.parse import parse_answer
from metrikon.core.extraction.planning.asking import PATTERNS, Asking, Given, Request, Stage, by_patterns
from metrikon.core.extraction.planning.plan import Plan, plan
from metrikon.core.extraction.row import STAGES
from metrikon.core.extraction.state import MAKER, State, made_by, through
from metrikon.core.records.checks import MAKER as CHECKED
from metrikon.core.records.checks import check_record
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding, stops
from metrikon.core.records.lists import Lists, by_sound, filled
from metrikon.core.records.pointers import get, with_values
from metrikon.core.records.types import RecordType


@dataclass(frozen=True)
class Reading:
    """One record as read: its values, their evidence, what checks found, what parsing changed, how it came about.

    `next`: requests that may make it better; none when it is settled.
    """

    record: dict[str, Any]
    evidence: dict[str, Evidence]
    findings: list[Finding]
    changes: tuple[str, ...] = ()
    notes: list[Finding] = field(default_factory=list)
    stages: tuple[Stage, ...] = ()
    next: tuple[Request, ...] = ()
    heard: bool = False  # whether the document is a recording


def settle(kind: RecordType, answer: str, index: Index, given: Mapping[str, Place] | None = None, sure: Mapping[str, float] | None = None) -> Reading:
    """The reading that one whole answer stands for. Raises `NotUnderstood` when it holds no JSON."""
    parse_answer(answer)
    return settled(kind, index, [by_patterns(answer, given or {}, sure or {})], Asking())


def settled(
    kind: RecordType,
    index: Index,
    given: Sequence[Given],
    asking: Asking,
    planned: Plan | None = None,
) -> Reading:
    """The reading that answers stand for. `planned`: the plan by which was asked, where it is at hand; it holds what was read besides."""
    alone = bool(given) and given[0].stage == PATTERNS
    planned = planned or plan(kind, index, asking.today, asking.context, asking.room, guess=alone)
    state = through(STAGES, State(kind, index, planned, tuple(given), asking))
    open_doubts = [each.finding for each in state.doubts if each.finding.level == "stop" and not _borne_out(state, each.pointer)]
    findings = [*state.findings, *made_by(MAKER, [*open_doubts, *state.beside])]
    told = stages(state, findings)
    return Reading(
        dict(state.record),
        dict(state.evidence),
        findings,
        (*state.changes, *state.mended),
        list(state.notes),
        told,
        state.next,
        index.document.format in RECORDED,
    )


def _borne_out(state: State, pointer: str) -> bool:
    """Whether a value that was doubted was found in the document after all, or follows from others."""
    known = state.evidence.get(pointer)
    return known is not None and known.found


def checked_again(
    kind: RecordType,
    record: dict[str, Any],
    index: Index,
    before: Mapping[str, Evidence],
    by_person: set[str],
    known: Mapping[str, Evidence] | None = None,
) -> Reading:
    """A record after a person changed some values: evidence is looked for anew only for those. `known`: of values that lists say."""
    fresh = ground(kind, record, index)
    evidence = {}
    for pointer, each in fresh.items():
        if pointer in by_person:
            evidence[pointer] = Evidence("person", each.page, each.box, each.quote, 1.0)
        else:
            evidence[pointer] = (known or {}).get(pointer) or before.get(pointer, each)
    return Reading(record, evidence, check_record(kind, record, evidence))


def looked_up(kind: RecordType, reading: Reading, lists: Lists) -> Reading:
    """The reading with what lists say of its fields; the checks are made again where they say something."""
    reading = _by_sound(kind, reading, lists) if reading.heard else reading
    record, known = filled(kind, reading.record, lists)
    if record == reading.record:
        return reading
    evidence = {pointer: each for pointer, each in {**reading.evidence, **known}.items() if get(record, pointer) is not None}
    kept = [each for each in reading.findings if each.maker != CHECKED]
    return replace(reading, record=record, evidence=evidence, findings=[*kept, *check_record(kind, record, evidence)])


def _by_sound(kind: RecordType, reading: Reading, lists: Lists) -> Reading:
    """Names that were heard and written down by their sound, as the lists of known ones have them."""
    record, told = reading.record, []
    for pointer, meant in by_sound(kind, reading.record, lists):
        told.append(f"{pointer}: {get(record, pointer)!r} sounds like {meant!r} on its list, which was taken.")
        record = with_values(record, {pointer: meant})
    return replace(reading, record=dict(record), changes=(*reading.changes, *told)) if told else reading


RECORDED = ("wav", "mp3", "ogg", "flac", "m4a")  # formats of recordings

__all__ = ["Reading", "checked_again", "looked_up", "settle", "settled", "stops"]
