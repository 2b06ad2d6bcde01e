"""What goes out by a step once: whether it went before is looked up, and what becomes of it is kept in the commits that journal it."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from typing import Any

from sqlalchemy import Connection

from metrikon.core.deliveries.comparing import told
from metrikon.core.deliveries.states import Move
from metrikon.core.flows.state import Perform
from metrikon.core.values.exact import as_kept
from metrikon.ports.step import Made, Outcome, StepFailed
from metrikon.store import outgoing, runs
from metrikon.store.leases import Claim
from metrikon.store.outgoing import Known, Out

WAIT = 1.0  # seconds until it is seen what became of what another run is sending
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


@dataclass(frozen=True)
class Gave:
    """What is known of something before it goes out. `out`: what is noted of it, None where nothing is; `result`: what the step gave before, None where it is done now."""

    out: Out | None = None
    result: Mapping[str, Any] | None = None


def before(connection: Connection, out: Out, wish: Wish, *, renew: bool) -> Gave:
    """Whether something is to go out now, or what its step gave when it went out before. Raises `SentOtherwise`, and `StepFailed` where that cannot be told."""
    found = outgoing.known(connection, out)
    now = Gave(replace(out, seen=(found.state, found.run_id)) if found is not None else out)
    if found is None or renew or outgoing.is_free(found, out.run_id):
        return now
    if found.state != "written" and not out.sends.looks:
        if found.under_way:
            raise sent_now(found.run_id)
        raise StepFailed(f"Run {found.run_id} began to send this, and whether it went out cannot be told. {UNSURE}", unsure=found.result or {})
    if found.state == "written" and found.differs and wish.corrects:
        raise SentOtherwise(_otherwise(out, found), found.result or {})
    if out.sends.looks:
        return now if found.state != "written" or (out.sends.moves and wish.corrects) else Gave()
    if wish.again or out.sends.again:
        return now
    differs = [{"column": each.column, "there": each.there, "wanted": each.wanted} for each in found.differs]
    return Gave(None, {**(found.result if isinstance(found.result, dict) else {}), "by": found.run_id, **({"differs": differs} if differs else {})})


def sent_now(run_id: str) -> StepFailed:
    """Another run is sending it just now: it is looked at again when that has come to its end."""
    return StepFailed(f"Run {run_id} is sending this just now.", again=True, turn=True, wait=WAIT)


def _otherwise(out: Out, found: Known) -> str:
    return f"The {out.sends.what} went out before, with other values ({out.sends.target}): {told(found.differs)} Say whether it is left at that, or goes out again."


def _stood(out: Out) -> bool:
    """Whether it was there by an earlier run, whose place this one takes."""
    return out.sends.moves and out.seen is not None and out.seen[0] == "written"


def failed_by(out: Out, *, unsure: bool) -> Move:
    """The move of what a step that failed was to send out."""
    if unsure:
        return "lost"
    return "still there" if _stood(out) else "fail"


def noting(outcome: Outcome, out: Out) -> Outcome:
    """An outcome that notes, in the commit that keeps it, that something went out."""

    def commit(connection: Connection, at: int) -> Made:
        made = outcome.commit(connection, at) if outcome.commit is not None else Made("done", {"result": as_kept(outcome.result)})
        by: Move = "found there" if outcome.found and not _stood(out) else "written"
        outgoing.ended(connection, out, by, at, result=made.data.get("result") or {})
        return made

    return replace(outcome, commit=commit)
