"""Comparing what is now with what was: what changed is worked out by us; whether it matters, a model says by the builder's own words."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

import msgspec

from metrikon.core.documents.text import line_text
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning import prompt
from metrikon.core.extraction.planning.asking import ASK, SECOND, Asking, Given, Request
from metrikon.core.extraction.planning.estimate import Estimate
from metrikon.core.judging.differences import Change, lines_differ
from metrikon.core.judging.putting import DATA, again, answers, no_answer, objects, readings, suspicious, taken, unsure, yes_or_no
from metrikon.core.judging.quoting import standing
from metrikon.core.judging.verdict import Verdict
from metrikon.core.records.findings import Finding

SAME, NOT_MATERIAL, MATERIAL = "same", "not material", "material"
OUTCOMES = (SAME, NOT_MATERIAL, MATERIAL)
TOGETHER = 30  # changes in one request
MOST_ASKED = 600  # changes; of more the first are asked about
SHOWN = 300  # characters of one side of a change
BY_MODEL, AGREED = 0.8, 0.95
LEAST_LINES, GONE = 5, 0.8  # of a text, and the share of them that must be gone, for another text to stand in its place
_TELLS = {"added": "added", "removed": "removed", "number": "a number changed", "date": "a date changed", "text": "the words changed"}
_RULES = """You are shown what changed between two versions of something, and say of each change whether it matters, with one JSON object.
- What matters is said under "What matters"; nothing else does.
- why: a few words, by which part of that.
- material: "yes" where the change matters by it; else "no".
An example. What matters: another day or hour; talks that are new or cancelled. The look of the page and words of welcome do not matter.
1. removed: before “Mosses of the north, 3 May”
2. the words changed: before “Welcome to our talks” now “Good to see you”
3. a date changed: before “Ferns, 7 May” now “Ferns, 9 May”
4. added: now “Lichens on old walls, 11 May”
{"1": {"why": "a talk is cancelled", "material": "yes"}, "2": {"why": "words of welcome", "material": "no"}, "3": {"why": "another day", "material": "yes"}, "4": {"why": "a new talk", "material": "yes"}}
End of the example."""


class Compare(msgspec.Struct, frozen=True, omit_defaults=True, tag="compare", tag_field="task"):
    """What is now (the document that is put before it) against what was: its lines, or changes that were worked out of two records.

    `matters`: the builder's words of what matters; without them every change does. `least`: how sure it must be, or a person must look.
    """

    before: tuple[str, ...] = ()
    changes: tuple[Change, ...] | None = None
    matters: str = ""
    least: float = 0.6


def asks(task: Compare, index: Index, asking: Asking, stage: str = ASK) -> list[Request]:
    """Requests about the changes; none where nothing changed, or where every change matters."""
    changes = _changes(task, index)[:MOST_ASKED]
    if not changes or not task.matters:
        return []
    found = []
    for part, start in enumerate(range(0, len(changes), TOGETHER)):
        numbered = list(enumerate(changes[start : start + TOGETHER], start + 1))
        numbered = numbered[::-1] if stage == SECOND else numbered
        told = "\n".join(f"{number}. {_line(each)}" for number, each in numbered)
        head = "\n".join(each for each in (asking.context, f"What matters: {task.matters}") if each)
        user = f"{head}\n\n<document>\n{prompt.guarded(told)}\n</document>"
        schema = objects({str(number): objects({"why": {"type": "string"}, "material": {"enum": ["yes", "no"]}}) for number, _ in numbered})
        about = f"whether {len(numbered)} change{'s' if len(numbered) != 1 else ''} matter{'s' if len(numbered) == 1 else ''}"
        about = f"{about}, a second time" if stage == SECOND else about
        found.append(Request(stage, about, [{"role": "system", "content": f"{_RULES}\n{DATA}"}, {"role": "user", "content": user}], schema, part))
    return found


def _line(change: Change) -> str:
    where = f"{change.at}: " if change.at else ""
    before = f" before “{change.before[:SHOWN]}”" if change.before else ""
    after = f" now “{change.after[:SHOWN]}”" if change.after else ""
    return f"{where}{_TELLS[change.how]}:{before}{after}"


def _changes(task: Compare, index: Index) -> Sequence[Change]:
    if task.changes is not None:
        return task.changes
    return index.once(f"changes since {hash(task.before)}", lambda here: lines_differ(task.before, lines_of(here)))


def lines_of(index: Index) -> list[str]:
    """The lines of a document."""
    return [" ".join(line_text(page, line).split()) for page in index.document.pages for line in page.lines]


def estimated(task: Compare, index: Index, asking: Asking) -> Estimate:
    """What asking would take."""
    return taken(asks(task, index, asking), twice=asking.second)


def settled(task: Compare, index: Index, given: Sequence[Given], asking: Asking) -> Verdict:
    """What changed, and whether it matters."""
    changes = _changes(task, index)
    findings = _another(task, index, changes)
    if not changes:
        return _verdict(SAME, 1.0, [], findings)
    if not task.matters:
        return _verdict(MATERIAL, 1.0, [_told(each, True, "", index) for each in changes], findings)
    read, problems, following = readings(
        lambda stage: _read(task, index, given, asking, stage), lambda stage: asks(task, index, asking, stage), given, twice=asking.second
    )
    if following:
        return Verdict({}, (), following)
    said = read[0]
    if asking.second:
        problems += _unlike(changes, said, read[1])
    findings += problems
    if len(changes) > MOST_ASKED:
        findings.append(
            Finding("too many", "stop", f"{len(changes):,} changes are more than are looked at one by one ({MOST_ASKED}). Look yourself.")
        )
    told = [_told(each, *said.get(number, (False, "")), index) for number, each in enumerate(changes, 1)]
    outcome = MATERIAL if any(yes for yes, _ in said.values()) else NOT_MATERIAL
    sure = 0.0 if not said else AGREED if asking.second and not problems else BY_MODEL
    findings += [*suspicious(index), *(unsure(outcome, sure, task.least) if not problems else [])]
    return _verdict(outcome, sure, told, findings)


def _verdict(outcome: str, sure: float, changes: list[dict[str, Any]], findings: list[Finding]) -> Verdict:
    material = next((each for each in changes if each["material"]), None)
    return Verdict({"outcome": outcome, "sure": sure, "evidence": material and material["evidence"], "changes": changes}, tuple(findings))


def _told(change: Change, material: bool, why: str, index: Index) -> dict[str, Any]:
    evidence = standing(change.after.rpartition(": ")[2] if change.at else change.after, index) if change.after else None
    return {
        "at": change.at,
        "how": change.how,
        "before": change.before,
        "after": change.after,
        "material": material,
        "why": why,
        "evidence": msgspec.to_builtins(evidence) if evidence is not None and evidence.found else None,
    }


def _read(
    task: Compare, index: Index, given: Sequence[Given], asking: Asking, stage: str
) -> tuple[dict[int, tuple[bool, str]], list[Finding], list[Request]]:
    """(whether it matters, why) of each change by its number; what could not be used; what is asked once more because of that."""
    said: dict[int, tuple[bool, str]] = {}
    problems: list[Finding] = []
    following: list[Request] = []
    put = {each.part: each for each in asks(task, index, asking, stage)}
    for part, (value, problem, answer) in answers(given, stage).items():
        wanted = list(put[part].schema["properties"]) if part in put else []
        read = {name: _one(value.get(name)) for name in wanted} if isinstance(value, Mapping) else {}
        missing = [name for name in wanted if read.get(name) is None]
        wrong = problem or (f'It says nothing of change {", ".join(missing[:9])}: each wants material "yes" or "no".' if missing else "")
        if wrong:
            more = again(put[part], answer, wrong) if part in put else None
            following += [more] if more else []
            problems += [] if more else [no_answer(wrong)]
        said |= {int(name): each for name, each in read.items() if each is not None}
    return said, problems, following


def _one(value: Any) -> tuple[bool, str] | None:
    why = str(value.get("why") or "")[:300] if isinstance(value, Mapping) else ""
    material = yes_or_no(value.get("material") if isinstance(value, Mapping) else value)
    return None if material is None or value is None else (material, why)


def _unlike(changes: Sequence[Change], said: Mapping[int, tuple[bool, str]], other: Mapping[int, tuple[bool, str]]) -> list[Finding]:
    """Changes of which the second reading says something else."""
    names = {True: "material", False: "not material"}
    return [
        Finding(
            "readings differ", "stop", f"{_line(changes[number - 1])} — read as {names[yes]}, and as {names[other[number][0]]} by the second reading."
        )
        for number, (yes, _) in said.items()
        if number in other and other[number][0] != yes
    ][:20]


def _another(task: Compare, index: Index, changes: Sequence[Change]) -> list[Finding]:
    """A finding where hardly anything is left of what was: then it is no new version of it, such as a page that says that it is being worked on."""
    lines = [each for each in task.before if each.strip()]
    if task.changes is not None or len(lines) < LEAST_LINES:
        return []
    kept = len(lines) - sum(bool(each.before) for each in changes)
    if kept > (1 - GONE) * len(lines) or sum(each.how in ("number", "date") for each in changes) > len(changes) / 2:
        return []
    some = next((each.after for each in changes if each.how == "added"), "")
    message = f"Hardly anything of what was there is there now ({kept} of {len(lines)} lines): it may be another text, such as a notice. It begins with “{some[:120]}”."
    return [Finding("another text", "stop", message)]
