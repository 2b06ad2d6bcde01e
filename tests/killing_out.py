"""A service that is killed with -9 at random moments while it writes to destinations of all kinds at once; what stands at each of them in the end."""

from __future__ import annotations

import csv
import random
import sqlite3
import time
from collections import Counter
from contextlib import ExitStack
from dataclasses import dataclass, field
from pathlib import Path

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.connecting import Way
from metrikon.core.values.exact import dumps
from metrikon.destinations.ods import OdsFormat
from metrikon.destinations.xlsx import XlsxFormat
from metrikon.sandbox.records import DESCRIPTION, TOKEN
from metrikon.sandbox.services import Services, World
from metrikon.store.tables import runs
from tests.helpers import eventually, states
from tests.killing import kill, serve

FOUND = 0.5  # seconds after which the service finds what was made
FLOW = """
metrikon: 1
name: out
intakes: [{kind: folder, path: in, settled: 0}]
destinations:
  table: {kind: sql, url: "sqlite:///out.db", table: rows}
  book: {kind: xlsx, path: out.xlsx, sheet: Rows}
  open: {kind: ods, path: out.ods, sheet: Rows}
  text: {kind: csv, path: out.csv}
  contacts: {kind: service, connection: crm, records: contacts, by: [email]}
  tasks: {kind: service, connection: crm, records: tasks}
  blind: {kind: service, connection: crm, records: unsearched}
steps:
  - {name: a, write: {to: table, key: ["${item.name}"], columns: {Name: "${item.name}"}}, retry: {attempts: 30, wait: 0.2}}
  - {name: b, write: {to: book, key: ["${item.name}"], columns: {Name: "${item.name}"}}, retry: {attempts: 30, wait: 0.2}}
  - {name: c, write: {to: open, key: ["${item.name}"], columns: {Name: "${item.name}"}}, retry: {attempts: 30, wait: 0.2}}
  - {name: d, write: {to: text, key: ["${item.name}"], columns: {Name: "${item.name}"}}, retry: {attempts: 30, wait: 0.2}}
  - {name: e, write: {to: contacts, key: ["${item.name}"], columns: {email: "${item.name}@mail.example"}}, retry: {attempts: 30, wait: 0.2}}
  - {name: f, write: {to: tasks, key: ["${item.name}"], columns: {title: "${item.name}"}}, retry: {attempts: 30, wait: 0.2}}
  - {name: g, save: {file: "${item.file}", to: "saved/${item.name}"}}
  - {name: h, write: {to: blind, key: ["${item.name}", "blind"], columns: {email: "blind-${item.name}@mail.example"}}}
"""
NOTES = {
    "records": {
        "contacts": {
            "create": "makeContact",
            "find": {"operation": "listContacts", "by": {"email": "email"}, "records": "data", "next": "next", "page": "cursor"},
            "set": {"operation": "setContact", "id": "id"},
            "found_within": FOUND,
        },
        "unsearched": {"create": "makeContact"},
        "tasks": {"create": "makeTask", "once_header": "Idempotency-Key"},
    }
}


@dataclass
class Out:
    """How often each name stands at each destination; `blind` before a person was asked, `asked` how many waited for one."""

    names: list[str]
    held: dict[str, Counter[str]] = field(default_factory=dict)
    blind: Counter[str] = field(default_factory=Counter)
    asked: int = 0

    @property
    def wrong(self) -> list[str]:
        """What is not there exactly once."""
        told = [f"{place}: {name} {held[name]} times" for place, held in self.held.items() for name in self.names if held[name] != 1]
        told += [f"{place}: {len(held)} names of {len(self.names)}" for place, held in self.held.items() if len(held) != len(self.names)]
        return told + [f"blind: {name} {count} times, unasked" for name, count in self.blind.items() if count > 1]


def killed_out(home: Path, seed: int, kills: int, items: int) -> Out:
    """Items that come in while the service is killed again and again; then one that is let be, and whoever waits is answered by what is there."""
    services = Services().start()
    with ExitStack() as stack:
        stack.callback(services.stop)
        services.world.records.found_after = FOUND / 2
        _put(home, services.url)
        dice = random.Random(seed)
        found = Out([f"n{number}" for number in range(items)])
        waiting = list(found.names)
        for number in range(kills):
            for _ in range(-(-len(waiting) // max(1, kills - number - 3))):
                _drop(home, waiting.pop()) if waiting else None
            process = serve(home)
            assert process.stdout is not None
            assert process.stdout.readline().startswith(b"Metrikon is ready")
            time.sleep(dice.uniform(0.0, 0.9))
            kill(process)
        for name in waiting:
            _drop(home, name)
        return _ended(home, services.world, found)


def _put(home: Path, url: str) -> None:
    app = App(Settings(home=home, fetch_private=True, fetches_a_minute=0))
    app.connections.put("crm", f"{url}/records", Way("bearer"), TOKEN, "ada")
    app.describing.put("crm", dumps(DESCRIPTION))
    app.describing.note("crm", NOTES)
    app.catalog.put_flow(FLOW)
    app.close()
    (home / "in").mkdir()


def _drop(home: Path, name: str) -> None:
    (home / "in" / f".{name}").write_text(f"A note called {name}")
    (home / "in" / f".{name}").rename(home / "in" / name)


def _ended(home: Path, world: World, found: Out) -> Out:
    app = App(Settings(home=home, fetch_private=True, fetches_a_minute=0))
    try:
        app.start()
        eventually(lambda: sum(states(app).values()) == len(found.names) and set(states(app)) <= {"done", "parked"}, 120)
        held = _contacts(world, "blind-")
        found.blind = Counter(held)
        with app.database.reading() as connection:
            parked = [(str(row["id"]), str(row["item_id"])) for row in connection.execute(runs.select().where(runs.c.state == "parked")).mappings()]
            names: dict[str, str] = {str(id_): str(name) for id_, name in connection.exec_driver_sql("SELECT id, name FROM items")}
        for run, item in parked:
            found.asked += 1
            app.answers.continue_run(run, "ada", unsure="went" if held[f"blind-{names[item]}"] else "again")
        eventually(lambda: set(states(app)) == {"done"}, 120)
    finally:
        app.close()
    with sqlite3.connect(home / "out.db") as table:
        found.held["sql"] = Counter(name for (name,) in table.execute("SELECT name FROM rows"))
    found.held["xlsx"] = Counter(str(row["Name"]) for _, row in XlsxFormat("Rows").rows(home / "out.xlsx"))
    found.held["ods"] = Counter(str(row["Name"]) for _, row in OdsFormat("Rows").rows(home / "out.ods"))
    with (home / "out.csv").open(newline="", encoding="utf-8-sig") as source:
        found.held["csv"] = Counter(row["Name"] for row in csv.DictReader(source))
    found.held["found by mail"] = _contacts(world, "n")
    found.held["once by header"] = Counter(str(each["title"]) for each in world.records.tasks.values())
    found.held["files"] = Counter(each.name for each in (home / "saved").iterdir() if not each.name.startswith("."))
    found.held["blind"] = Counter({name.removeprefix("blind-"): count for name, count in _contacts(world, "blind-").items()})
    return found


def _contacts(world: World, begins: str) -> Counter[str]:
    return Counter(name for each in world.records.contacts.values() if (name := str(each["email"]).partition("@")[0]).startswith(begins))
