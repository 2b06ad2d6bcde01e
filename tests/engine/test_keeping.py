"""What is kept no longer goes, and nothing else does; what is forgotten is found nowhere any more."""

from __future__ import annotations

import os
import time
from collections.abc import Callable
from pathlib import Path

import pytest

from metrikon.app.assemble import App
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.ports.clock import SystemClock
from metrikon.store import keeping
from tests.helpers import at_rest, eventually, run_state

FLOW = """
metrikon: 1
name: letters
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: rows}}
steps:
  - {name: paper, read: {file: "${item.file}"}}
  - {name: said, set: {by: "${item.name}"}}
  - {name: sure, when: 'contains(item.name, "ask")', ask: {question: "Is ${item.name} right?", options: [{name: ok, label: Right}]}}
  - {name: row, write: {to: table, key: ["${item.id}"], columns: {From: "${item.name}"}}}
"""
DAY = 86_400_000


class LaterClock(SystemClock):
    """A clock that can be set ahead."""

    ahead = 0

    def now(self) -> int:
        return super().now() + self.ahead


def letters(house: Callable[..., App], *names: str, **settings: object) -> tuple[App, list[str]]:
    app = house(clock=LaterClock(), candidates=0, **settings)
    app.catalog.put_flow(FLOW)
    app.start()
    sent = [app.arrivals.take("letters", "upload", None, name, f"Dear garden, greetings from {name}".encode()) for name in names]
    eventually(lambda: all(run_state(app, each.run_id)[0] in ("done", "review") for each in sent))
    for each in (app.home / "files").rglob("*"):
        os.utime(each, (time.time() - 7200,) * 2)
    return app, [each.item_id for each in sent]


def files_in(home: Path) -> int:
    return sum(1 for each in (home / "files").rglob("*") if each.is_file())


def later(app: App, days: int) -> None:
    app.clock.ahead += days * DAY  # type: ignore[attr-defined]


def counts(app: App) -> dict[str, int]:
    return {each.what: each.count for each in app.keeping.due()}


def test_each_thing_goes_after_its_own_days_and_what_has_not_settled_stays(house: Callable[..., App]) -> None:
    app, _ = letters(house, "Rosa", "Emil asks", keep_files_days=10, keep_results_days=20, keep_journals_days=30)
    assert files_in(app.home) == 2
    later(app, 9)
    assert set(counts(app).values()) == {0}
    later(app, 2)
    assert counts(app) == {"files": 1, "fetched pages": 0, "results of runs": 0, "journals of runs": 0, "calls of models": 0}
    assert files_in(app.home) == 2, "it is only told"
    app.keeping.carry_out()
    assert files_in(app.home) == 1
    assert not list((app.home / "derived").rglob("*-*")) or counts(app)["files"] == 0
    later(app, 10)
    assert counts(app)["results of runs"] == 1
    app.keeping.carry_out()
    with app.database.reading() as connection:
        assert connection.exec_driver_sql('SELECT count(*) FROM deliveries WHERE length("values") > 2').scalar() == 0
        assert connection.exec_driver_sql("SELECT count(*) FROM journal").scalar_one() > 5, "that it ran stays"
    later(app, 10)
    app.keeping.carry_out()
    with app.database.reading() as connection:
        left = connection.exec_driver_sql("SELECT DISTINCT runs.state FROM journal JOIN runs ON runs.id = run_id").scalars().all()
    assert list(left) == ["review"]
    assert set(counts(app).values()) == {0}


def test_samples_candidates_and_files_of_younger_items_stay(house: Callable[..., App]) -> None:
    app, (rosa, emil) = letters(house, "Rosa", "Emil", keep_files_days=10)
    app.samples.keep_item("letters", "one", rosa, "", "ada")
    later(app, 11)
    assert counts(app)["files"] == 1
    with app.database.reading() as connection:
        name = connection.exec_driver_sql(f"SELECT sha256 FROM items WHERE id = '{emil}'").scalar_one()
    os.utime(app.files.path(name))
    assert counts(app)["files"] == 0, "it was put here just now: it may be about to come in again"
    os.utime(app.files.path(name), (time.time() - 7200,) * 2)
    app.keeping._most = 1
    assert counts(app)["files"] == 0, "it is the latest of its intake"


def test_an_item_is_forgotten_everywhere_and_not_taken_again(house: Callable[..., App]) -> None:
    app, (rosa, _) = letters(house, "Rosa Meierhofer", "Emil")
    id_, proof = app.keeping.forget([rosa], "ada", "Rosa Meierhofer")
    assert proof.found_again == []
    assert [each["bytes"] for each in proof.files] == [len("Dear garden, greetings from Rosa Meierhofer")]
    assert proof.elsewhere[0]["destination"].endswith("#rows")
    assert proof.removed["entries of journals"] > 3
    whole = b"".join(place.read_bytes() for place in app.home.rglob("*") if place.is_file() and "out.db" not in place.name)
    assert b"Meierhofer" not in whole
    assert b"Emil" in whole
    with app.database.reading() as connection:
        assert keeping.proofs(connection)[0]["id"] == id_
    with pytest.raises(NotThere, match="forgotten already"):
        app.keeping.forget([rosa], "ada")


def test_what_came_in_under_an_identity_is_known_after_it_was_forgotten(house: Callable[..., App]) -> None:
    app, _ = letters(house)
    first = app.arrivals.take("letters", "upload", "letter 7", "Rosa", b"a letter")
    at_rest(app, 1)
    app.keeping.forget([first.item_id], "ada")
    again = app.arrivals.take("letters", "upload", "letter 7", "Rosa", b"a letter")
    assert (again.item_id, again.known) == (first.item_id, True)


def test_all_items_that_hold_a_value_are_found_whatever_holds_it(house: Callable[..., App]) -> None:
    app, (named, other) = letters(house, "Tilda Ørsted", "Emil")
    inside = app.arrivals.take("letters", "upload", None, "letter", "Please ask  Tilda\nØrsted about the roses".encode())
    at_rest(app, 3)
    assert app.keeping.holding("tilda ørsted") == sorted([named, inside.item_id])
    app.workshop.lists.put("people", "Tilda Ørsted\nEmil\n")
    _, proof = app.keeping.forget(app.keeping.holding("Tilda Ørsted"), "ada", "Tilda Ørsted")
    assert proof.also_in == ["the list people"]
    assert app.keeping.holding("Tilda Ørsted") == []
    assert app.keeping.holding("Emil") == [other]
    with pytest.raises(NotNow, match="less than 3 letters"):
        app.keeping.holding("ab")


def test_an_item_whose_run_goes_on_is_not_forgotten(house: Callable[..., App]) -> None:
    app, (asks,) = letters(house, "Emil asks")
    with pytest.raises(NotNow, match="has a run that has not settled"):
        app.keeping.forget([asks], "ada")


def test_a_run_whose_results_are_gone_says_so(house: Callable[..., App]) -> None:
    app, (rosa,) = letters(house, "Rosa", keep_results_days=1, keep_files_days=1)
    later(app, 2)
    app.keeping.carry_out()
    with pytest.raises(NotNow, match="is kept no longer; run it from its start"):
        app.again.item(rosa, "ada", "row")
    run = app.again.item(rosa, "ada")
    assert eventually(lambda: run_state(app, run)[0] in ("refused", "parked"))
    assert "kept no longer" in run_state(app, run)[1]
