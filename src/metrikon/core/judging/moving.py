"""Marks set right by a person, and who moves when documents are judged again."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from typing import Any

import msgspec

from metrikon.core.judging.criteria import Criterion, Judge
from metrikon.core.judging.judge import summed_up, totalled


class Move(msgspec.Struct, frozen=True):
    """How one judgement stood and how it would stand; places are among all that were judged again, from 1. `marks`: criterion, mark, new mark.

    `problem`: why it could not be judged again, where it could not.
    """

    id: str
    name: str
    total: int
    label: str
    place: int
    new_total: int | None
    new_label: str
    new_place: int | None
    moved: bool
    marks: tuple[tuple[str, int | None, int | None], ...]
    why: str
    problem: str


def wrong_marks(task: Judge, marks: Mapping[str, int]) -> Iterator[str]:
    """What is wrong with marks that a person gives."""
    scales = {each.name: [mark.mark for mark in each.scale] for each in task.criteria}
    for name, mark in marks.items():
        if name not in scales:
            yield f"There is no criterion {name!r}. Known: {', '.join(scales)}."
        elif mark not in scales[name]:
            yield f"{name} has no mark {mark}. Give one of {', '.join(str(each) for each in scales[name])}."


def corrected(task: Judge, result: Mapping[str, Any], marks: Mapping[str, int], by: str) -> dict[str, Any]:
    """A judgement with marks as a person gives them; total and label are worked out anew."""
    criteria = {each.name: each for each in task.criteria}
    given = [_set(each, criteria[each["name"]], marks[each["name"]], by) if each["name"] in marks else each for each in result["marks"]]
    second = {str(each["name"]): int(each["second"]) for each in given if each.get("second") is not None and not each.get("by")}
    total, label = totalled(task, {str(each["name"]): int(each["mark"]) for each in given}, second)
    return {**result, "marks": given, "total": total, "outcome": label, **summed_up(task, given)}


def _set(told: Mapping[str, Any], criterion: Criterion, mark: int, by: str) -> dict[str, Any]:
    """One criterion with the mark that a person gives it. The words that another mark rested on do not speak for this one."""
    if mark == told["mark"]:
        return {**told, "sure": 1, "by": by}
    scale = [each.mark for each in criterion.scale]
    at = scale.index(mark)
    higher = criterion.scale[at + 1] if at + 1 < len(scale) else None
    besides = {"earns": criterion.scale[at].earns, "why_not_higher": f"{higher.mark} is for: {higher.earns}" if higher else ""}
    return {**told, **besides, "mark": mark, "reason": "", "missing": "", "evidence": None, "sure": 1, "by": by, "was": told["mark"]}


def label_of(row: Mapping[str, Any]) -> str:
    """The label of a kept judgement: what a person set right or answered counts before what the model said."""
    answered = row.get("answer") if not row.get("corrected_by") else None
    return str(answered or row["result"]["outcome"])


def moves(before: Sequence[Mapping[str, Any]], after: Mapping[str, Mapping[str, Any]]) -> list[Move]:
    """Who moves, the furthest first. `before`: judgements as kept; `after`: what those came to that were judged again, by id."""
    again = [each for each in before if each["id"] in after]
    totals = [int(each["total"]) for each in again]
    new = {str(each["id"]): after[each["id"]].get("total") for each in again}
    new_totals = [int(each) for each in new.values() if each is not None]
    found = []
    for each in again:
        result, total = after[each["id"]], new[str(each["id"])]
        found.append(
            Move(
                str(each["id"]),
                str(each["item_name"]),
                int(each["total"]),
                label_of(each),
                _place(int(each["total"]), totals),
                total,
                str(result.get("outcome", "")),
                _place(int(total), new_totals) if total is not None else None,
                total is not None and (total != each["total"] or result["outcome"] != label_of(each)),
                tuple(_marks(each["result"]["marks"], result.get("marks", ()))),
                str(result.get("why", "")),
                str(result.get("problem", "")),
            )
        )
    return sorted(found, key=lambda each: (not each.problem, not each.moved, -abs((each.new_total or 0) - each.total), each.name))


def _place(total: int, totals: Sequence[int]) -> int:
    return 1 + sum(each > total for each in totals)


def _marks(before: Sequence[Mapping[str, Any]], after: Sequence[Mapping[str, Any]]) -> Iterator[tuple[str, int | None, int | None]]:
    """The criteria whose mark is another; one that there is no longer, or was not, has none on that side."""
    old, new = ({str(each["name"]): int(each["mark"]) for each in marks} for marks in (before, after))
    if new:
        for name in dict.fromkeys([*old, *new]):
            if old.get(name) != new.get(name):
                yield name, old.get(name), new.get(name)
