"""One judged document judged again by a step as it is now: what it takes, and what it comes to."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from datetime import UTC, datetime
from decimal import Decimal
from typing import Any

import msgspec

from metrikon.core.extraction.planning.asking import Asking
from metrikon.core.judging.criteria import Anchor, Judge
from metrikon.drivers.judge import JudgesNothing, judge
from metrikon.engine.calling import Switchboard
from metrikon.engine.estimating import Estimated, Estimating
from metrikon.engine.marking import Marking
from metrikon.engine.refusing import NotNow
from metrikon.engine.workshop import EngineWorkshop
from metrikon.models.pattern import PATTERN
from metrikon.ports.clock import Clock
from metrikon.ports.model import ModelRefused
from metrikon.ports.paper import Paper
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied, StepFailed
from metrikon.steps.judging import paper_of

LOOKED_AT = 20  # documents from which the cost of all is told
GONE = "What was judged is kept no longer."
_EXACT = Decimal("0.000001")


class JudgingAgain:
    """Judges again. `default`: the model where a step names none."""

    def __init__(self, workshop: EngineWorkshop, board: Switchboard, estimating: Estimating, clock: Clock, default: str) -> None:
        self._workshop, self._board, self._estimating, self._clock, self._default = workshop, board, estimating, clock, default

    def able(self, by: Marking) -> None:
        """Raises `NotNow` where the models of a step are not there, or judge nothing."""
        for name in (self._name(by), by.asks.second):
            if name == PATTERN:
                raise NotNow("The pattern reader judges nothing. Set up a language model (models.yaml), or name one in the step.")
            if name is not None and name not in self._board.models:
                raise NotNow(f"There is no model {name!r}. Known: {', '.join(self._board.models)}.")

    def again(self, row: Mapping[str, Any], by: Marking, anchors: Sequence[Anchor], id_: str) -> dict[str, Any]:
        """What a kept judgement comes to, judged again; a problem where it cannot be. Raises `ModelDown` and `OverLimit`."""
        model = self._board.bound(self._name(by), by.flow, id_)
        second = self._board.bound(by.asks.second, by.flow, id_) if by.asks.second else None
        try:
            found = judge(model, as_given(by.task, row, anchors), self._paper(row), self._asking(by), second, by.asks.calls, model.reject)
        except KeyError:
            return {"problem": GONE}
        except (StepFailed, Refused, ReaderDied, ModelRefused, JudgesNothing) as error:
            return {"problem": str(error)}
        finally:
            for each in (model, second):
                if each is not None:
                    each.keep()
        why = next((each.message for each in found.verdict.findings if each.level == "stop"), "")
        return {**found.verdict.result, "why": why, "usage": found.usage.as_json()}

    def takes(self, by: Marking, anchors: Sequence[Anchor], rows: Sequence[Mapping[str, Any]]) -> Estimated:
        """About what judging again takes: worked out for some of the documents, told for all."""
        found = []
        for row in rows[:: max(1, len(rows) // LOOKED_AT)]:
            try:
                takes = self._paper(row).judging_takes(as_given(by.task, row, anchors), self._asking(by))
            except (StepFailed, Refused, ReaderDied, KeyError):
                continue  # it is told when it is its turn
            found.append(self._estimating.priced(self._name(by), takes))
        times = Decimal(len(rows)) / max(1, len(found))
        return Estimated(
            round(sum(each.requests for each in found) * float(times)),
            round(sum(each.input_tokens for each in found) * times),
            round(sum(each.output_tokens for each in found) * times),
            (sum((each.cost for each in found), Decimal(0)) * times).quantize(_EXACT),
        )

    def _name(self, by: Marking) -> str:
        return by.asks.model or self._default

    def _asking(self, by: Marking) -> Asking:
        today = datetime.fromtimestamp(self._clock.now() / 1000, UTC).date().isoformat()
        return Asking(today, by.asks.context, self._board.models[self._name(by)].room, second=by.asks.second is not None)

    def _paper(self, row: Mapping[str, Any]) -> Paper:
        """What was judged. Raises KeyError when it is kept no longer."""
        given = row["given"]
        return paper_of(given["of"], given.get("only"), str(row["flow"]), self._workshop)


def as_given(task: Judge, row: Mapping[str, Any], anchors: Sequence[Anchor]) -> Judge:
    """The criteria as they are put for one document: with the names that are hidden in it, and no anchor of its own."""
    hide = tuple(str(each) for each in row["given"].get("hide") or ())
    return msgspec.structs.replace(task, hide=hide, anchors=tuple(each for each in anchors if each.item != row["item_id"]))
