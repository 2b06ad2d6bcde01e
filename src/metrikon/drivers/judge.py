"""Ask, settle, and ask for what is left: the loop around the pure stages of judging."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

from metrikon.core.extraction.doubting.row import spoiling
from metrikon.core.extraction.planning.asking import SECOND, Asking, Request
from metrikon.core.judging.tasks import Task
from metrikon.core.judging.verdict import Verdict
from metrikon.core.records.findings import Finding, stops
from metrikon.drivers.extract import Tally, ask_one
from metrikon.models.pattern import PATTERN
from metrikon.ports.model import STAND_IN, Model, Usage
from metrikon.ports.paper import Paper

MARKED = "A stand-in answered, which looks for words: this is no judgement. Set up a language model (models.yaml)."


class JudgesNothing(Exception):
    """A model was to judge that only looks for patterns."""


@dataclass(frozen=True)
class Judged:
    """A verdict and what it cost; `asked` counts the answers that were needed."""

    verdict: Verdict
    usage: Usage
    model: str
    asked: int

    @property
    def needs_person(self) -> bool:
        """Whether a person must look."""
        return stops(list(self.verdict.findings))


def judge(
    model: Model, task: Task, paper: Paper, asking: Asking, second: Model | None, most_calls: int, rejected: Callable[[str], None] = lambda call: None
) -> Judged:
    """What a document comes to. `second`: the model of a second reading.

    Raises `ModelDown` or `ModelRefused` from the model, and `JudgesNothing`; never fails on an answer.
    """
    tally = Tally(rejected=rejected)
    following: Sequence[Request] = paper.judging(task, asking)
    if following and PATTERN in (model.name, second.name if second else ""):
        raise JudgesNothing
    left_out = max(0, len(following) - most_calls)
    following = following[:most_calls]
    while True:
        for each in following:
            ask_one(each, second if each.stage == SECOND and second is not None else model, paper, tally)
        verdict = paper.judged(task, tally.given, asking)
        following = verdict.next[: most_calls - len(tally.given)]
        if not following:
            break
    if any(each.check in spoiling() for each in verdict.findings):
        for call in tally.calls.values():
            rejected(call)
    names = list(dict.fromkeys(each.model for each in tally.given))
    besides = [Finding("stand-in", "warn", MARKED)] if STAND_IN in names else []
    if left_out or verdict.next:
        besides.append(
            Finding("calls", "stop", f"It takes more requests than the {most_calls} that may be made for it (calls): it was not judged whole.")
        )
    return Judged(Verdict(verdict.result, (*verdict.findings, *besides)), tally.usage, " and ".join(names), len(tally.given))
