"""extract: read the values of a record type from a document, each with its evidence."""

from __future__ import annotations

from typing import Any

import msgspec
from sqlalchemy import Connection

from metrikon.core.records import evidence, findings
from metrikon.drivers.extract import extract
from metrikon.ports.model import ModelDown, ModelRefused
from metrikon.ports.reader import Refused
from metrikon.ports.step import KILLS, Call, House, Outcome, ReaderDied, StepFailed
from metrikon.store import records


def run(call: Call, house: House) -> Outcome:
    """Ask the model, ground and check what it says, and keep the record."""
    given = call.parameters["document"]
    sha256 = given.get("document") if isinstance(given, dict) else None
    if not isinstance(sha256, str):
        raise StepFailed("`document` must be the result of a read step, such as ${document}. Correct the flow, then continue.")
    name = str(call.parameters["record_type"])
    try:
        kind, version = house.record_type(name)
        model = house.model(call.parameters.get("model"))
    except KeyError as error:
        raise StepFailed(f"{error.args[0]} Correct the flow or put it, then continue.") from error
    try:
        found = extract(model, kind, house.paper(sha256, call.flow), call.today, str(call.parameters.get("context") or ""))
    except ModelDown as error:
        raise StepFailed(str(error), again=True, wait=error.wait) from error
    except ModelRefused as error:
        raise StepFailed(f"{error} Correct the model's settings, then continue.") from error
    except Refused as error:
        raise StepFailed(f"{call.file_name} cannot be read. {error.reason}", refused=True) from error
    except ReaderDied as error:
        raise StepFailed(f"{call.file_name}, while its values were looked for: {error}", again=call.attempt < KILLS, wait=0.2) from error
    reading = found.reading
    row = {
        "id": house.new_id(),
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
        "evidence": evidence.as_json(reading.evidence),
        "findings": findings.as_json(reading.findings),
        "changes": list(reading.changes),
    }

    def commit(connection: Connection, at: int) -> dict[str, Any]:
        return {
            "id": records.put(connection, row, at),
            "record_type": name,
            "record": reading.record,
            "findings": findings.as_json(reading.findings),
            "usage": found.usage.as_json(),
            "model": found.model,
            "asked": found.asked,
            "stages": [msgspec.to_builtins(each) for each in reading.stages],
        }

    return Outcome(commit=commit, usage=found.usage, model=found.model)
