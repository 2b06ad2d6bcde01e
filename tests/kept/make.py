"""Keep a service's folder as this version leaves it, with runs in flight: `python -m tests.kept.make NAME`.

One folder is kept from each release; `tests/engine/test_upgrade.py` opens them all with the code of today.
"""

from __future__ import annotations

import shutil
import sqlite3
import sys
from pathlib import Path
from typing import Any

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.core.flows.connecting import Way
from metrikon.core.values.exact import dumps
from metrikon.demo import scenario
from metrikon.engine.work import Work
from metrikon.sandbox.model_server import ModelServer
from metrikon.sandbox.records import DESCRIPTION, TOKEN
from metrikon.sandbox.services import Services
from metrikon.store import leases, questions
from tests.helpers import eventually, states

FOLDER = Path(__file__).parent
LANGUAGE = "-language"  # ends the name of a folder with flows of all kinds of step
OUT = "-out"  # ends the name of a folder with what is judged and what goes out


def keep(name: str) -> None:
    """A run that waits for a person, one whose rows are entered but not written, and one that has not begun."""
    home = FOLDER / name
    shutil.rmtree(home, ignore_errors=True)
    app = App(Settings(home=home))
    app.catalog.put_record_type("invoice", scenario.invoice_type())
    app.catalog.put_flow(scenario.flow_text())
    for file in ("09-brackendale-wrong-sum.pdf", "01-fernhill-nurseries.pdf", "07-thornby-credit-note.pdf"):
        app.arrivals.take(scenario.FLOW, "upload", file, file, scenario.document(file))
        if not file.startswith("07"):
            (claim,) = app.database.write(lambda connection: leases.claim(connection, "kept", app.clock.now(), 60_000, 1))
            Work(app.engine.bench, claim).go()
    app.close()
    (home / "metrikon.db.lock").unlink()
    _somewhere(home / "metrikon.db", str(FOLDER))


ORDERS = """
metrikon: 1
name: orders
settings: {who: {value: Rosa}}
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///orders.db", table: rows}}
steps:
  - {name: size, set: {letters: "${string length(item.name)}"}}
  - {name: told, wait: {event: "${item.name} has come", for: P300D}}
  - name: parts
    each: {of: "${[1, 2]}", as: part, at_once: 1, on_failure: gather, steps: [{name: row, write: {to: table, key: ["${item.name}", "${part}"], columns: {N: "${string(part)}"}}}]}
  - {name: under, use: {flow: asks, given: {letters: "${size.letters}"}}}
  - {name: last, write: {to: table, key: ["${item.name}", last], columns: {N: "${under.result.answer}"}}}
"""
ASKS = """
metrikon: 1
name: asks
intakes: [{kind: upload}]
steps:
  - {name: asked, ask: {question: "Are ${given.letters} letters right?", options: [{name: fine, label: Fine}], remind: P300D}}
  - {name: result, set: {answer: "${asked.answer}"}}
"""


def keep_language(name: str) -> None:
    """Runs of flows with the kinds of step of the flow language: one that waits for an event, and one for the answer to a flow that it uses."""
    home = FOLDER / f"{name}{LANGUAGE}"
    shutil.rmtree(home, ignore_errors=True)
    app = App(Settings(home=home))
    app.catalog.put_flow(ASKS)
    app.catalog.put_flow(ORDERS)
    for item in ("spades", "hoes"):
        app.arrivals.take("orders", "upload", item, item, item.encode())
    app.start()
    eventually(lambda: _waiting(app) == 2)
    app.catalog.put_flow(ORDERS.replace("value: Rosa", "value: Emil"))  # they end on the version that they began with
    app.questions.send("orders", "spades has come", None, "1")
    eventually(lambda: len(_asked(app)) == 1)
    app.close()
    (home / "metrikon.db.lock").unlink()


SORTED = """
metrikon: 1
name: sorted
intakes: [{kind: upload}]
destinations: {list: {kind: csv, path: list.csv, sorted_by: [{column: Name}]}}
steps:
  - {name: paper, read: {}}
  - {name: sort, classify: {of: "${paper}", labels: [{name: complaint, about: Somebody complains.}, {name: booking, about: Somebody books a tour.}]}}
  - {name: row, write: {to: list, key: ["${item.name}"], columns: {Name: "${item.name}", What: "${sort.outcome}"}}}
"""
VISITORS = """
metrikon: 1
name: visitors
intakes: [{kind: upload}]
destinations:
  contacts: {kind: service, connection: crm, records: contacts}
  list: {kind: csv, path: list.csv, sorted_by: [{column: Name}]}
steps:
  - {name: contact, write: {to: contacts, key: ["${item.name}"], columns: {email: "${item.name}@mail.example"}}}
  - {name: row, write: {to: list, key: ["${item.name}"], columns: {Name: "${item.name}", What: a visitor}}}
"""
SHOWN = """
metrikon: 1
name: shown
intakes: [{kind: upload}]
destinations: {first: {kind: csv, path: first.csv}}
steps:
  - {name: row, write: {to: first, key: ["${item.name}"], columns: {Name: "${item.name}"}, show_first: true}}
"""


def keep_out(name: str) -> None:
    """A run whose judgement waits for a person, one whose row may have gone out, and two that wait until the first row was looked at; a way in."""
    home = FOLDER / f"{name}{OUT}"
    shutil.rmtree(home, ignore_errors=True)
    model, services = ModelServer().start(), Services().start()
    app = App(Settings(home=home, fetch_private=True, model_url=model.url, model_name="stand-in"))
    try:
        app.connections.put("crm", f"{services.url}/records", Way("bearer"), TOKEN, "ada")
        app.describing.put("crm", dumps(DESCRIPTION))
        app.describing.note("crm", {"records": {"contacts": {"create": "makeContact"}}})
        services.world.failing.set("lost", 1.0, 1)
        model.mood.answer = {"words": "utterly delightful", "label": "booking"}  # which nobody has said
        app.ways.put((scenario.folder() / "ways" / "old-ledger.yaml").read_text("utf-8"))
        for flow in (SORTED, VISITORS, SHOWN):
            app.catalog.put_flow(flow)
        app.start()
        for flow, item in (("sorted", "mail"), ("visitors", "bo"), ("shown", "ada"), ("shown", "cy")):
            app.arrivals.take(flow, "upload", item, item, f"{item} asks for a tour of the garden".encode())
        eventually(lambda: states(app) == {"review": 1, "parked": 3})
    finally:
        app.close()
        model.stop()
        services.stop()
    (home / "metrikon.db.lock").unlink()
    _somewhere(home / "metrikon.db", str(FOLDER))


def _waiting(app: App) -> int:
    with app.database.reading() as connection:
        return int(connection.exec_driver_sql("SELECT count(*) FROM event_waits").scalar_one())


def _asked(app: App) -> list[Any]:
    with app.database.reading() as connection:
        return questions.listed(connection)


def _somewhere(database: Path, here: str) -> None:
    """The folder as if it had stood on another machine: destinations and keys hold its path."""
    with sqlite3.connect(database) as connection:
        for table, column, kind in (("deliveries", "key", "text"), ("deliveries", "destination", "text"), ("journal", "data", "blob")):
            connection.execute(f"UPDATE {table} SET {column} = CAST(replace(CAST({column} AS text), ?, '/srv/garden') AS {kind})", (here,))
    connection.close()


if __name__ == "__main__":
    keep(sys.argv[1])
    keep_language(sys.argv[1])
    keep_out(sys.argv[1])
