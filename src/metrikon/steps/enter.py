"""enter: a record typed into a program that has only a screen; looked up before, once for its key, with a picture of every screen."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Any

from metrikon.connections.fetching import FetchFailed
from metrikon.core.entering.plan import NoPlan, Plan, planned
from metrikon.core.entering.way import WayIn
from metrikon.core.feel import BadExpression, FeelError
from metrikon.core.feel.holes import fill
from metrikon.core.flows.keys import key_of
from metrikon.drivers.entering import Entered, Seen, Stopped, enter
from metrikon.ports.screen import ScreenStopped
from metrikon.ports.step import Call, Made, Outcome, StepFailed, Transaction, Workshop
from metrikon.steps.failing import not_reached
from metrikon.store import entered


def run(call: Call, workshop: Workshop) -> Outcome:
    """What came of it, what the screen showed, and the pictures."""
    given = call.parameters
    way, version = _way(call, workshop)
    key, dry = f"{way.connection}|{way.way}|{key_of(list(given['key']))}"[:400], bool(given["dry"])
    told = {"way": way.way, "version": version}
    try:
        plan = planned(way, {str(name): value for name, value in given["values"].items()}, lambda value, scope: fill(value, scope, None, call.moment))
    except (NoPlan, BadExpression, FeelError) as error:
        raise StepFailed(str(error)) from error
    before = workshop.ways.begin(key, call.run_id, call.path) if not dry else None
    if before is not None and before[0] == "done" and not call.renew:
        return Outcome({**told, "result": "there already", "by": before[1], "read": {}, "chosen": [], "pictures": []})
    others = before is not None and (before[1], before[2]) != (call.run_id, call.path)  # one's own is done again where a person said so
    if not way.look_up and (call.cut_off or others):
        other = f" by the run {before[1]}" if before is not None and before[1] != call.run_id else ""
        raise StepFailed(
            f"Entering it was begun{other} and did not come to its end, and the way in {way.way} does not say how to look whether it is there. Look in the program.",
            unsure={**told, "result": "entered", "read": {}, "chosen": [], "pictures": []},
        )
    found = _entered(call, workshop, way, plan, key, told, dry=dry)
    pictures = _kept(found.pictures, workshop)
    result = {**told, "result": found.result, "by": "", "read": found.read, "chosen": found.chosen, "pictures": pictures}

    def commit(connection: Transaction, at: int) -> Made:
        entered.done(connection, key, call.run_id, call.path, at)
        return Made("done", {"result": result})

    made = tuple(str(each["file"]) for each in pictures)
    return Outcome(result, made=made) if dry else Outcome(commit=commit, made=made)


def _way(call: Call, workshop: Workshop) -> tuple[WayIn, int]:
    name = str(call.parameters["way"])
    try:
        found: tuple[WayIn, int] = workshop.ways.get(name, call.versions.get(f"way in {name}"))
    except KeyError as error:
        raise StepFailed(f"{error.args[0]} Keep it, then continue.") from error
    return found


def _entered(call: Call, workshop: Workshop, way: WayIn, plan: Plan, key: str, told: Mapping[str, Any], *, dry: bool) -> Entered:
    """Carry the plan out. Whatever stops it before the last press leaves nothing behind: it may begin again."""
    sure = True
    try:
        with workshop.ways.screen(way.connection, way.patience) as screen, workshop.ways.telling(call.run_id) as tell:
            return enter(screen, way, plan, workshop.file, dry=dry, tell=tell)
    except Stopped as error:
        sure = error.sure or bool(way.look_up)  # where it can be looked up, that is done before anything is entered
        pictures = _kept(error.pictures, workshop)
        if not sure and not dry:
            unsure = {**told, "result": "entered", "by": "", "read": {}, "chosen": [], "pictures": pictures}
            raise StepFailed(f"{error} Whether it was entered cannot be told. Look in the program.", unsure=unsure, seen=pictures) from error
        again = error.passing
        raise StepFailed(
            f"{error}{'' if again else ' Look at the picture; then continue.'}", again=again, cause="unreachable" if again else "", seen=pictures
        ) from error
    except KeyError as error:
        raise StepFailed(f"{error.args[0]!r} is no file that is kept here. Name one, such as ${{item.file}}.") from error
    except ScreenStopped as error:
        raise StepFailed(str(error), again=error.passing, cause="unreachable" if error.passing else "") from error
    except FetchFailed as error:
        raise not_reached(error) from error
    finally:
        if sure and not dry:
            workshop.ways.forget(key)


def _kept(pictures: Sequence[Seen], workshop: Workshop) -> list[dict[str, str]]:
    return [{"told": each.told, "file": workshop.keep(each.data)} for each in pictures]
