"""Calls about judgements: listed, set right, judged again."""

from __future__ import annotations

import time
from collections.abc import Iterator, Mapping
from typing import Any


class JudgementCalls:
    """The part of the client that is about judgements."""

    def _ask(self, method: str, path: str, *, body: Any = None, content: bytes | None = None, params: dict[str, Any] | None = None) -> Any:
        raise NotImplementedError

    def judgements(self, flow: str, *, step: str = "", search: str = "") -> dict[str, Any]:
        """The newest judgement of each item of a flow (`items`), the best first, and the steps that give them with their anchors (`steps`)."""
        return dict(self._ask("GET", f"/api/flows/{flow}/judgements", params={"step": step, "q": search}))

    def judgement(self, judgement_id: str) -> dict[str, Any]:
        """One judgement with its marks, reasons and words."""
        return dict(self._ask("GET", f"/api/judgements/{judgement_id}"))

    def judged(self, run_id: str) -> list[dict[str, Any]]:
        """What the steps of a run have judged: outcome, quotes with their evidence, findings; with criteria the judgement."""
        return list(self._ask("GET", f"/api/runs/{run_id}/judged")["items"])

    def correct_judgement(self, judgement_id: str, marks: Mapping[str, int], comment: str = "") -> dict[str, Any]:
        """Set marks right; total and label are worked out anew."""
        return dict(self._ask("PUT", f"/api/judgements/{judgement_id}", body={"marks": dict(marks), "comment": comment}))

    def judge_again(
        self,
        flow: str,
        *,
        step: str = "",
        label: str = "",
        search: str = "",
        most: int = 0,
        renew: bool = False,
        anchors: int = 3,
        count: int | None = None,
    ) -> dict[str, Any]:
        """Judge a chosen set again by the newest criteria. Without `count` it is only told what it takes; with the count that was told it begins (`id`).

        `renew`: beside so many anchors that are chosen anew; they count for others once `take_anchors` is called.
        """
        body: dict[str, Any] = {"step": step, "label": label, "search": search, "renew": renew, "anchors": anchors}
        body |= {"most": most} if most else {}
        return dict(self._ask("POST", f"/api/flows/{flow}/judge-again", body={**body, "count": count}))

    def rejudging(self, rejudging_id: str) -> dict[str, Any]:
        """What is judged again and who would move, as far as it is."""
        return dict(self._ask("GET", f"/api/rejudgings/{rejudging_id}"))

    def rejudgings(self, rejudging_id: str, *, every: float = 0.5) -> Iterator[dict[str, Any]]:
        """The same as it comes along, last when it has ended."""
        while True:
            found = self.rejudging(rejudging_id)
            yield found
            if found["state"] != "running":
                return
            time.sleep(every)

    def stop_rejudging(self, rejudging_id: str) -> None:
        """Stop after the document it is at."""
        self._ask("POST", f"/api/rejudgings/{rejudging_id}/stop")

    def continue_rejudging(self, rejudging_id: str) -> None:
        """Go on with what was stopped or failed."""
        self._ask("POST", f"/api/rejudgings/{rejudging_id}/continue")

    def take_anchors(self, rejudging_id: str) -> dict[str, Any]:
        """Freeze the anchors that were chosen for it."""
        return dict(self._ask("POST", f"/api/rejudgings/{rejudging_id}/take"))
