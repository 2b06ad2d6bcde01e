"""A service that is killed with -9 at random moments while it types invoices into a program with a screen; what stands there in the end."""

from __future__ import annotations

import random
import time
from collections import Counter
from dataclasses import dataclass, field
from pathlib import Path

import metrikon.demo
from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.connecting import Way
from metrikon.sandbox.accounts import PASSWORD, USER
from metrikon.sandbox.services import Services
from metrikon.store import journal, listing
from tests.helpers import eventually, states
from tests.killing import kill, serve

WAY = (Path(metrikon.demo.__file__).parent / "ways" / "old-ledger.yaml").read_text()
LOOKS = WAY.replace("takes:", "patience: 5\ntakes:")
BLIND = LOOKS[: LOOKS.index("look_up:")].replace("old-ledger", "blindly") + LOOKS[LOOKS.index("enter:") :]
_VALUES = """{number: "NUMBER", vendor: Moorgate Seed, date: "2026-03-04", total: 20, file: "${item.file}", name: "${item.name}",
      lines: '${[{part: "FN-201", description: "Fern", quantity: 2, price: 10}]}'}"""
FLOW = """
metrikon: 1
name: books
intakes: [{kind: folder, path: in, settled: 0}]
steps:
- name: looked_up
  enter: {way: old-ledger, key: ["${item.name}"], values: LOOKED}
  retry: {attempts: 30, wait: 0.2}
- name: blindly
  enter: {way: blindly, key: ["${item.name}"], values: BLIND}
  retry: {attempts: 30, wait: 0.2}
""".replace("LOOKED", _VALUES.replace("NUMBER", "${item.name}")).replace("BLIND", _VALUES.replace("NUMBER", "blind-${item.name}"))
LONGEST = 7.0  # seconds after a start within which it is killed: a browser takes one to start, an invoice three


@dataclass
class Entered:
    """How often each invoice stands in the program; `unasked` before a person was asked of any."""

    names: list[str]
    held: Counter[str] = field(default_factory=Counter)
    unasked: Counter[str] = field(default_factory=Counter)
    asked: int = 0

    @property
    def wrong(self) -> list[str]:
        wanted = [*self.names, *(f"blind-{name}" for name in self.names)]
        told = [f"{name} stands there {self.held[name]} times" for name in wanted if self.held[name] != 1]
        told += [f"{name} stands there, and nobody sent it" for name in self.held if name not in wanted]
        return told + [f"{name} was entered {count} times, unasked" for name, count in self.unasked.items() if count > 1]


def killed_entered(home: Path, seed: int, kills: int, count: int) -> Entered:
    """Invoices that come in while the service is killed again and again; then one that is let be, and whoever waits is answered by what is there."""
    services = Services().start()
    try:
        dice, found = random.Random(seed), Entered([f"n{number}" for number in range(count)])
        _put(home, services)
        for name in found.names:
            (home / "in" / name).write_text(f"An invoice called {name}")
        for _ in range(kills):
            process = serve(home)
            assert process.stdout is not None
            assert process.stdout.readline().startswith(b"Metrikon is ready")
            time.sleep(dice.uniform(0.0, LONGEST))
            kill(process)
        _end(home, services, found)
        found.held = _held(services)
        return found
    finally:
        services.stop()


def _held(services: Services) -> Counter[str]:
    return Counter(str(each["number"]) for each in services.world.accounts.invoices)


def _put(home: Path, services: Services) -> None:
    app = App(Settings(home=home, fetch_private=True, fetches_a_minute=0))
    app.connections.put("accounts", f"{services.url}/accounts", Way("basic", USER), PASSWORD, "ada")
    app.ways.put(LOOKS)
    app.ways.put(BLIND)
    app.catalog.put_flow(FLOW)
    app.close()
    (home / "in").mkdir()


def _end(home: Path, services: Services, found: Entered) -> None:
    app = App(Settings(home=home, fetch_private=True, fetches_a_minute=0))
    try:
        app.start()
        eventually(lambda: sum(states(app).values()) == len(found.names) and set(states(app)) <= {"done", "parked"}, 240)
        found.unasked = _held(services)
        with app.database.reading() as connection:
            parked = listing.run_page(connection, states=("parked",), most=200).rows
            steps = {
                run["id"]: next(entry for _, entry in reversed(journal.load(connection, run["id"])) if entry.event == "failed") for run in parked
            }
        for run in parked:
            found.asked += 1
            assert steps[run["id"]].path == "blindly", steps[run["id"]]
            there = found.unasked[f"blind-{run['item_name']}"]
            app.answers.continue_run(run["id"], "ada", unsure="went" if there else "again")
        eventually(lambda: set(states(app)) == {"done"}, 240)
    finally:
        app.close()
