"""Every task of judging, and what each is asked and settled by."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any, Protocol

import msgspec

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking, Given, Request
from metrikon.core.extraction.planning.estimate import Estimate
from metrikon.core.judging import classify, compare, draft, judge
from metrikon.core.judging.classify import Classify
from metrikon.core.judging.compare import Compare
from metrikon.core.judging.criteria import Judge
from metrikon.core.judging.draft import Draft
from metrikon.core.judging.verdict import Verdict

Task = Classify | Judge | Compare | Draft


class _How(Protocol):
    def asks(self, task: Any, index: Index, asking: Asking) -> list[Request]: ...

    def estimated(self, task: Any, index: Index, asking: Asking) -> Estimate: ...

    def settled(self, task: Any, index: Index, given: Sequence[Given], asking: Asking) -> Verdict: ...


_HOW: Mapping[type, _How] = {Classify: classify, Judge: judge, Compare: compare, Draft: draft}


def asks(task: Task, index: Index, asking: Asking) -> list[Request]:
    """What a model is asked first."""
    return _HOW[type(task)].asks(task, index, asking)


def settled(task: Task, index: Index, given: Sequence[Given], asking: Asking) -> Verdict:
    """What the answers come to, and what is asked next."""
    return _HOW[type(task)].settled(task, index, given, asking)


def estimate(task: Task, index: Index, asking: Asking) -> Estimate:
    """What asking would take, counted on the very requests."""
    return _HOW[type(task)].estimated(task, index, asking)


def packed(task: Task) -> bytes:
    """A task as JSON."""
    return msgspec.json.encode(task)


def unpacked(data: bytes | str) -> Task:
    """A task from JSON."""
    found: Task = msgspec.json.decode(data, type=Task)
    return found
