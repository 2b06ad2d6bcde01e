"""judge: mark a document against criteria, at the level of those that were judged before."""

from __future__ import annotations

import re
from collections.abc import Mapping
from typing import Any

import msgspec

from metrikon.core.flows.kinds.judge import task_of
from metrikon.core.judging.anchors import version_of
from metrikon.core.judging.criteria import Judge
from metrikon.ports.step import Call, Outcome, Transaction, Workshop
from metrikon.steps.judging import document_in, judged
from metrikon.store import judged as store

_PLACE = re.compile(r"\[[^\]]*\]$")


def run(call: Call, workshop: Workshop) -> Outcome:
    """The marks with their reasons and words, the total, the label; kept, so that a person may set it right and others be judged by it."""
    task = task_of(call.parameters)
    criteria = version_of(task)
    anchored = msgspec.structs.replace(task, anchors=tuple(each for each in workshop.anchors(call.flow, criteria) if each.item != call.item_id))
    asked = f"How is {call.file_name} to be labelled?"
    row = {"id": workshop.new_id(), "criteria": criteria, **_where(call)}

    def keep(connection: Transaction, result: Mapping[str, Any], at: int) -> None:
        store.put(connection, {**row, "total": result.get("total", 0), "at": at}, _given(call, task), result)

    return judged(call, workshop, anchored, [each.label for each in task.labels], asked, keep)


def _where(call: Call) -> dict[str, Any]:
    step = _PLACE.sub("", call.path.rsplit("/", 1)[-1])
    return {"run_id": call.run_id, "item_id": call.item_id, "path": call.path, "flow": call.flow, "flow_version": call.flow_version, "step": step}


def _given(call: Call, task: Judge) -> dict[str, Any]:
    """What was judged, as far as it is wanted to judge it again: a document by its hash."""
    sha256 = document_in(call.parameters["of"])
    of = {"document": sha256, "pages": None} if sha256 is not None else call.parameters["of"]
    return {"of": of, "only": call.parameters.get("only"), "hide": list(task.hide)}
