"""Level over time: judgements set right by people, anchors chosen on purpose, and chosen judgements judged again to see who would move."""

from __future__ import annotations

from collections.abc import Iterator, Mapping, Sequence
from dataclasses import dataclass
from threading import Event
from typing import Any

from sqlalchemy import Connection

from metrikon.core.judging.anchors import MOST, USUAL, anchor_of, chosen, version_of
from metrikon.core.judging.criteria import Anchor, Judge
from metrikon.core.judging.moving import Move, corrected, label_of, moves, wrong_marks
from metrikon.core.values.text import clean
from metrikon.engine import marking
from metrikon.engine.background import Background
from metrikon.engine.catalog import Catalog
from metrikon.engine.estimating import Estimated
from metrikon.engine.judgingagain import JudgingAgain, as_given
from metrikon.engine.marking import Marking
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.ports.clock import Clock
from metrikon.store import judged
from metrikon.store.database import Database

LONGEST = 2000  # characters of a comment


@dataclass(frozen=True)
class Chosen:
    """Which judgements of a flow: of one step, with one label, with a text in their name or reasons; at most so many, the best first."""

    flow: str
    step: str = ""
    label: str = ""
    search: str = ""
    most: int = judged.MOST


@dataclass(frozen=True)
class Plan:
    """What is to be judged again, by which criteria and beside which anchors, and about what it takes."""

    rows: Sequence[Mapping[str, Any]]
    by: Marking
    anchors: tuple[Anchor, ...]
    takes: Estimated


class Level:
    """Corrects judgements, chooses anchors, judges again."""

    def __init__(self, database: Database, catalog: Catalog, clock: Clock, judging: JudgingAgain, background: Background) -> None:
        self._database, self._catalog, self._clock, self._judging, self._background = database, catalog, clock, judging, background
        database.write(judged.interrupted)

    def judgement(self, judgement_id: str) -> dict[str, Any]:
        """A judgement as it stands. Raises `NotThere`."""
        with self._database.reading() as connection:
            row = judged.get(connection, judgement_id)
        if row is None:
            raise NotThere(f"There is no judgement {judgement_id}.")
        return row

    def correct(self, judgement_id: str, marks: Mapping[str, int], by: str, comment: str = "") -> dict[str, Any]:
        """Set marks right; total and label are worked out anew. What the flow did by it stays done. Raises `NotThere` and `NotNow`."""
        row = self.judgement(judgement_id)
        task = marking.at(self._catalog, str(row["flow"]), int(row["flow_version"]), str(row["step"])).task
        wrong = list(wrong_marks(task, marks))
        if wrong:
            raise NotNow(" ".join(wrong))
        result, now = corrected(task, row["result"], marks, by), self._clock.now()
        self._database.write(lambda connection: judged.correct(connection, judgement_id, result, by, clean(comment)[:LONGEST], now))
        return self.judgement(judgement_id)

    def steps(self, flow: str) -> Iterator[tuple[Marking, dict[str, Any] | None]]:
        """The steps of a flow that mark, each with the anchors of its criteria. Raises `NotThere`."""
        for each in marking.all_of(self._catalog, flow):
            with self._database.reading() as connection:
                yield each, judged.frozen(connection, flow, version_of(each.task))

    def plan(self, wanted: Chosen, *, renew: bool = False, anchors: int = USUAL) -> Plan:
        """What judging a chosen set again would be, by the newest version of the flow.

        `renew`: beside so many anchors chosen anew from what was judged by the same criteria. Raises `NotThere` and `NotNow`.
        """
        by = marking.newest(self._catalog, wanted.flow, wanted.step)
        self._judging.able(by)
        criteria = version_of(by.task)
        with self._database.reading() as connection:
            every = judged.listed(connection, wanted.flow, by.step, wanted.search)
            kept = judged.anchors_of(connection, wanted.flow, criteria)
        beside = tuple(chosen(list(_candidates(every, criteria, by.task)), min(anchors, MOST))) if renew else kept
        if renew and not beside:
            raise NotNow(
                "There is nothing to choose anchors from: they are judgements by these very criteria, not by a stand-in, of which the model was sure "
                "or that a person set right. Judge some, set right what is wrong, then choose."
            )
        rows = [each for each in every if not wanted.label or label_of(each) == wanted.label][: wanted.most]
        return Plan(rows, by, beside, self._judging.takes(by, beside, rows))

    def begin(self, wanted: Chosen, count: int, person: str, *, renew: bool = False, anchors: int = USUAL) -> str:
        """Judge a chosen set again, in the background; its id. `count`: how many it was told to be, which must still hold. Raises as `plan`."""
        plan = self.plan(wanted, renew=renew, anchors=anchors)
        if len(plan.rows) != count:
            raise NotNow(f"There are {len(plan.rows)} such judgements now, and not {count}. Look again, then say yes.")
        row: dict[str, Any] = {
            "id": self._clock.new_id(),
            "flow": wanted.flow,
            "flow_version": plan.by.version,
            "step": plan.by.step,
            "criteria": version_of(plan.by.task),
            "renewed": renew,
            "state": "running",
            "problem": "",
            "at": self._clock.now(),
            "by": person,
        }
        ids = [str(each["id"]) for each in plan.rows]
        self._database.write(lambda connection: judged.begin(connection, row, plan.anchors, ids))
        self._run(row["id"])
        return str(row["id"])

    def rejudging(self, rejudging_id: str) -> dict[str, Any]:
        """What is judged again and what it came to so far. Raises `NotThere`."""
        with self._database.reading() as connection:
            row = judged.rejudging(connection, rejudging_id)
        if row is None:
            raise NotThere(f"Nothing is judged again under {rejudging_id}.")
        return row

    def moves(self, row: Mapping[str, Any]) -> list[Move]:
        """Who moves, as far as it was judged again."""
        with self._database.reading() as connection:
            before = [each for id_ in row["judgements"] if (each := judged.get(connection, str(id_))) is not None]
        return moves(before, row["done"])

    def take(self, rejudging_id: str, person: str) -> str:
        """Freeze the anchors that were chosen for it: from now on what is judged by these criteria is judged beside them; the id of the set.

        Raises `NotThere`, and `NotNow` where nothing was chosen, it has not ended, or the criteria have changed.
        """
        row = self.rejudging(rejudging_id)
        if not row["renewed"]:
            raise NotNow("It was judged beside the anchors that stand; none were chosen for it. Judge again and choose them anew.")
        if row["taken_at"]:
            raise NotNow("Its anchors were taken already.")
        if row["state"] != "done":
            raise NotNow(f"It is {row['state']}, so it is not known who would move. Let it come to its end first.")
        if version_of(marking.newest(self._catalog, str(row["flow"]), str(row["step"])).task) != row["criteria"]:
            raise NotNow("The criteria have changed since. Judge by the new ones, and choose anchors from that.")
        now, id_ = self._clock.now(), self._clock.new_id()

        def job(connection: Connection) -> None:
            judged.freeze(connection, {"id": id_, "flow": row["flow"], "criteria": row["criteria"], "at": now, "by": person}, row["anchors"])
            judged.change(connection, rejudging_id, taken_at=now)

        self._database.write(job)
        return id_

    def go_on(self, rejudging_id: str) -> None:
        """Go on with what was stopped or failed; nothing is paid twice. Raises `NotThere` and `NotNow`."""
        row = self.rejudging(rejudging_id)
        if row["state"] in ("running", "done"):
            raise NotNow(f"It is {row['state']}; only what was stopped or failed goes on.")
        self._database.write(lambda connection: judged.change(connection, rejudging_id, state="running", problem=""))
        self._run(rejudging_id)

    def _run(self, id_: str) -> None:
        def ended(state: str, problem: str) -> None:
            self._database.write(lambda connection: judged.change(connection, id_, state=state, problem=problem))

        self._background.start(id_, lambda stop: self._work(id_, stop), ended)

    def _work(self, id_: str, stop: Event) -> bool:
        row = self.rejudging(id_)
        by = marking.at(self._catalog, str(row["flow"]), int(row["flow_version"]), str(row["step"]))
        for judgement in (str(each) for each in row["judgements"] if each not in row["done"]):
            if stop.is_set():
                return False
            with self._database.reading() as connection:
                before = judged.get(connection, judgement)
            if before is not None:  # else it was forgotten meanwhile
                result = self._judging.again(before, by, row["anchors"], id_)
                self._database.write(lambda connection, to=judgement, result=result: judged.put_rejudged(connection, id_, to, result))  # type: ignore[misc]
        return True


def _candidates(rows: Sequence[Mapping[str, Any]], criteria: str, task: Judge) -> Iterator[Anchor]:
    """What may be an anchor: judged by these criteria, and either set right by a person or sure; never by a stand-in."""
    for row in rows:
        result = row["result"]
        if row["criteria"] == criteria and (row["corrected_by"] or not (result["needs_person"] or result["stand_in"])):
            yield anchor_of(str(row["id"]), str(row["item_id"]), result, as_given(task, row, ()), corrected=bool(row["corrected_by"]))
