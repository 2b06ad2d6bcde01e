"""check: see whether the record was seen before; put one with findings that stop before a person."""

from __future__ import annotations

from decimal import Decimal
from typing import Any

from sqlalchemy import Connection

from metrikon.core.records.checks import already_seen, business_key, doubtful
from metrikon.core.records.findings import Finding, as_json, from_json, stops
from metrikon.core.records.rules import alike_key, feel_rules, known_values, looks_alike
from metrikon.ports.step import Call, House, Outcome, StepFailed
from metrikon.store import records

OWN = ("already seen", "looks alike", "doubtful", "rule", "list")  # findings that this step makes anew


def run(call: Call, house: House) -> Outcome:
    """Findings of the record given, with those that need a look at other records."""
    given = call.parameters["record"]
    if not isinstance(given, dict) or "id" not in given:
        raise StepFailed("`record` must be the result of an extract step, such as ${invoice}. Correct the flow, then continue.")
    record_id = str(given["id"])
    kind, _ = house.record_type(str(given["record_type"]))
    review = str(call.parameters.get("review", "on stop"))
    least = Decimal(str(call.parameters.get("unattended", "0.6")))

    ruled = [*feel_rules(kind, given["record"]), *known_values(kind, given["record"], house.known_list)]

    def commit(connection: Connection, at: int) -> dict[str, Any]:
        found = [each for each in from_json(given["findings"]) if each.check not in OWN]
        found += ruled
        key = business_key(kind, given["record"])
        holder = records.claim_key(connection, kind.name, key, call.item_id, record_id) if key else None
        if holder is not None:
            found.insert(0, already_seen(kind, holder))
        likeness = alike_key(kind, given["record"])
        other = records.claim_key(connection, kind.name, likeness, call.item_id, record_id) if likeness else None
        if other is not None and holder is None:
            found.append(looks_alike(kind, other))
        told = {pointer for each in found if each.level == "stop" for pointer in each.fields}
        found += doubtful(kind, given["record"], given.get("doubts") or {}, least, told)
        asks = review == "always" or (review == "on stop" and stops(found))
        if review == "always" and not stops(found):
            found.append(Finding("review", "stop", "The flow puts every record before a person."))
        records.checked(connection, record_id, as_json(found), "waits" if asks else "clear", at)
        result = {"id": record_id, "record": given["record"], "findings": as_json(found), "approved": not asks}
        return {**result, "asks": True} if asks else result

    return Outcome(commit=commit)
