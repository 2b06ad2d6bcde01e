"""write: enter rows to be written. The deliveries write them, gathered over all runs, and journal what came of it."""

from __future__ import annotations

from collections.abc import Sequence

from metrikon.connections.fetching import FetchFailed
from metrikon.core.flows.keys import key_of
from metrikon.ports.step import Call, GatheredCommit, Made, StepFailed, Transaction, Workshop
from metrikon.store import wanting


def run(calls: Sequence[Call], workshop: Workshop) -> GatheredCommit:
    """Rows entered, all in one commit; those that were written before are done at once."""
    first = calls[0]
    named = {str(each.parameters["to"]) for each in calls}
    try:
        places = {name: workshop.places(first.flow, first.flow_version, name) for name in named}
    except FetchFailed as error:
        raise StepFailed(f"{error} Make the connection that the flow names, then continue.") from error
    wanted = [_wanted(each, *places[str(each.parameters["to"])]) for each in calls]

    def commit(connection: Transaction, at: int) -> list[list[Made]]:
        standing = wanting.begin(connection, first.run_id, first.flow, first.flow_version, wanted, at)
        return [_entries(each, standing[each.path]) for each in wanted]

    return commit


def _entries(wanted: wanting.Wanted, stands: wanting.Standing) -> list[Made]:
    begun = Made("begun", {"key": wanted.key})
    if stands.state in ("shown", "behind"):
        what, todo = (
            f"the first row that this version of the flow writes to {wanted.target}",
            "Look at it; then let it be written, or correct the flow.",
        )
        message = f"This is {what}. {todo}" if stands.state == "shown" else f"It waits behind {what}, until somebody has looked at that one."
        return [begun, Made("failed", {"message": message, "again": False, "first": stands.state, "sent": wanted.values})]
    if stands.state != "done":
        return [begun]
    result = {"key": wanted.key, "result": "there already", "place": stands.receipt or "", "by": stands.run_id}
    return [begun, Made("done", {"result": result})]


def _wanted(call: Call, destination: str, former: str) -> wanting.Wanted:
    values = call.parameters
    parts = tuple(values["key"])
    key = f"{destination}|{key_of(parts, bool(values['ignore_case']))}"
    return wanting.Wanted(
        key,
        parts,
        destination,
        former,
        str(values["to"]),
        call.path,
        dict(values["columns"]),
        call.most_attempts,
        sets=values["if_there"] == "update",
        asks=values["if_there"] == "ask",
        first=bool(values["show_first"]),
        over=values["if_changed"] == "take over",
        only=values["if_not_there"] == "leave",
        corrects=call.item_id if call.corrects else "",
        renew=call.renew,
        mark=dict(values["if_taken_back"]) or None,
    )
