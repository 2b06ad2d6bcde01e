"""use: begin a run of another flow. When it settles, this step is done."""

from __future__ import annotations

from metrikon.ports.step import Call, Made, Outcome, StepFailed, Transaction, Workshop
from metrikon.store import items, runs

DEEPEST = 8  # flows that use each other


def run(call: Call, workshop: Workshop) -> Outcome:
    """The run of the other flow, in the version that it had when this run began; one that was begun before goes on."""
    name = str(call.parameters["flow"])
    version = call.versions.get(f"flow {name}")
    if version is None:
        raise StepFailed(f"There is no flow {name!r}. Put it, or correct this flow, then run the item again.")
    run_id = workshop.new_id()

    def commit(connection: Transaction, at: int) -> Made:
        known = runs.used_by(connection, call.run_id, call.path)
        if known is not None:
            return Made("begun", {"run": known})
        if runs.depth(connection, call.run_id) >= DEEPEST:
            raise StepFailed(f"Flows use each other more than {DEEPEST} deep. Correct them, then run the item again.")
        items.start_run(connection, run_id, call.item_id, name, version, at, used_by=(call.run_id, call.path), given=call.parameters["given"])
        return Made("begun", {"run": run_id})

    return Outcome(commit=commit)
