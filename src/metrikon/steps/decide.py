"""decide: ask a decision table, in the version that it had when the run began."""

from __future__ import annotations

from typing import Any

from metrikon.core.decisions.deciding import Undecided, decide
from metrikon.core.feel import BadExpression, FeelError, plain
from metrikon.ports.step import Call, Outcome, StepFailed, Workshop


def run(call: Call, workshop: Workshop) -> Outcome:
    """What the table decides, and which rules held."""
    name = str(call.parameters["table"])
    try:
        table, version = workshop.decision_table(name, call.versions.get(f"decision table {name}"))
    except KeyError as error:
        raise StepFailed(f"{error.args[0]} Put it, or correct the flow, then continue.") from error
    try:
        found = decide(table, call.parameters["given"], call.moment)
    except Undecided as error:
        raise StepFailed(str(error)) from error
    except (BadExpression, FeelError) as error:
        raise StepFailed(f"The decision table {name} could not be worked out: {error} Correct it, then run the item again.") from error
    result: dict[str, Any] = {"outcome": plain(found.outcome), "rules": list(found.rules), "table": name, "version": version}
    return Outcome(result | ({"missing": list(found.missing)} if found.missing and not found.rules else {}))
