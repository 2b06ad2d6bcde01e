"""Failures: what has failed for good in other flows, once for each cause, so that somebody is told."""

from __future__ import annotations

from collections.abc import Iterator
from datetime import UTC, datetime
from typing import Any

from pydantic import Field

from metrikon.core.flows.coming import Coming
from metrikon.core.flows.failing import Failure
from metrikon.core.values.exact import dumps
from metrikon.ports.intake import Failures as Kept
from metrikon.ports.intake import Here, IntakeFailed, IntakeKind, Piece, Quiet, Thing

TOGETHER = 200  # failures taken in one look
SHOWN = 100  # that are shown beforehand


class Failures(Coming):
    """Runs of other flows that cannot go on, each cause once while it lasts. `item.data` holds flow, step, path, message, attempts, name, link and at."""

    flows: list[str] = Field(
        default_factory=list,
        max_length=200,
        description="Of these flows, also where they have an `on_failure` of their own; of all others that have none when left out.",
    )


class FailuresSource(Quiet):
    """The failures of a service. The cursor is the number up to which they were gone through."""

    every = 1.0

    def __init__(self, said: Failures, here: Here) -> None:
        self.said, self._link = said, here.link
        self._kept = here.failures

    def test(self) -> str:
        found = list(self.there())
        return f"{len(found)} of the last {SHOWN} failures would be taken. {f'The last one: {found[0].name}.' if found else ''}".strip()

    def there(self) -> Iterator[Thing]:
        for each in self._of().latest(SHOWN):
            if self._wanted(each):
                yield self._thing(each)

    def new(self, cursor: Any, moment: int) -> Iterator[Thing]:
        if cursor is None:  # it begins now
            yield Thing("", "", moment, cursor={"after": self._of().last()}, taken=True)
            return
        for each in self._of().after(int(cursor["after"]), TOGETHER):
            done = {"after": each.number}
            yield self._thing(each, done) if self._wanted(each) else Thing("", "", each.at, cursor=done, taken=True)

    def get(self, thing: Thing) -> list[Piece]:
        return [Piece(f"{thing.name}.json", dumps(thing.data))]

    def _of(self) -> Kept:
        if self._kept is None:
            raise IntakeFailed("Failures are not kept here.")
        return self._kept

    def _wanted(self, failure: Failure) -> bool:
        return failure.flow in self.said.flows if self.said.flows else not failure.own

    def _thing(self, failure: Failure, cursor: Any = None) -> Thing:
        at = datetime.fromtimestamp(failure.at / 1000, UTC).isoformat(timespec="seconds")
        data = {name: getattr(failure, name) for name in ("flow", "step", "path", "message", "attempts")}
        data |= {"name": failure.item_name, "item": failure.item_id, "run": failure.run_id, "link": self._link(failure.item_id), "at": at}
        name = f"{failure.flow}, {failure.step}" if failure.step else failure.flow
        return Thing(f"failure {failure.number}", f"{name} {at[:16].replace(':', '.')}", failure.at, 0, data, cursor=cursor)


def _tell(said: Failures) -> str:
    return f"what fails in {', '.join(said.flows)}" if said.flows else "what fails in other flows"


GIVES = {
    "flow": "The flow that cannot go on.",
    "step": "The step.",
    "path": "The step instance, such as lines[3]/row.",
    "message": "Why.",
    "attempts": "How often it was tried.",
    "name": "The name of the item.",
    "item": "Its id.",
    "run": "The id of its run.",
    "link": "The address of the item for people.",
    "at": "When it failed (RFC 3339, UTC).",
}
KIND = IntakeKind("failures", Failures, _tell, build=FailuresSource, quick=True, gives=GIVES)
