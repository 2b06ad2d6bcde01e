"""The engine: rows are written once, nothing is lost, and whoever lost the lease writes nothing."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable
from concurrent.futures import ThreadPoolExecutor
from pathlib import Path
from typing import Any

import pytest
from openpyxl import load_workbook
from sqlalchemy import text

from metrikon.app.assemble import App
from metrikon.core.flows.state import Perform
from metrikon.demo import scenario
from metrikon.engine.answers import StillWrong
from metrikon.engine.refusing import NotNow
from metrikon.engine.work import Work
from metrikon.ports.model import ModelAnswer, ModelDown, ModelRequest
from metrikon.sandbox.model_server import ModelServer
from metrikon.store import items, leases, records
from metrikon.store.database import AlreadyOpen
from metrikon.store.items import Arrival
from metrikon.store.leases import LeaseLost
from tests.helpers import answer_here, at_rest, delivered, eventually, run_state, states

Make = Callable[..., App]
FERNHILL, WRONG, TWICE = "01-fernhill-nurseries.pdf", "09-brackendale-wrong-sum.pdf", "11-kestrel-seed-sent-again.pdf"


def take(app: App, name: str = FERNHILL, identity: str | None = None, data: bytes | None = None) -> str:
    """Take a demo file in; the id of its run."""
    return app.arrivals.take(scenario.FLOW, "upload", identity, name, scenario.document(name) if data is None else data).run_id


def ledger(app: App) -> list[tuple[Any, ...]]:
    with sqlite3.connect(app.home / "ledger.db") as connection:
        return connection.execute("SELECT vendor, number, line, amount FROM invoice_lines ORDER BY rowid").fetchall()


def sheet(app: App) -> list[tuple[Any, ...]]:
    rows = load_workbook(app.home / "ledger.xlsx")["Invoice lines"].iter_rows(values_only=True)
    return list(rows)[1:]


def record_of(app: App, run_id: str) -> dict[str, Any]:
    with app.database.reading() as connection:
        found = connection.execute(text("SELECT id FROM records WHERE run_id = :run"), {"run": run_id}).scalar_one()
        record = records.get(connection, found)
    assert record is not None
    return record


def test_an_invoice_goes_in_and_its_rows_come_out(house: Make) -> None:
    app = house()
    app.start()
    run = take(app)
    assert at_rest(app, 1) == {"done": 1}
    assert ledger(app) == [("Fernhill Nurseries Ltd", "FN-20417", n, amount) for n, amount in enumerate([97, 94.8, 216], 1)]
    assert [(row[0], row[7], row[12]) for row in sheet(app)] == [("Fernhill Nurseries Ltd", n, a) for n, a in ((1, 97), (2, 94.8), (3, 216))]
    assert record_of(app, run)["state"] == "clear"


def test_the_same_file_under_the_same_identity_is_taken_once(house: Make) -> None:
    app = house()
    app.start()
    assert take(app, identity="a") == take(app, identity="a")
    assert at_rest(app, 1) == {"done": 1}


def test_the_same_bytes_under_another_identity_are_held_until_a_person_says_so(house: Make) -> None:
    app = house()
    app.start()
    take(app, identity="a")
    at_rest(app, 1)
    second = take(app, identity="b")
    assert run_state(app, second)[0] == "held"
    assert FERNHILL in run_state(app, second)[1]
    app.answers.continue_run(second, "ada")
    at_rest(app, 2)
    assert run_state(app, second)[0] == "review"  # it was seen before: the vendor's number is the same
    assert len(ledger(app)) == 3


def test_the_same_invoice_in_other_bytes_goes_to_a_person_and_is_never_written_twice(house: Make) -> None:
    app = house()
    app.start()
    take(app, "10-kestrel-seed.pdf")
    at_rest(app, 1)
    second = take(app, TWICE)
    at_rest(app, 2)
    assert run_state(app, second)[0] == "review"
    assert "10-kestrel-seed.pdf" in run_state(app, second)[1]
    before = ledger(app)
    app.answers.approve(record_of(app, second)["id"], None, "ada")
    eventually(lambda: run_state(app, second)[0] == "done")
    assert ledger(app) == before  # even then: its keys are written already


def test_nothing_is_written_before_a_person_has_approved(house: Make) -> None:
    app = house()
    app.start()
    run = take(app, WRONG)
    at_rest(app, 1)
    assert run_state(app, run)[0] == "review"
    assert delivered(app) == {}
    record = record_of(app, run)
    app.answers.approve(record["id"], {**record["values"], "total": "489,36"}, "ada", "their sum is wrong")
    eventually(lambda: run_state(app, run)[0] == "done")
    assert len(ledger(app)) == 3
    again = record_of(app, run)
    assert (again["state"], str(again["values"]["total"]), again["reviewed_by"]) == ("approved", "489.36", "ada")
    assert again["evidence"]["/total"]["how"] == "person"
    with pytest.raises(NotNow):
        app.answers.approve(record["id"], None, "ada")


def test_a_record_without_what_is_required_cannot_be_approved(house: Make) -> None:
    app = house()
    app.start()
    run = take(app, WRONG)
    at_rest(app, 1)
    record = record_of(app, run)
    with pytest.raises(StillWrong, match="Number is required"):
        app.answers.approve(record["id"], {**record["values"], "number": ""}, "ada")
    assert record_of(app, run)["state"] == "waits"


def test_a_refused_record_writes_nothing_and_frees_its_key(house: Make) -> None:
    app = house()
    app.start()
    run = take(app, WRONG)
    at_rest(app, 1)
    app.answers.refuse(record_of(app, run)["id"], "ada", "not ours")
    eventually(lambda: run_state(app, run) == ("refused", "Refused by ada: not ours"))
    assert delivered(app) == {}
    with app.database.reading() as connection:
        assert connection.execute(text("SELECT count(*) FROM claims")).scalar() == 0


@pytest.mark.parametrize(("data", "said"), [(b"", "0 bytes"), (scenario.document(FERNHILL)[:500], "cut off"), (b"MZ", "program")])
def test_a_file_that_cannot_be_read_ends_as_refused_with_a_reason(data: bytes, said: str, house: Make) -> None:
    app = house()
    app.start()
    run = take(app, data=data)
    at_rest(app, 1)
    state, reason = run_state(app, run)
    assert state == "refused"
    assert FERNHILL in reason
    assert said in reason


def test_a_file_that_kills_its_reader_three_times_is_refused(house: Make) -> None:
    app = house(seconds=0.05)
    app.start()
    run = take(app, "05-oakhanger-garden-scan.pdf")
    at_rest(app, 1)
    assert run_state(app, run)[0] == "refused"
    assert "3 times" in run_state(app, run)[1]


class Flaky:
    """A model that is down until it is told otherwise."""

    name = "flaky"
    room = 20_000
    sees = 0

    def __init__(self) -> None:
        self.down = True
        self.calls = 0

    def answer(self, request: ModelRequest) -> ModelAnswer:
        self.calls += 1
        if self.down:
            raise ModelDown("The model is down.", 0.01)
        return answer_here(request)


def impatient() -> str:
    """The demo's flow with hardly any wait between tries."""
    return scenario.flow_text().replace("  - name: invoice\n", "  - name: invoice\n    retry: {attempts: 3, wait: 0.01}\n")


def test_while_the_model_is_down_runs_park_and_finish_when_it_is_back(tmp_path: Path) -> None:
    from metrikon.app.settings import Settings

    model = Flaky()
    app = App(Settings(home=tmp_path, model_rest=0.01), models={"flaky": model})
    try:
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(impatient())
        app.start()
        names = [each.name for each in scenario.expected() if each.outcome == "done" and each.name[:2] not in ("05", "06")]
        for name in names:
            take(app, name)
        assert at_rest(app, len(names)) == {"parked": len(names)}
        assert delivered(app) == {}
        model.down = False
        assert app.answers.continue_parked("ada") == len(names)
        assert eventually(lambda: states(app) == {"done": len(names)})
    finally:
        app.close()


def test_a_parked_run_goes_on_from_the_step_that_failed(tmp_path: Path) -> None:
    from metrikon.app.settings import Settings

    model = Flaky()
    app = App(Settings(home=tmp_path, model_rest=0.01), models={"flaky": model})
    try:
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(impatient())
        app.start()
        run = take(app)
        at_rest(app, 1)
        assert model.calls == 3
        model.down = False
        app.answers.continue_run(run, "ada")
        at_rest(app, 1)
        with app.database.reading() as connection:
            paths = connection.execute(text("SELECT path FROM journal WHERE run_id = :run AND event = 'done'"), {"run": run}).scalars().all()
        assert sorted(paths).count("document") == 1
        assert run_state(app, run)[0] == "done"
    finally:
        app.close()


def test_an_open_workbook_is_waited_for_then_parked_then_written(house: Make) -> None:
    flow = scenario.flow_text().replace("        - name: ledger_row\n", "        - name: ledger_row\n          retry: {attempts: 1}\n")
    app = house(flow=flow)
    lock = app.home / ".~lock.ledger.xlsx#"
    lock.touch()
    app.start()
    run = take(app)
    at_rest(app, 1)
    assert run_state(app, run)[0] == "parked"
    assert "open in another program" in run_state(app, run)[1]
    lock.unlink()
    app.answers.continue_run(run, "ada")
    eventually(lambda: run_state(app, run)[0] == "done")
    assert len(sheet(app)) == len(ledger(app)) == 3


def test_running_an_item_again_writes_no_row_twice(house: Make) -> None:
    app = house()
    app.start()
    take(app)
    at_rest(app, 1)
    with app.database.reading() as connection:
        item = connection.execute(text("SELECT id FROM items")).scalar_one()
    again = app.again.item(item, "")
    at_rest(app, 2)
    assert run_state(app, again)[0] == "done"
    assert len(sheet(app)) == len(ledger(app)) == 3


def test_a_restart_finds_everything_as_it_was_left(house: Make) -> None:
    first = house()
    first.start()
    done, waits = take(first), take(first, WRONG)
    at_rest(first, 2)
    first.close()
    second = house()
    second.start()
    assert run_state(second, done)[0] == "done"
    assert run_state(second, waits)[0] == "review"
    record = record_of(second, waits)
    second.answers.approve(record["id"], None, "ada")
    eventually(lambda: run_state(second, waits)[0] == "done")
    assert len(ledger(second)) == 6


def test_a_row_written_but_not_noted_is_found_again_after_a_crash(house: Make, monkeypatch: pytest.MonkeyPatch) -> None:
    app = house()
    run = take(app)
    noted = app.deliveries._written
    monkeypatch.setattr(app.deliveries, "_written", lambda rows, receipts: None)  # as if killed between write and note
    app.start()
    eventually(lambda: (app.home / "ledger.xlsx").exists())
    monkeypatch.setattr(app.deliveries, "_written", noted)
    eventually(lambda: run_state(app, run)[0] == "done")
    assert len(sheet(app)) == len(ledger(app)) == 3


def entered(app: App) -> str:
    """An item with its run, without an engine that works on it."""
    sha256 = app.files.put(scenario.document(FERNHILL))
    ids = (app.clock.new_id(), app.clock.new_id())
    arrival = Arrival(scenario.FLOW, 1, "upload", ids[0], sha256, FERNHILL, 1)
    return app.database.write(lambda connection: items.arrive(connection, arrival, ids, app.clock.now())).run_id


def claim(app: App, lease: int = 30_000) -> list[leases.Claim]:
    return app.database.write(lambda connection: leases.claim(connection, "test", app.clock.now(), lease, 10))


def test_of_many_workers_that_want_a_run_exactly_one_gets_it(house: Make) -> None:
    app = house()
    entered(app)
    barrier = threading.Barrier(8)

    def want() -> int:
        barrier.wait()
        return len(claim(app))

    with ThreadPoolExecutor(8) as pool:
        got = [future.result() for future in [pool.submit(want) for _ in range(8)]]
    assert sorted(got) == [0] * 7 + [1]


def test_a_worker_that_stalls_past_its_lease_and_comes_back_commits_nothing(house: Make) -> None:
    app = house()
    run = entered(app)
    (stalled,) = claim(app, lease=-1)
    (taken_over,) = claim(app)
    assert taken_over.epoch == stalled.epoch + 1
    late = Work(app.engine.bench, stalled)
    _, effects = late._replayed()
    assert isinstance(effects[0], Perform)
    with pytest.raises(LeaseLost):
        late.journal.write([])
    late.go()
    with app.database.reading() as connection:
        assert connection.execute(text("SELECT count(*) FROM journal")).scalar() == 0
    Work(app.engine.bench, taken_over).go()
    assert run_state(app, run)[0] in ("waiting", "done")


def test_two_engines_on_one_item_process_it_once(house: Make) -> None:
    app = house()
    run = entered(app)
    (mine,) = claim(app)
    workers = [threading.Thread(target=Work(app.engine.bench, mine).go) for _ in range(1)]
    for worker in workers:
        worker.start()
    assert claim(app) == []
    for worker in workers:
        worker.join()
    app.deliveries.start()
    eventually(lambda: all(state == "written" for state in delivered(app).values()) and len(delivered(app)) == 3)
    assert run_state(app, run)[0] == "ready"  # woken for its next step; nobody else had it


def test_a_second_process_cannot_open_the_same_folder(house: Make, tmp_path: Path) -> None:
    from metrikon.app.settings import Settings

    house()
    with pytest.raises(AlreadyOpen, match="Another Metrikon service"):
        App(Settings(home=tmp_path / "home"))


def test_model_calls_and_their_price_are_kept_with_the_run(tmp_path: Path, stand_in: ModelServer) -> None:
    from decimal import Decimal

    from metrikon.app.settings import Settings

    settings = Settings(home=tmp_path, model_url=stand_in.url, model_name="stand-in", price_in=Decimal(2), price_out=Decimal(10))
    app = App(settings)
    try:
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(scenario.flow_text())
        app.start()
        run = take(app)
        at_rest(app, 1)
        with app.database.reading() as connection:
            row = connection.execute(text("SELECT calls, input_tokens, output_tokens, cost FROM runs WHERE id = :run"), {"run": run}).one()
        assert row.calls == 1
        assert Decimal(row.cost) == (row.input_tokens * Decimal(2) + row.output_tokens * Decimal(10)) / 1_000_000
        assert Decimal(row.cost) > 0
    finally:
        app.close()


def test_a_long_invoice_is_written_whole_in_few_batches(house: Make) -> None:
    app = house()
    app.start()
    take(app, "04-silverbeck-plants-three-pages.pdf")
    assert at_rest(app, 1) == {"done": 1}
    assert [row[7] for row in sheet(app)] == list(range(1, 89))  # in the order of the page
    assert len(ledger(app)) == 88
