"""States kept at hand: they may be forgotten, never be wrong."""

from __future__ import annotations

from collections.abc import Callable
from threading import Thread

import pytest

from metrikon.app.assemble import App
from metrikon.core.flows.model import Flow
from metrikon.core.flows.state import Entry, State
from metrikon.demo import scenario
from metrikon.engine.states import Kept, States
from metrikon.store import journal, listing
from metrikon.store.journal import Written
from tests.helpers import at_rest


def kept(flow: Flow, entries: int) -> Kept:
    return Kept(State(flow), entries, "2026-11-23", "a.pdf", {})


def test_a_state_is_taken_once_and_the_oldest_is_forgotten(house: Callable[..., App]) -> None:
    flow = house().catalog.flow(scenario.FLOW, 1)
    states = States(most=3)
    for number in range(5):
        states.keep(f"run-{number}", kept(flow, number))
    assert states.take("run-0") is None
    found = states.take("run-4")
    assert found is not None
    assert found.entries == 4
    assert states.take("run-4") is None


def test_several_threads_take_a_state_only_once(house: Callable[..., App]) -> None:
    flow = house().catalog.flow(scenario.FLOW, 1)
    states = States()
    states.keep("run", kept(flow, 1))
    taken: list[Kept] = []

    def take() -> None:
        found = states.take("run")
        if found:
            taken.append(found)

    threads = [Thread(target=take) for _ in range(16)]
    for thread in threads:
        thread.start()
    for thread in threads:
        thread.join()
    assert len(taken) == 1


def test_a_run_ends_the_same_whether_its_state_was_kept_or_forgotten(house: Callable[..., App]) -> None:
    outcomes = []
    for name in ("keeping", "forgetting"):
        app = house(name)
        if name == "forgetting":
            app.engine.bench.states._most = 0
        for file in ("01-fernhill-nurseries.pdf", "04-silverbeck-plants-three-pages.pdf", "09-brackendale-wrong-sum.pdf"):
            app.arrivals.take(scenario.FLOW, "upload", file, file, scenario.document(file))
        app.start()
        at_rest(app, 3)
        with app.database.reading() as connection:
            rows = listing.item_page(connection, most=10).rows
        outcomes.append(sorted((row["name"], row["state"], row["reason"]) for row in rows))
    assert outcomes[0] == outcomes[1]
    assert [state for _, state, _ in outcomes[0]] == ["done", "done", "review"]


@pytest.mark.parametrize(
    ("events", "told"),
    [
        (["begun", "done"], ["done"]),
        (["begun", "failed", "begun", "done"], ["begun", "failed", "done"]),
        (["begun", "begun"], ["begun", "begun"]),
        (["begun", "late", "done"], ["begun", "late", "done"]),
    ],
)
def test_only_what_says_nothing_is_left_out_of_a_replay(events: list[str], told: list[str], house: Callable[..., App]) -> None:
    app = house()
    run = app.arrivals.take(scenario.FLOW, "upload", "1", "a.txt", b"a").run_id
    steps = [Written(event, path) for event in events for path in ("a", "b[1]/a")]
    app.database.write(lambda connection: journal.append(connection, run, [Written("started"), *steps, Written("begun", "c")]))
    with app.database.reading() as connection:
        found = journal.to_replay(connection, run)
        after = journal.to_replay(connection, run, after=1)
    assert [entry.event for _, entry in found if entry.path == "a"] == told
    assert [entry.event for _, entry in found if entry.path == "b[1]/a"] == told
    assert found[-1] == (2 + len(steps), Entry("begun", "c"))
    assert after == found[1:]
