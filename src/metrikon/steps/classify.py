"""classify: tell what a document is, by labels or by questions."""

from __future__ import annotations

from metrikon.core.flows.kinds.classify import task_of
from metrikon.core.judging.classify import option_names
from metrikon.ports.step import Call, Outcome, Workshop
from metrikon.steps.judging import judged


def run(call: Call, workshop: Workshop) -> Outcome:
    """The outcome, with the words that it rests on."""
    task = task_of(call.parameters)
    return judged(call, workshop, task, list(option_names(task)), f"What is {call.file_name}?")
