"""What an intake would take, and what that would cost, before it takes anything: names, dates and sizes of all, costs from a few that are read."""

from __future__ import annotations

import random
from collections import Counter
from collections.abc import Iterator
from dataclasses import dataclass, field
from decimal import ROUND_CEILING, ROUND_FLOOR, Decimal
from statistics import mean, stdev
from typing import Any

from metrikon.core.flows.coming import too_early
from metrikon.core.flows.model import Flow, Said
from metrikon.engine.estimating import Estimating
from metrikon.engine.taking import NOTHING, Taking
from metrikon.ports.intake import IntakeFailed, Source, Thing
from metrikon.ports.reader import Refused
from metrikon.ports.step import ReaderDied
from metrikon.store import intakes, items
from metrikon.store.database import Database

READ = 30  # things that are read, to tell what all would cost
LISTED = 50  # that are listed, at most
TOGETHER = 500  # looked up at once, whether they were taken


@dataclass
class Would:
    """What an intake would take. `low`, `high`: its cost, in the currency of the prices, told from `read` things; `unknown` says why it cannot be told.

    `makes`: how many items these things would become. `let_go`: how many would be let go, by reason. `beyond`: how many it leaves, since it takes no more than so many.
    """

    count: int = 0
    makes: int = 0
    size: int = 0  # bytes
    taken: int = 0
    early: int = 0
    beyond: int = 0
    let_go: dict[str, int] = field(default_factory=dict)
    listed: list[tuple[Thing, str]] = field(default_factory=list)  # newest first, each with why it is let go, or nothing
    read: int = 0
    low: Decimal = Decimal(0)
    high: Decimal = Decimal(0)
    unknown: str = ""

    def told(self) -> dict[str, Any]:
        """As it is kept while an answer is waited for."""
        return {
            "count": self.count,
            "makes": self.makes,
            "size": self.size,
            "low": f"{self.low:f}",
            "high": f"{self.high:f}",
            "read": self.read,
            "unknown": self.unknown,
        }


class Foreseeing:
    """Tells what intakes would take."""

    def __init__(self, database: Database, taking: Taking, estimating: Estimating) -> None:
        self._database, self._taking, self._estimating = database, taking, estimating

    def would(self, flow: Flow, said: Said, source: Source, row: dict[str, Any], *, listed: int = LISTED, read: int = READ) -> Would:
        """What it would take now; nothing is taken. Raises `IntakeFailed`."""
        found, chosen, dice = Would(), list[Thing](), random.Random(0)  # chosen by chance, the same each time
        most = getattr(said.form, "most", None)
        left = max(0, most - int(row["taken"])) if most is not None else None
        for thing, taken in self._with_taken(flow.name, said.name, source.there()):
            why = "" if taken else self._taking.why_not(flow, said, thing)
            items = 0 if taken or why else source.makes(thing)
            why = why or ("" if taken or items else NOTHING)
            if too_early(said.form, thing.at, flow.zone):
                found.early += 1
                continue
            if len(found.listed) < listed:
                found.listed.append((thing, "It was taken already." if taken else why))
            if taken:
                found.taken += 1
            elif why:
                reason = why.replace(thing.name, "it")
                found.let_go[reason] = found.let_go.get(reason, 0) + 1
            elif left is not None and found.count >= left:
                found.beyond += 1
            else:
                found.count, found.makes, found.size = found.count + 1, found.makes + items, found.size + thing.size
                _choose(chosen, thing, found.count, read, dice)
        found.let_go = dict(Counter(found.let_go).most_common(20))
        if chosen:
            self._cost(flow, source, found, chosen)
        return found

    def _with_taken(self, flow: str, name: str, things: Iterator[Thing]) -> Iterator[tuple[Thing, bool]]:
        batch: list[Thing] = []
        for thing in things:
            batch.append(thing)
            if len(batch) >= TOGETHER:
                yield from self._looked_up(flow, name, batch)
                batch = []
        yield from self._looked_up(flow, name, batch)

    def _looked_up(self, flow: str, name: str, batch: list[Thing]) -> Iterator[tuple[Thing, bool]]:
        with self._database.reading() as connection:
            known = intakes.known(connection, flow, name, [items.shortened(each.identity) for each in batch if each.identity])
        for each in batch:
            yield each, each.taken if each.taken is not None else items.shortened(each.identity) in known

    def _cost(self, flow: Flow, source: Source, found: Would, chosen: list[Thing]) -> None:
        """The cost of all from that of some: the mean, and twice its standard error to either side."""
        if not self._estimating.priced_at_all(flow):
            return
        costs: list[float] = []
        for thing in chosen:
            try:
                pieces = source.get(source.one(thing))
                each = [self._estimating.of(flow, piece.data) for piece in pieces]
            except (IntakeFailed, Refused, ReaderDied):
                continue  # what cannot be read costs nothing
            if any(one.unknown for one in each):
                found.unknown = next(one.unknown for one in each if one.unknown)
            costs.append(float(sum((one.cost for one in each), Decimal(0))))
        found.read = len(costs)
        if not costs:
            found.unknown = found.unknown or "None of those that were looked at could be read."
            return
        wide = 2 * stdev(costs) / len(costs) ** 0.5 if len(costs) > 1 and len(costs) < found.count else 0.0
        found.low, found.high = (_money(max(0.0, mean(costs) + side * wide) * found.count, side) for side in (-1, 1))


def _choose(chosen: list[Thing], thing: Thing, number: int, most: int, dice: random.Random) -> None:
    """Keep each of the first `number` things with the same chance (reservoir sampling, Vitter 1985, algorithm R)."""
    if len(chosen) < most:
        chosen.append(thing)
    elif (place := dice.randrange(number)) < most:
        chosen[place] = thing


def _money(value: float, side: int) -> Decimal:
    """An amount with two figures that count, rounded down (-1) or up (1)."""
    exact = Decimal(repr(value))
    if not exact:
        return Decimal(0)
    unit = Decimal(1).scaleb(exact.adjusted() - 1)
    return (exact / unit).quantize(Decimal(1), ROUND_FLOOR if side < 0 else ROUND_CEILING) * unit
