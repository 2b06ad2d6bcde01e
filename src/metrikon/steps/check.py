"""check: see whether the record was seen before; put one with findings that stop before a person."""

from __future__ import annotations

from decimal import Decimal

from metrikon.core.records.checks import doubtful
from metrikon.core.records.findings import Finding, as_json, from_json, stops
from metrikon.core.records.rules import MADE_ANEW, held_keys, repeated, ruled
from metrikon.ports.step import Call, Made, Outcome, StepFailed, Transaction, Workshop
from metrikon.store import records


def run(call: Call, workshop: Workshop) -> Outcome:
    """Findings of the record given, with those that need a look at other records."""
    given = call.parameters["record"]
    if not isinstance(given, dict) or "id" not in given:
        raise StepFailed("`record` must be the result of an extract step, such as ${invoice}. Correct the flow, then continue.")
    record_id = str(given["id"])
    name = str(given["record_type"])
    kind, _ = workshop.record_type(name, call.versions.get(f"record type {name}"))
    review = str(call.parameters["review"])
    least = Decimal(str(call.parameters["unattended"]))

    found_by_rules = ruled(kind, given["record"], workshop.known_list)

    def commit(connection: Transaction, at: int) -> Made:
        found = [each for each in from_json(given["findings"]) if each.check not in (*MADE_ANEW, "doubtful")]
        found += found_by_rules
        records.hold_keys(connection, name, held_keys(kind, given["record"]), call.item_id, record_id)
        found = [*repeated(kind, given["record"], call.item_id, lambda key: records.holder(connection, name, key)), *found]
        told = {pointer for each in found if each.level == "stop" for pointer in each.fields}
        found += doubtful(kind, given["record"], given.get("doubts") or {}, least, told)
        known = records.approved_before(connection, record_id, given["record"]) if call.corrects else None
        seen = known is not None  # a person has said that it is so, and what was found then stands beside it
        if known is not None:
            found = from_json(known["findings"])
            if known["id"] != record_id:
                records.taken_over(connection, record_id, known, at)
        asks = not seen and (review == "always" or (review == "on stop" and stops(found)))
        if asks and review == "always" and not stops(found):
            found.append(Finding("review", "stop", "The flow puts every record before a person."))
        records.checked(connection, record_id, as_json(found), "waits" if asks else "approved" if seen else "clear", at)
        result = {"id": record_id, "record": given["record"], "findings": as_json(found), "approved": not asks}
        reason = next((each.message for each in found if each.level == "stop"), "")
        return Made("asked" if asks else "done", {"result": result}, reason)

    return Outcome(commit=commit)
