"""Why a step that asks something outside did not come to its end: a model, a service."""

from __future__ import annotations

from metrikon.connections.fetching import FetchFailed
from metrikon.ports.deaths import KILLS
from metrikon.ports.destination import Busy
from metrikon.ports.model import ModelDown, ModelRefused, OverLimit
from metrikon.ports.reader import Refused
from metrikon.ports.step import Call, ReaderDied, StepFailed, WorkFailed

FAILURES = (ModelDown, ModelRefused, OverLimit, Refused, ReaderDied)


def failure(error: Exception, call: Call) -> StepFailed:
    """What went wrong, and whether trying again may help."""
    if isinstance(error, ModelDown):
        return StepFailed(str(error), again=True, wait=error.wait, cause=error.cause, turn=error.cause == "turn")
    if isinstance(error, ModelRefused):
        return StepFailed(f"{error} Correct the model's settings, then continue.")
    if isinstance(error, OverLimit):
        return StepFailed(str(error))
    if isinstance(error, Refused):
        return StepFailed(f"{call.file_name} cannot be read. {error.reason}", refused=True)
    if isinstance(error, WorkFailed):
        return StepFailed(f"{call.file_name}: {error}", again=True, cause="machine")
    return StepFailed(f"{call.file_name}, while it was worked on: {error}", again=call.attempt < KILLS, wait=0.2, cause="machine")


def busy(error: Busy) -> StepFailed:
    """A destination could not be asked just now."""
    return StepFailed(str(error), again=True, cause="busy", wait=error.wait, turn=error.turn)


def not_reached(error: FetchFailed, told: str = "") -> StepFailed:
    """A service outside did not do what was asked. `told`: in other words than the error's own."""
    return StepFailed(told or str(error), again=bool(error.cause), wait=error.wait, cause=error.cause, turn=error.cause == "turn")
