"""A run that ends by its rows is settled with them; one that has more to do, or of which more has happened, is worked on as ever."""

from __future__ import annotations

from collections.abc import Callable
from functools import partial
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.engine.looking import state_of
from metrikon.store import journal
from metrikon.store.journal import Written
from metrikon.store.tables import runs
from tests.helpers import eventually, states

HEAD = """
metrikon: 1
name: notes
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///notes.db", table: rows}}
steps:
  - {name: row, write: {to: table, key: ["${item.id}"], columns: {Name: "${item.name}"}}}
"""
MORE = '  - {name: end, stop: {reason: "It was ${row.result}."}}\n'
ASKED = "  - name: sure\n    ask: {question: Is it so?, options: [{name: good, label: It is}]}\n"
OTHER = '  - {name: twice, write: {to: table, key: ["${item.id}", "again"], columns: {Name: "${item.name}"}}}\n'


def sent(app: App, name: str = "a.txt") -> str:
    return app.arrivals.take("notes", "upload", name, name, name.encode()).run_id


def row(app: App, run_id: str) -> dict[str, Any]:
    with app.database.reading() as connection:
        return dict(connection.execute(runs.select().where(runs.c.id == run_id)).mappings().one())


def held_up(app: App) -> None:
    """Rows wait until the run has been handed on."""
    hand_out = app.deliveries._hand_out
    app.deliveries._hand_out = lambda: hand_out() if "waiting" in states(app) else 0.05  # type: ignore[method-assign]


def test_a_run_that_ends_by_its_row_is_not_claimed_once_more(house: Callable[..., App]) -> None:
    app = house(flow=HEAD)
    held_up(app)
    app.start()
    run = sent(app)
    eventually(lambda: states(app) == {"done": 1})
    found = row(app, run)
    assert (found["epoch"], found["entries"], found["owner"]) == (1, 3, None)
    assert found["settled_at"] is not None
    assert state_of(app.database, app.catalog, app.files, run, "notes", 1).outcome == "done", "the journal says the same"


@pytest.mark.parametrize(("more", "ends", "reason"), [(MORE, "stopped", "It was written."), (OTHER, "done", "")])
def test_what_comes_after_a_row_is_done_as_ever(more: str, ends: str, reason: str, house: Callable[..., App]) -> None:
    app = house(flow=HEAD + more)
    held_up(app)
    app.start()
    run = sent(app)
    eventually(lambda: states(app) == {ends: 1})
    assert row(app, run)["reason"] == reason


def test_a_run_of_which_more_was_journaled_meanwhile_is_worked_on_by_a_worker(house: Callable[..., App]) -> None:
    app = house(flow=HEAD)
    held_up(app)
    reckoned = app.deliveries._ending.ended

    def late(entries: Any) -> Any:
        found = reckoned(entries)
        for run_id in entries:
            app.database.write(partial(journal.append, run_id=run_id, entries=[Written("woken", "row", {}, at=1)]))
        return found

    app.deliveries._ending.ended = late  # type: ignore[method-assign]
    app.start()
    run = sent(app)
    eventually(lambda: states(app) == {"done": 1})
    assert row(app, run)["epoch"] == 2


def test_a_flow_that_leaves_something_open_is_closed_by_a_worker(house: Callable[..., App]) -> None:
    app = house(flow=HEAD.replace("steps:\n", "steps:\n" + ASKED))
    held_up(app)
    app.start()
    run = sent(app)
    (question,) = eventually(lambda: _open(app))
    app.questions.answer(question, "good", "ada")
    eventually(lambda: states(app) == {"done": 1})
    assert row(app, run)["epoch"] == 3


def _open(app: App) -> list[str]:
    with app.database.reading() as connection:
        return [str(each) for each in connection.exec_driver_sql("SELECT id FROM questions WHERE state = 'open'").scalars()]


def test_many_runs_whose_states_were_forgotten_end_all_the_same(house: Callable[..., App]) -> None:
    app = house(flow=HEAD)
    app.engine.bench.states._most = 3
    app.start()
    for number in range(30):
        sent(app, f"{number}.txt")
    eventually(lambda: states(app) == {"done": 30})
