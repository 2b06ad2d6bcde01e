"""Marks: a document against criteria that the builder gives, each with what earns which mark. The total and the label are worked out by us."""

from __future__ import annotations

import re
from collections.abc import Mapping, Sequence
from decimal import ROUND_HALF_UP, Decimal
from typing import Any

import msgspec

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning import prompt
from metrikon.core.extraction.planning.asking import ASK, SECOND, Asking, Given, Request
from metrikon.core.extraction.planning.estimate import Estimate
from metrikon.core.judging.anchors import SAYING, shown
from metrikon.core.judging.blind import blinded
from metrikon.core.judging.criteria import Criterion, Judge
from metrikon.core.judging.putting import DATA, again, answers, no_answer, objects, readings, suspicious, taken
from metrikon.core.judging.quoting import standing
from metrikon.core.judging.verdict import Verdict
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.findings import Finding

GROUNDED, SILENT, GROUNDLESS, AGREED = 0.85, 0.75, 0.3, 0.95
FEW = 4  # criteria of which all marks alike say nothing of the model
_RULES = """You judge one document by criteria, with one JSON object. For each criterion:
- words: those of the document that earn the mark, copied letter by letter, at most 25; null where none do.
- reason: one short sentence.
- missing: what the next higher mark wants and is not said.
- mark: the one whose description fits; the lowest where nothing is said of it.
Only what was done, learnt or shown earns a mark, never praise or who somebody is."""


def asks(task: Judge, index: Index, asking: Asking, stage: str = ASK) -> list[Request]:
    """One request for each part of the document that fits; the second reading has criteria and marks in the other order."""
    turned = stage == SECOND
    criteria = task.criteria[::-1] if turned else task.criteria
    lines = [_line(each, turned=turned) for each in criteria]
    schema = objects({each.name: _schema(each, turned=turned) for each in criteria})
    earlier = shown(task.anchors, criteria, asking.room)
    rules = "\n".join(each for each in (_RULES, SAYING if earlier else "", DATA) if each)
    parts = _parts(task, index, asking)
    found = []
    for number, part in enumerate(parts):
        where = f"This is part {number + 1} of {len(parts)} of the document; judge what stands in it." if len(parts) > 1 else ""
        text = blinded(part.text, task.hide, task.seen).text if task.blind else part.text
        head = "\n".join(each for each in (asking.context, where, "Criteria:", *lines, earlier) if each)
        user = f"{head}\n\n<document>\n{prompt.guarded(text)}\n</document>"
        about = f"{len(criteria)} criteria{', a second time' if turned else ''}{f', part {number + 1} of {len(parts)} of the document' if len(parts) > 1 else ''}"
        pages = () if task.blind else part.pages  # a picture shows who somebody is
        found.append(Request(stage, about, [{"role": "system", "content": rules}, {"role": "user", "content": user}], schema, number, pages=pages))
    return found


def _parts(task: Judge, index: Index, asking: Asking) -> list[prompt.Shown]:
    """The parts of a document that fit beside the anchors."""
    return prompt.parts(index, {}, asking.room - len(shown(task.anchors, task.criteria, asking.room)), today=asking.today)


def _line(each: Criterion, *, turned: bool) -> str:
    scale = each.scale[::-1] if turned else each.scale
    return f"- {each.name}: {each.about} Marks: {'; '.join(f'{mark.mark} = {mark.earns}' for mark in scale)}."


def _schema(each: Criterion, *, turned: bool) -> dict[str, Any]:
    marks = [mark.mark for mark in (each.scale[::-1] if turned else each.scale)]
    text = {"type": "string"}
    return objects({"words": {"type": ["string", "null"]}, "reason": text, "missing": text, "mark": {"enum": marks}})


class _Said(msgspec.Struct, frozen=True):
    mark: int
    reason: str
    missing: str
    words: str
    evidence: Evidence | None
    sure: float


def estimated(task: Judge, index: Index, asking: Asking) -> Estimate:
    """What asking would take."""
    return taken(asks(task, index, asking), twice=asking.second)


def settled(task: Judge, index: Index, given: Sequence[Given], asking: Asking) -> Verdict:
    """The marks, the total and the label, and what is asked next."""
    read, problems, following = readings(
        lambda stage: _read(task, index, given, asking, stage), lambda stage: asks(task, index, asking, stage), given, twice=asking.second
    )
    if following:
        return Verdict({}, (), following)
    first, second = read[0], read[1] if asking.second else {}
    findings = [*problems, *suspicious(index)]
    marks = []
    for each in task.criteria:
        said = first.get(each.name)
        if said is not None:
            marks.append(_marked(each, said, second.get(each.name), findings))
    findings += _alike(task, first)
    given_marks = {name: each.mark for name, each in first.items()}
    total, outcome = totalled(task, given_marks, {name: each.mark for name, each in second.items()})
    findings += _unmet_told(task, given_marks)
    sure = min((float(each["sure"]) for each in marks), default=0.0) if len(marks) == len(task.criteria) else 0.0
    if sure < task.least and not any(each.level == "stop" for each in findings):
        findings.append(
            Finding(
                "unsure", "stop", f"A mark is {round(sure * 100)} % sure, less than the {round(task.least * 100)} % that are wanted. Look yourself."
            )
        )
    result = {
        "outcome": outcome,
        "sure": round(sure, 2),
        "total": total,
        "evidence": next((each["evidence"] for each in sorted(marks, key=lambda each: -each["weight"]) if each["evidence"]), None),
        "marks": marks,
        **summed_up(task, marks),
        "left_out": _left_out(task, index, asking) if task.blind else [],
        "anchors": [each.id for each in task.anchors],
    }
    return Verdict(result, (*findings, *_shown_all_the_same(task, index, asking)))


def _shown_all_the_same(task: Judge, index: Index, asking: Asking) -> list[Finding]:
    """What a model that was to be shown nothing of it may have seen: told, so that nobody takes a judgement for blind that is not."""
    parts = _parts(task, index, asking) if task.blind else []
    kinds = dict.fromkeys(kind for part in parts for kind in blinded(part.text, task.hide, task.seen).open)
    return [
        Finding("not blind", "warn", f"The {kind} could not be left out of what the model saw; compare the text that went out.") for kind in kinds
    ]


def summed_up(task: Judge, marks: Sequence[Mapping[str, Any]]) -> dict[str, list[str]]:
    """What speaks for a document, what is missing in it, and what to ask of where nothing was said."""
    silent = {str(each["name"]) for each in marks if each["evidence"] is None and not each.get("by")}
    return {
        "speaks_for": [f"{each['name']}: {each['reason'] or each['earns']}" for each in marks if each["mark"] == each["of"]],
        "missing": [f"{each['name']}: {each['missing']}" for each in marks if each["missing"]],
        "to_ask": [f"Ask about {each.name}: {each.about}" for each in task.criteria if each.name in silent],
    }


def _left_out(task: Judge, index: Index, asking: Asking) -> list[str]:
    """What of a person was taken out of what the model saw."""
    kinds = dict.fromkeys(kind for part in _parts(task, index, asking) for kind in blinded(part.text, task.hide, task.seen).kinds)
    return list(kinds)


def _read(task: Judge, index: Index, given: Sequence[Given], asking: Asking, stage: str) -> tuple[dict[str, _Said], list[Finding], list[Request]]:
    """What was said of each criterion, of several parts the highest mark that rests on words; what could not be used, and what is asked once more."""
    said: dict[str, _Said] = {}
    problems: list[Finding] = []
    following: list[Request] = []
    put = {each.part: each for each in asks(task, index, asking, stage)}
    for part, (value, problem, answer) in answers(given, stage).items():
        read = {each.name: _one(each, value.get(each.name), index) for each in task.criteria} if isinstance(value, Mapping) else {}
        missing = [each for each in task.criteria if read.get(each.name) is None]
        wrong = problem or (f"Each of {', '.join(each.name for each in missing)} wants a mark of its scale: {_scales(missing)}." if missing else "")
        if wrong:
            more = again(put[part], answer, wrong) if part in put else None
            following += [more] if more else []
            problems += [] if more else [no_answer(wrong)]
        for name, each in read.items():
            if each is not None and (name not in said or (each.mark, each.sure) > (said[name].mark, said[name].sure)):
                said[name] = each
    return said, problems, following


def _scales(criteria: Sequence[Criterion]) -> str:
    return "; ".join(f"{each.name} {', '.join(str(mark.mark) for mark in each.scale)}" for each in criteria)


_FIGURE = re.compile(r"-?\d+")


def _one(criterion: Criterion, value: Any, index: Index) -> _Said | None:
    """What was said of a criterion; None where no mark of its scale was given."""
    given = value if isinstance(value, Mapping) else {"mark": value}
    mark = given.get("mark")
    if isinstance(mark, str):
        figures = _FIGURE.findall(mark)
        mark = int(figures[0]) if figures and len(figures[0]) < 6 else None
    if isinstance(mark, bool) or not isinstance(mark, int | float | Decimal) or mark != mark or mark not in [each.mark for each in criterion.scale]:
        return None
    words = given.get("words")
    words = words if isinstance(words, str) else ""
    quoted = standing(words, index) if words.strip() else None
    evidence = quoted if quoted is not None and quoted.found else None
    silent = SILENT if quoted is None and int(mark) == criterion.scale[0].mark else GROUNDLESS
    sure = GROUNDED * evidence.sure / 0.95 if evidence is not None else silent
    reason, missing = (str(given.get(each) or "")[:400] for each in ("reason", "missing"))
    return _Said(int(mark), reason, missing, words[:300], evidence, sure)


def _marked(criterion: Criterion, said: _Said, other: _Said | None, findings: list[Finding]) -> dict[str, Any]:
    """What is told of one criterion."""
    scale = [each.mark for each in criterion.scale]
    at, sure = scale.index(said.mark), said.sure
    if at > 0 and said.evidence is None:
        what = (
            f"the words it is said to rest on, “{said.words[:80]}”, are not in the document"
            if said.words
            else "no words of the document were named for it"
        )
        findings.append(Finding("no ground", "stop", f"{criterion.name}: the mark {said.mark} was given, but {what}.", (criterion.name,)))
    if other is not None:
        apart = abs(at - scale.index(other.mark))
        if apart > 1:
            message = f"{criterion.name} was marked {said.mark}, and {other.mark} by the second reading."
            findings.append(Finding("readings differ", "stop", message, (criterion.name,), {"first": str(said.mark), "second": str(other.mark)}))
        sure = sure * 0.5 if apart > 1 else sure if apart else max(sure, AGREED if said.evidence is not None or at == 0 else sure)
    higher = criterion.scale[at + 1] if at + 1 < len(scale) else None
    return {
        "name": criterion.name,
        "mark": said.mark,
        **({"second": other.mark} if other is not None else {}),
        "of": scale[-1],
        "weight": criterion.weight,
        "must": criterion.must,
        "reason": said.reason,
        "earns": criterion.scale[at].earns,
        "missing": "" if higher is None else said.missing or ("Nothing in the document speaks of it." if said.evidence is None else ""),
        "why_not_higher": "" if higher is None else f"{higher.mark} is for: {higher.earns}",
        "evidence": msgspec.to_builtins(said.evidence) if said.evidence is not None else None,
        "sure": round(sure, 2),
    }


def totalled(task: Judge, marks: Mapping[str, int], second: Mapping[str, int] | None = None) -> tuple[int, str]:
    """The total in per cent and its label: of each criterion the share of its scale, by weight; half is rounded up. `second`: marks of a second reading, which counts as
    much as the first: what leans on the order in which criteria and marks stand leans the other way there. What must be met is told by the first alone."""
    weights = sum(each.weight for each in task.criteria)
    both = {name: Decimal(mark + (second or {}).get(name, mark)) / 2 for name, mark in marks.items()}
    earned = sum(
        (
            each.weight * (both[each.name] - each.scale[0].mark) / (each.scale[-1].mark - each.scale[0].mark)
            for each in task.criteria
            if each.name in marks
        ),
        Decimal(0),
    )
    total = int((100 * earned / weights).quantize(Decimal(1), ROUND_HALF_UP))
    reached = [each.label for each in task.labels if each.least <= total or each is task.labels[0]]
    return total, task.labels[0].label if _unmet(task, marks) else reached[-1]


def _unmet(task: Judge, marks: Mapping[str, int]) -> list[str]:
    """What must be met and has its lowest mark."""
    return [each.name for each in task.criteria if each.must and marks.get(each.name) == each.scale[0].mark]


def _unmet_told(task: Judge, marks: Mapping[str, int]) -> list[Finding]:
    failed = _unmet(task, marks)
    if not failed:
        return []
    verb = "is" if len(failed) == 1 else "are"
    message = f"{' and '.join(failed)} must be met and {verb} not: {task.labels[0].label}, whatever the total."
    return [Finding("must", "warn", message, tuple(failed))]


def _alike(task: Judge, said: Mapping[str, _Said]) -> list[Finding]:
    """A finding where a model gives all the same: the highest, the middle, or by the same words."""
    if len(said) < FEW:
        return []
    shares = {
        Decimal(said[each.name].mark - each.scale[0].mark) / (each.scale[-1].mark - each.scale[0].mark) for each in task.criteria if each.name in said
    }
    words = {each.words for each in said.values() if each.words}
    if len(words) == 1 and sum(bool(each.words) for each in said.values()) >= FEW:
        return [
            Finding(
                "all alike",
                "stop",
                f"Every mark was given for the same words, “{next(iter(words))[:80]}”: the model did not tell the criteria apart.",
            )
        ]
    if len(shares) == 1 and shares != {Decimal(0)}:
        where = "the highest of its scale" if shares == {Decimal(1)} else "at the same place of its scale"
        return [Finding("all alike", "warn", f"Every mark is {where}: the model may not have told the criteria apart.")]
    return []
