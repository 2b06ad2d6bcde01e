"""Whether an intake that is new or was changed may take what is there: when that is more than a set amount it waits for a person's yes."""

from __future__ import annotations

import logging
import threading
from decimal import Decimal
from typing import Any

from metrikon.core.flows.model import Flow, Said
from metrikon.core.values.exact import dumps, loads
from metrikon.engine.foreseeing import Foreseeing, Would
from metrikon.engine.taking import Taking
from metrikon.ports.clock import Clock
from metrikon.ports.intake import IntakeFailed, Source
from metrikon.store import changes, intakes
from metrikon.store.database import Database

FEW = 10  # things for which no cost is worked out
log = logging.getLogger("metrikon.app")


class Agreeing:
    """Agrees by itself to what is little. `most`: things that need no yes (0: never asked); `cost`: what they may cost without one."""

    def __init__(self, database: Database, taking: Taking, foreseeing: Foreseeing, clock: Clock, most: int, cost: Decimal) -> None:
        self._database, self._taking, self.foreseeing, self._clock = database, taking, foreseeing, clock
        self._most, self._cost = most, cost
        self._aside: dict[tuple[str, str], threading.Thread] = {}

    def stop(self) -> None:
        """Wait for what is being worked out."""
        for each in list(self._aside.values()):
            each.join(30)

    def agreed(self, flow: Flow, said: Said, source: Source, row: dict[str, Any], *, aside: bool, ask: bool = False) -> bool:
        """Whether it may take what is there. `ask`: only when somebody says so. `aside`: worked out in a thread of its own, so that nothing waits for it. Raises `IntakeFailed`."""
        if row["would"] is not None:
            return False
        if ask:
            self._asked(flow, said, self.foreseeing.would(flow, said, source, row, listed=0))
            return False
        if self._most == 0:
            return self.say(flow, said)
        if not aside:
            return self._worked_out(flow, said, source, row)
        key = (flow.name, said.name)
        if key not in self._aside or not self._aside[key].is_alive():
            self._aside[key] = threading.Thread(target=self._alone, args=(flow, said, source, row), daemon=True, name=f"foresee {flow.name}")
            self._aside[key].start()
        return False

    def _alone(self, flow: Flow, said: Said, source: Source, row: dict[str, Any]) -> None:
        try:
            self._worked_out(flow, said, source, row)
        except IntakeFailed as error:
            self._taking.came(flow.name, said.name, str(error), failed=True)
        except Exception:
            log.exception("what %s of %s would take could not be worked out", said.name, flow.name)

    def _worked_out(self, flow: Flow, said: Said, source: Source, row: dict[str, Any]) -> bool:
        would = self.foreseeing.would(flow, said, source, row, listed=0, read=0)
        if would.count <= FEW:
            return self.say(flow, said)
        would = self.foreseeing.would(flow, said, source, row, listed=0)
        if would.count <= self._most and would.high <= self._cost and not would.unknown:
            return self.say(flow, said)
        self._asked(flow, said, would)
        return False

    def _asked(self, flow: Flow, said: Said, would: Would) -> None:
        def job(connection: Any) -> None:
            intakes.change(connection, flow.name, said.name, would=dumps(would.told()))
            changes.note(connection, "flow", [flow.name], self._clock.now())

        self._database.write(job)

    def say(self, flow: Flow, said: Said) -> bool:
        """Say yes: to as many as were told, however many that are in an hour."""
        with self._database.reading() as connection:
            row = intakes.get(connection, flow.name, said.name)
        if row is not None and row["would"] is not None:
            self._taking.pace.allow(flow.name, said.name, int(loads(row["would"]).get("count") or 0))
        self._database.write(lambda connection: intakes.change(connection, flow.name, said.name, agreed=True, would=None))
        return True
