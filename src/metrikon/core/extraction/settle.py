"""From answers to a settled reading: parse → ground → check → repair → settle. Pure; asks nothing, but says what to ask next."""

from __future__ import annotations

import copy
from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field, replace
from decimal import Decimal
from typing import Any

import msgspec

from metrikon.core.documents.model import Page, words_box
from metrikon.core.extraction.deciding import mending
from metrikon.core.extraction.deciding.stages import stages
from metrikon.core.extraction.deciding.trust import trusted
from metrikon.core.extraction.doubting.belonging import belonging
from metrikon.core.extraction.doubting.doubts import inventions, of_its_own_date, of_orders, read_otherwise, unsure
from metrikon.core.extraction.doubting.in_parts import of_their_parts
from metrikon.core.extraction.doubting.instead import supported_instead
from metrikon.core.extraction.doubting.of_document import hidden_text, left_out, several_documents
from metrikon.core.extraction.doubting.rows_instead import rows_instead
from metrikon.core.extraction.doubting.takenback import of_what_was_taken_back
from metrikon.core.extraction.grounding.defaults import open_as_no, with_defaults
from metrikon.core.extraction.grounding.derived import derived_evidence, with_derived
from metrikon.core.extraction.grounding.ground import CROSSED_OUT, by_label, ground
from metrikon.core.extraction.grounding.retyped import put_right
from metrikon.core.extraction.indexing.index import Index, Place
from metrikon.core.extraction.indexing.orders import orders
from metrikon.core.extraction.parsing.coerce import Coercion
from metrikon.core.extraction.parsing.parse import parse_answer
from metrikon.core.extraction.parsing.readings import Draft, draft
from metrikon.core.extraction.planning import second
from metrikon.core.extraction.planning.asking import PATTERNS, Asking, Given, Request, Stage, by_patterns
from metrikon.core.extraction.planning.besides import Besides
from metrikon.core.extraction.planning.facts import contradicted, fact_evidence, taken
from metrikon.core.extraction.planning.plan import Plan, plan
from metrikon.core.records.adding import unsaid
from metrikon.core.records.checks import check_record
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding, stops
from metrikon.core.records.lists import Lists, filled
from metrikon.core.records.pointers import escape, get, shape, steps
from metrikon.core.records.sums import reckon
from metrikon.core.records.types import RecordType
from metrikon.core.values.numbers import parse_number

KNOWN_LABELS = 5  # labels of a field from which it is taken that a document names it by one of them


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
    whole = bool(given) and given[0].stage == PATTERNS
    planned = planned or plan(kind, index, asking.today, asking.context, asking.room, guess=whole)
    made = _whole(kind, index, given[0]) if whole else draft(kind, index, planned, given)
    other = Besides() if whole else planned.besides
    doubted = supported_instead(kind, index, planned.header, made, other) if other.record else []
    unnamed = [] if whole else _without_label(kind, index, planned, made)
    against = made.record if whole else other.header
    differing = contradicted(planned.facts, against, ground(kind, _header(against), index)) if planned.facts and against else []
    base = _assessed(kind, index, planned, made, made.record, given, differing, asking)
    told: list[str] = []

    def assess(record: dict[str, Any]) -> mending.Assessed:
        return _assessed(kind, index, planned, made, record, given, differing, asking)

    base = rows_instead(kind, base, planned, made, other, index, assess) if other.record and made.tokens else base
    for answer, values in made.repairs:
        better = mending.better(kind, base, values, answer, assess, told)
        base = better or base
    record, evidence, findings, notes = base.record, base.evidence, [*base.findings, *doubted, *unnamed], base.notes
    evidence = trusted(record, evidence, base.reckoned, made, other, whole)
    if not whole:
        record, suggested = unsure(kind, record, evidence)
        findings = [*suggested, *findings]
    evidence = _named(evidence, index)
    following = () if whole else tuple(mending.following(kind, index, planned, made, base, given, asking))
    told_stages = stages(planned, made, given, evidence, findings, told, whole, bool(following))
    return Reading(record, evidence, findings, (*made.changes, *told), notes, told_stages, following)


def _named(evidence: dict[str, Evidence], index: Index) -> dict[str, Evidence]:
    """The evidence with the name of the file that each stands in, where several were read as one."""
    files = {page.number: page.part for page in index.document.pages if page.part}
    if not files:
        return evidence
    return {at: msgspec.structs.replace(each, file=files[each.page]) if each.page in files else each for at, each in evidence.items()}


def _whole(kind: RecordType, index: Index, given: Given) -> Draft:
    """The draft of a reader that gives a whole record and knows its places."""
    parsed = parse_answer(given.text)
    coercion = Coercion(kind, index)
    record = coercion.record(parsed.value)
    changes = [*parsed.changes, *coercion.changes]
    return Draft(record, dict(given.places), set(), changes, list(coercion.dropped), parsed.cut_off)


def _without_label(kind: RecordType, index: Index, planned: Plan, made: Draft) -> list[Finding]:
    """Optional values whose field the document does not name by any of its labels are left out: they belong to something else."""
    found = []
    for each in planned.header:
        if each.required or len(each.ours.get("labels") or ()) < KNOWN_LABELS or each.shape.count("/") != 1:
            continue
        for record in (made.record, *(values for _, values in made.repairs)):
            value = record.get(each.name)
            if value is None or any(index.names(label) for label in each.labels) or by_label(each, value, index):
                continue
            del record[each.name]
            if record is made.record:
                message = f"{each.title} {str(value)[:60]} was left out: the document names no {each.title.lower()}."
                found.append(Finding("no label", "warn", message, (each.shape,)))
    return found


def _header(record: Mapping[str, Any]) -> dict[str, Any]:
    return {name: value for name, value in record.items() if not isinstance(value, list)}


def _assessed(
    kind: RecordType,
    index: Index,
    planned: Plan,
    made: Draft,
    record: dict[str, Any],
    given: Sequence[Given],
    differing: list[Finding],
    asking: Asking,
) -> mending.Assessed:
    """A record with evidence and findings."""
    record = taken(kind, record, planned.facts, made.changes if record is made.record else []) if planned.facts else record
    record = with_derived(kind, record)
    evidence = _grounded(kind, record, index, planned, made)
    record, evidence = _retyped(kind, record, evidence, index, planned, made, asking.today)
    by_model = bool(given) and given[0].stage != PATTERNS
    invented = inventions(kind, record, evidence, index) if by_model or not given else {}
    if invented:
        record = _with(record, dict.fromkeys(invented))
        evidence = {pointer: each for pointer, each in evidence.items() if pointer not in invented}
    righted: list[Finding] = []
    if by_model:
        instead, righted = of_what_was_taken_back(kind, record, evidence, index)
        placed = {at: value for at, value in of_their_parts(kind, record, evidence, index).items() if made.doubted(at, get(record, at))}
        told = [f"{at}: {get(record, at)!r} stands outside the part of its row; {value or 'nothing'} was taken." for at, value in placed.items()]
        made.changes += [each for each in told if each not in made.changes]
        instead |= placed
        if instead:
            record = _with(record, instead)
            evidence = _grounded(kind, record, index, planned, made)
    derived_evidence(kind, record, evidence)
    record, undecided = with_defaults(kind, record, evidence, asking.today)
    left_open: list[Finding] = []
    if by_model and not made.unread:
        record, left_open = open_as_no(kind, record, evidence)
    from_cells = {pointer.split("/")[1] for pointer in made.cells}
    record = {**record, **as_printed({name: value for name, value in record.items() if name not in from_cells}, evidence, index)}
    for each in given:
        for pointer, least in each.sure.items():
            if pointer in evidence and least < evidence[pointer].sure:
                evidence[pointer] = msgspec.structs.replace(evidence[pointer], sure=round(least, 3))
    notes = list(invented.values())
    notes += righted + undecided + left_open
    notes += [Finding("cut off", "stop", "The model's answer was cut off: values or rows may be missing.")] if made.cut_off else []
    notes += [_unusable(kind, pointer) for pointer in made.dropped if get(record, pointer) is None]
    notes += [_no_answer(problem) for _, problem in made.unread]
    notes += mending.rows_differ(kind, record, made)
    if not (given and given[0].stage == PATTERNS):
        notes += belonging(kind, record, evidence, index, made.cells)
        notes += read_otherwise(kind, record, evidence, planned, made)
        notes += of_its_own_date(kind, record, evidence, index)
        notes += of_orders(kind, record, evidence, index, planned)
        notes += unsaid(kind, record, lambda number: number in index.numbers)
    notes += second.differing(kind, record, made.second)
    notes += differing + left_out(kind, record, index) + hidden_text(index) + several_documents(index) + index.once("orders", orders)
    reckoned = reckon(kind, record)
    return mending.Assessed(record, evidence, notes + check_record(kind, record, evidence, reckoned), notes, reckoned)


def _retyped(
    kind: RecordType, record: dict[str, Any], evidence: dict[str, Evidence], index: Index, planned: Plan, made: Draft, today: str
) -> tuple[dict[str, Any], dict[str, Evidence]]:
    """The record with values put right by the print, and evidence anew where any was."""
    right = put_right(kind, record, evidence, index, made.cells, today, made.doubted)
    for pointer, instead in right.items():
        told = f"{pointer}: {str(get(record, pointer))[:40]!r} does not stand so; {str(instead)[:40]!r}, which is printed, was taken."
        if told not in made.changes:
            made.changes.append(told)
    if not right:
        return record, evidence
    record = _with(record, right)
    return record, _grounded(kind, record, index, planned, made)


def _with(record: dict[str, Any], values: Mapping[str, Any]) -> dict[str, Any]:
    """A copy of a record with some values in place of others."""
    made: dict[str, Any] = copy.deepcopy(record)
    for pointer, value in values.items():
        *path, last = steps(pointer)
        spot: Any = made
        for step in path:
            spot = spot[int(step)] if isinstance(spot, list) else spot[step]
        if isinstance(spot, list):
            spot[int(last)] = value
        else:
            spot[last] = value
    return made


def _grounded(kind: RecordType, record: dict[str, Any], index: Index, planned: Plan, made: Draft) -> dict[str, Evidence]:
    """Evidence for every value: cells and facts where they stand, the others looked up."""
    cells = {pointer: place for pointer, place in made.places.items() if pointer in made.cells}
    lists = {pointer.split("/")[1] for pointer in cells} | {pointer[1:] for pointer in planned.rows}
    searched = {name: value for name, value in record.items() if name not in lists} if lists else record
    evidence = ground(kind, searched, index, made.places, planned.aside)
    for pointer, place in cells.items():
        evidence[pointer] = _cell(index.pages[place.page], place.words)
    for each in planned.facts:
        if each.fact.words or not evidence[each.field.shape].found:
            evidence[each.field.shape] = fact_evidence(each.fact, index)
    for rows in planned.rows.values():
        evidence.update({pointer: fact_evidence(fact, index) for pointer, fact in rows.facts.items()})
    return evidence


def _cell(page: Page, numbers: tuple[int, ...]) -> Evidence:
    """Evidence for a cell as it stands."""
    if len(numbers) == 1:
        word = page.words[numbers[0]]
        sure = word.sure if not word.struck else word.sure * CROSSED_OUT
        return Evidence("printed", page.number, word.box, word.text, sure if sure == 1 else round(sure, 3))
    words = [page.words[n] for n in numbers]
    sure = min(word.sure for word in words) * (CROSSED_OUT if any(word.struck for word in words) else 1.0)
    return Evidence("printed", page.number, words_box(page, numbers), " ".join(word.text for word in words), round(sure, 3))


def _no_answer(problem: str) -> Finding:
    return Finding("no answer", "stop", f"The model's answer could not be used. {problem} Fill in what is missing by hand.")


def _unusable(kind: RecordType, pointer: str) -> Finding:
    each = kind.by_shape.get(shape(pointer))
    title = each.title if each else pointer or "The record"
    return Finding("unusable", "stop", f"{title}: what the model gave cannot be used. Fill it in by hand.", (pointer,))


def as_printed(record: dict[str, Any], evidence: Mapping[str, Evidence], index: Index) -> dict[str, Any]:
    """Amounts with the digits that are printed: 407.8 becomes 407.80 where the document says so."""
    return {name: _printed(value, f"/{escape(name)}", evidence, index) for name, value in record.items()}


def _printed(value: Any, pointer: str, evidence: Mapping[str, Evidence], index: Index) -> Any:
    if isinstance(value, dict):
        return {name: _printed(part, f"{pointer}/{escape(name)}", evidence, index) for name, part in value.items()}
    if isinstance(value, list):
        return [_printed(part, f"{pointer}/{number}", evidence, index) for number, part in enumerate(value)]
    if isinstance(value, Decimal | int) and not isinstance(value, bool) and pointer in evidence:
        found = parse_number(evidence[pointer].quote, index.mark)
        return found if found is not None and found == value else value
    return value


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
    record, known = filled(kind, reading.record, lists)
    if record == reading.record:
        return reading
    told = check_record(kind, reading.record, reading.evidence)
    evidence = {pointer: each for pointer, each in {**reading.evidence, **known}.items() if get(record, pointer) is not None}
    kept = [each for each in reading.findings if each not in told]
    return replace(reading, record=record, evidence=evidence, findings=[*kept, *check_record(kind, record, evidence)])


__all__ = ["Reading", "checked_again", "looked_up", "settle", "settled", "stops"]
