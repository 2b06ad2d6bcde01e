"""What is kept no longer goes, and nothing else does; what is forgotten is found nowhere any more."""

from __future__ import annotations

import json
import os
import time
import zlib
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.engine.refusing import NotNow, NotThere
from metrikon.ports.clock import SystemClock
from metrikon.ports.model import ModelAnswer, ModelRequest, Usage
from metrikon.store import intakes, keeping
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
    id_, proof = app.forgetting.forget([rosa], "ada", "Rosa Meierhofer")
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
        app.forgetting.forget([rosa], "ada")


def test_what_came_in_under_an_identity_is_known_after_it_was_forgotten(house: Callable[..., App]) -> None:
    app, _ = letters(house)
    first = app.arrivals.take("letters", "upload", "letter 7", "Rosa", b"a letter")
    at_rest(app, 1)
    app.forgetting.forget([first.item_id], "ada")
    again = app.arrivals.take("letters", "upload", "letter 7", "Rosa", b"a letter")
    assert (again.item_id, again.known) == (first.item_id, True)


def test_all_items_that_hold_a_value_are_found_whatever_holds_it(house: Callable[..., App]) -> None:
    app, (named, other) = letters(house, "Tilda Ørsted", "Emil")
    inside = app.arrivals.take("letters", "upload", None, "letter", "Please ask  Tilda\nØrsted about the roses".encode())
    at_rest(app, 3)
    assert app.forgetting.holding("tilda ørsted").items == sorted([named, inside.item_id])
    app.workshop.lists.put("people", "Tilda Ørsted\nEmil\n")
    _, proof = app.forgetting.forget(app.forgetting.holding("Tilda Ørsted").items, "ada", "Tilda Ørsted")
    assert proof.also_in == ["the list people"]
    assert app.forgetting.holding("Tilda Ørsted").items == []
    assert app.forgetting.holding("Emil").items == [other]
    with pytest.raises(NotNow, match="less than 3 letters"):
        app.forgetting.holding("ab")


def test_an_item_whose_run_goes_on_is_not_forgotten(house: Callable[..., App]) -> None:
    app, (asks,) = letters(house, "Emil asks")
    with pytest.raises(NotNow, match="has a run that has not settled"):
        app.forgetting.forget([asks], "ada")


def test_a_run_whose_results_are_gone_says_so(house: Callable[..., App]) -> None:
    app, (rosa,) = letters(house, "Rosa", keep_results_days=1, keep_files_days=1)
    later(app, 2)
    app.keeping.carry_out()
    with pytest.raises(NotNow, match="is kept no longer; run it from its start"):
        app.again.item(rosa, "ada", "row")
    run = app.again.item(rosa, "ada")
    assert eventually(lambda: run_state(app, run)[0] in ("refused", "parked"))
    assert "kept no longer" in run_state(app, run)[1]


class Listening:
    """A model that says what it was asked."""

    name, room, sees = "listener", 8000, 0

    def answer(self, request: ModelRequest) -> ModelAnswer:
        return ModelAnswer('{"name": "Tilda Oersted"}', Usage(10, 10, 1))


READS = """
metrikon: 1
name: reads
intakes: [{kind: upload}]
steps:
  - {name: paper, read: {file: "${item.file}"}}
  - {name: person, extract: {document: "${paper}", record_type: person}}
"""


def test_what_was_only_tried_let_go_or_asked_is_found_and_forgotten_with_the_value_and_the_proof_says_what_was_searched(
    house: Callable[..., App],
) -> None:
    value = "Tilda Oersted"
    app = house(candidates=0, models={"listener": Listening()})
    schema = {"type": "object", "properties": {"name": {"type": "string"}}, "title": "person"}
    app.catalog.put_record_type("person", json.dumps(schema))
    app.catalog.put_flow(READS)
    app.start()
    sha256 = app.files.put(f"A letter from {value} about roses".encode())
    app.trying.run(app.catalog.flow("reads", 1), sha256, "letter.txt")
    rows = [{"identity": "1", "name": "call", "came_at": 1, "at": 1, "why": "not taken", "data": json.dumps({"who": value}).encode(), "body": None}]
    app.database.write(lambda connection: intakes.note_let_go(connection, "reads", "webhook", rows, None))
    sample = app.files.put(b"nothing in it")
    app.samples.keep_file("reads", "one", f"{value}.txt", b"nothing in it", "", "ada")
    assert app.forgetting.holding(value.upper()).besides == app.forgetting.holding(value).besides
    found = app.forgetting.holding(value)
    assert (found.items, found.besides) == ([], {"files": 1, "calls of models": 1, "let go": 1, "samples": 1})
    _, proof = app.forgetting.forget([], "ada", value)
    assert proof.found_again == []
    assert proof.searched["calls of models"] == 0
    assert {"items", "files", "let go", "samples", "files of the folder, byte by byte"} <= set(proof.searched)
    assert not app.files.path(sha256).exists()
    assert app.files.path(sample).exists()
    assert app.forgetting.holding(value).besides == {}
    whole = b"".join(place.read_bytes() for place in app.home.rglob("*") if place.is_file())
    assert value.encode() not in whole
    assert zlib.compress(value.encode())[2:-4] not in whole


def test_what_was_tried_on_the_file_of_an_item_is_forgotten_with_it(house: Callable[..., App]) -> None:
    app = house(candidates=0, models={"listener": Listening()})
    app.catalog.put_record_type("person", json.dumps({"type": "object", "properties": {"name": {"type": "string"}}, "title": "person"}))
    app.catalog.put_flow(READS)
    app.start()
    data = b"A letter from Tilda Oersted about roses"
    app.trying.run(app.catalog.flow("reads", 1), app.files.put(data), "letter.txt")
    sent = app.arrivals.take("reads", "upload", None, "letter.txt", data)
    eventually(lambda: run_state(app, sent.run_id)[0] in ("done", "review", "parked"))
    if run_state(app, sent.run_id)[0] != "done":
        app.answers.cancel(sent.run_id, "ada")
    app.forgetting.forget([sent.item_id], "ada")
    with app.database.reading() as connection:
        assert connection.exec_driver_sql("SELECT count(*) FROM calls WHERE prompt IS NOT NULL OR answer IS NOT NULL").scalar() == 0
        assert connection.exec_driver_sql("SELECT count(*) FROM calls").scalar_one() >= 1, "what it cost stays"


def test_an_item_that_was_forgotten_is_not_run_again_and_one_that_is_run_again_is_not_forgotten(house: Callable[..., App]) -> None:
    app, (rosa, emil) = letters(house, "Rosa", "Emil")
    app.forgetting.forget([rosa], "ada")
    with pytest.raises(NotThere, match="was forgotten"):
        app.again.item(rosa, "ada")
    begun = keeping.unsettled_of

    def meanwhile(connection: Any, ids: Any) -> list[str]:
        keeping.unsettled_of = begun
        found = begun(connection, ids)
        app.again.item(emil, "ada")
        return found

    with pytest.MonkeyPatch.context() as patched:
        patched.setattr(keeping, "unsettled_of", meanwhile)
        app.engine.stop(5)
        with pytest.raises(NotNow, match="was begun just now"):
            app.forgetting.forget([emil], "ada")


def test_a_value_in_a_payload_that_stands_in_the_row_of_its_item_is_found_however_it_is_written(house: Callable[..., App]) -> None:
    app, _ = letters(house)
    sent = app.arrivals.begin("letters", "upload", "1", "note.txt", b"Call  TILDA\nOersted", in_row=True, about={"n": 1}).result()
    at_rest(app, 1)
    assert app.forgetting.holding("tilda oersted").items == [sent.item_id]
