"""Keep a service's folder as this version leaves it, with runs in flight: `python -m tests.kept.make NAME`.

One folder is kept from each release; `tests/engine/test_upgrade.py` opens them all with the code of today.
"""

from __future__ import annotations

import shutil
import sqlite3
import sys
from pathlib import Path

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.demo import scenario
from metrikon.engine.work import Work
from metrikon.store import leases

FOLDER = Path(__file__).parent


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


def _somewhere(database: Path, here: str) -> None:
    """The folder as if it had stood on another machine: destinations and keys hold its path."""
    with sqlite3.connect(database) as connection:
        for table, column, kind in (("deliveries", "key", "text"), ("deliveries", "destination", "text"), ("journal", "data", "blob")):
            connection.execute(f"UPDATE {table} SET {column} = CAST(replace(CAST({column} AS text), ?, '/srv/garden') AS {kind})", (here,))
    connection.close()


if __name__ == "__main__":
    keep(sys.argv[1])
