"""extract: read the values of a record type from a document, each with its evidence."""

from __future__ import annotations

import msgspec

from metrikon.core.extraction.settle import looked_up
from metrikon.core.records import findings
from metrikon.core.records.checks import doubts
from metrikon.drivers.extract import MOST_CALLS, extract
from metrikon.ports.step import Call, Made, Outcome, StepFailed, Transaction, Workshop
from metrikon.steps.failing import FAILURES, failure
from metrikon.steps.several import one_of
from metrikon.store import records


def run(call: Call, workshop: Workshop) -> Outcome:
    """Ask the model, ground and check what it says, and keep the record."""
    given = call.parameters["document"]
    sha256 = given.get("document") if isinstance(given, dict) else None
    if not isinstance(sha256, str):
        raise StepFailed("`document` must be the result of a read step, such as ${document}. Correct the flow, then continue.")
    only = one_of(call.parameters.get("only"))
    name = str(call.parameters["record_type"])
    try:
        kind, version = workshop.record_type(name, call.versions.get(f"record type {name}"))
        model = workshop.model(call.parameters.get("model"), call)
        second = call.parameters.get("second")
        stronger = workshop.model(str(second), call) if second else None
        other = call.parameters.get("second_reading")
        again = workshop.model(str(other), call) if other else None
    except KeyError as error:
        raise StepFailed(f"{error.args[0]} Correct the flow or put it, then continue.") from error
    try:
        found = extract(
            model,
            kind,
            workshop.paper(sha256, call.flow, only),
            call.today,
            str(call.parameters.get("context") or ""),
            stronger,
            int(call.parameters.get("calls") or MOST_CALLS),
            model.reject,
            again,
        )
    except FAILURES as error:
        for each in (model, stronger, again):
            if each is not None:
                each.keep()
        raise failure(error, call) from error
    reading = looked_up(kind, found.reading, workshop.known_list)
    row = {
        "id": workshop.new_id(),
        "run_id": call.run_id,
        "item_id": call.item_id,
        "path": call.path,
        "record_type": name,
        "type_version": version,
        "state": "read",
        "document": sha256,
        "model": found.model,
        **records.described(kind, reading.record),
        "values": reading.record,
        "as_read": reading.record,
        "evidence": reading.evidence,
        "findings": findings.as_json(reading.findings),
        "changes": list(reading.changes),
    }

    def commit(connection: Transaction, at: int) -> Made:
        for each in (model, stronger, again):
            if each is not None:
                each.commit(connection)
        result = {
            "id": records.put(connection, row, at),
            "record_type": name,
            "record": reading.record,
            "findings": findings.as_json(reading.findings),
            "usage": found.usage.as_json(),
            "model": found.model,
            "asked": found.asked,
            "doubts": doubts(kind, reading.evidence),
            "stages": [msgspec.to_builtins(each) for each in reading.stages],
        }
        return Made("done", {"result": result})

    return Outcome(commit=commit, usage=found.usage)
