"""What goes out by a step once: whether it went before is looked up, and what becomes of it is kept in the commits that journal it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from sqlalchemy import Connection

from metrikon.core.deliveries.comparing import told
from metrikon.core.flows.state import Perform
from metrikon.ports.step import StepFailed
from metrikon.store import outgoing, runs
from metrikon.store.leases import Claim
from metrikon.store.outgoing import Known, Out

UNSURE = "Look there: then say that it went, or have it done again."


class SentOtherwise(StepFailed):
    """It went out before with other values than it has now: a person says whether it is left at that."""

    def __init__(self, message: str, result: Mapping[str, Any]) -> None:
        super().__init__(message)
        self.result = result


@dataclass(frozen=True)
class Wish:
    """What a run and its people say of what went out before. `again`: it goes out again; `corrects`: where it went out otherwise a person is asked."""

    corrects: bool = False
    again: bool = False


def out_of(connection: Connection, effect: Perform, claim: Claim) -> Out | None:
    """What a step sends out; None for one that sends out nothing of this kind."""
    kind = effect.step.kind
    sends = kind.sends(effect.parameters) if kind.sends is not None else None
    if sends is None:
        return None
    path = f"{runs.above(connection, claim.run_id)}{effect.path}"
    key = sends.key_for(claim.flow, claim.item_id, path)
    return Out(sends, key, claim.run_id, claim.item_id, claim.flow, claim.flow_version, effect.path, kind.name)


def before(connection: Connection, out: Out, wish: Wish, *, renew: bool) -> Any:
    """What the step gave when it went out before; None where it is to go out now. Raises `SentOtherwise`, and `StepFailed` where nobody can tell whether it went."""
    found = outgoing.known(connection, out)
    if renew or outgoing.is_free(found, out.run_id):
        return None
    assert found is not None, "what nobody knows is free"
    if out.sends.what == "entry" and found.state != "written":
        return None  # the step itself looks whether it is there
    if found.state != "written":
        raise StepFailed(f"Run {found.run_id} began to send this, and whether it went out cannot be told. {UNSURE}", unsure=found.result or {})
    if found.differs and wish.corrects:
        raise SentOtherwise(_otherwise(out, found), found.result or {})
    if wish.again or out.sends.again:
        return None
    result = found.result if isinstance(found.result, dict) else {}
    return {**result, "result": "there already", "by": found.run_id, "pictures": []} if out.sends.what == "entry" else result


def _otherwise(out: Out, found: Known) -> str:
    what = {"mail": "The mail", "message": "The message", "call": "The call", "entry": "What was entered"}[out.sends.what]
    return f"{what} went out before, with other values ({out.sends.target}): {told(found.differs)} Say whether it is left at that, or goes out again."
