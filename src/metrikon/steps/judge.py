"""judge: mark a document against criteria."""

from __future__ import annotations

from metrikon.core.flows.kinds.judge import task_of
from metrikon.ports.step import Call, Outcome, Workshop
from metrikon.steps.judging import judged


def run(call: Call, workshop: Workshop) -> Outcome:
    """The marks with their reasons and words, the total, the label."""
    task = task_of(call.parameters)
    return judged(call, workshop, task, [each.label for each in task.labels], f"How is {call.file_name} to be labelled?")
