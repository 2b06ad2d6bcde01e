"""A failure for good is told: by the steps of whatever is around it, by those of its flow, and by a flow that takes in failures; each cause once."""

from __future__ import annotations

import sqlite3
import threading
from collections.abc import Callable, Iterator
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.core.flows.failing import Failure
from metrikon.core.flows.problems import BadFlow
from metrikon.demo import scenario
from metrikon.store import journal
from tests.engine.test_language import HEAD, begun, rows
from tests.helpers import eventually, run_state

WRITE = 'write: {to: table, key: ["${run.id}"], columns: {Value: "WHAT"}}'
PLACE: dict[str, str] = {}
FAILS = '{name: broken, fetch: {url: "BASE/${item.name}"}}'
TOLD = '{name: told, write: {to: table, key: ["${run.id}", "${failure.step}"], columns: {Value: "${failure.step}: ${failure.message}"}}}'
AROUND = {
    "choose": f"  - {{name: way, choose: {{cases: [{{when: 'true', steps: [{FAILS}]}}]}}, on_failure: {{then: THEN, RESULT steps: [{TOLD}]}}}}\n",
    "each": f"  - {{name: beds, each: {{of: '${{[1, 2, 3]}}', as: bed, steps: [{FAILS}]}}, on_failure: {{then: THEN, RESULT steps: [{TOLD}]}}}}\n",
}
AFTER = '  - {name: last, write: {to: table, key: ["${run.id}", "last"], columns: {Value: "WHAT"}}}\n'
OF_FLOW = f"on_failure: {{steps: [{TOLD}]}}\n"


class _List(BaseHTTPRequestHandler):
    """A list of a seed house; while `there` does not hold, nothing is found."""

    there = False

    def do_GET(self) -> None:
        self.send_response(200 if type(self).there else 404)
        self.send_header("Content-Length", "0")
        self.end_headers()

    def log_message(self, format: str, *args: object) -> None:
        return None


@pytest.fixture
def seeds(monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _List)
    _List.there = False
    threading.Thread(target=server.serve_forever, daemon=True).start()
    monkeypatch.setitem(PLACE, "base", f"http://127.0.0.1:{server.server_address[1]}")
    yield
    server.shutdown()
    server.server_close()


def flow(text: str) -> str:
    return text.replace("BASE", PLACE.get("base", "http://127.0.0.1:1"))


@pytest.mark.parametrize("kind", list(AROUND))
@pytest.mark.parametrize(
    ("then", "result", "stands", "last"), [("park", "", "parked", False), ("end", "", "stopped", False), ("go on", "result: [7],", "done", True)]
)
def test_what_fails_within_a_step_is_dealt_with_by_the_steps_around_it(
    seeds: None, house: Callable[..., App], kind: str, then: str, result: str, stands: str, last: bool
) -> None:
    app = house(fetch_private=True)
    name = "way" if kind == "choose" else "beds"
    run = begun(app, flow(AROUND[kind].replace("THEN", then).replace("RESULT", result) + AFTER.replace("WHAT", f"${{{name}[1]}}")))
    assert eventually(lambda: run_state(app, run)[0] == stands)
    assert rows(app)[-1].endswith("/a.txt answered 404 Not Found.")
    assert rows(app)[:-1] == (["7"] if last else [])

    if then == "park":
        _List.there = True
        app.answers.continue_run(run, "ida")
        assert eventually(lambda: run_state(app, run)[0] == "done")
        assert len(rows(app)) == 2


def test_a_cause_that_keeps_many_runs_is_told_once_by_the_steps_of_their_flow_until_it_is_over(seeds: None, house: Callable[..., App]) -> None:
    app = house(fetch_private=True)
    runs = [begun(app, flow(f"  - {FAILS}\n{OF_FLOW}"), f"paper-{number}.txt") for number in range(5)]
    assert eventually(lambda: all(run_state(app, run)[0] == "parked" for run in runs))
    assert len(rows(app)) == 1

    for run in runs:
        app.answers.continue_run(run, "ida")  # it is still away
    assert eventually(lambda: all(run_state(app, run)[0] == "parked" for run in runs))
    assert len(rows(app)) == 1

    _List.there = True
    for run in runs:
        app.answers.continue_run(run, "ida")
    assert eventually(lambda: all(run_state(app, run)[0] == "done" for run in runs))
    _List.there = False
    later = begun(app, flow(f"  - {FAILS}\n{OF_FLOW}"), "later.txt")
    assert eventually(lambda: run_state(app, later)[0] == "parked" and len(rows(app)) == 2)


def test_the_steps_of_a_flow_see_where_it_failed_and_a_link_to_its_item(seeds: None, house: Callable[..., App]) -> None:
    app = house(fetch_private=True)
    told = TOLD.replace("${failure.step}: ${failure.message}", "${failure.path} ${failure.link}")
    run = begun(app, flow(AROUND["each"].partition(", on_failure")[0] + f"}}\non_failure: {{then: end, steps: [{told}]}}\n"))
    assert eventually(lambda: run_state(app, run)[0] == "stopped")
    (found,) = rows(app)
    with app.database.reading() as connection:
        item = next(entry.data["item"]["id"] for _, entry in journal.load(connection, run) if entry.event == "started")
    assert found == f"beds[1]/broken http://127.0.0.1:8700/arrivals/{item}"


def test_a_paper_that_can_never_be_read_is_told_by_its_flow_and_stays_refused(seeds: None, house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(HEAD + f"  - {{name: paper, read: {{}}}}\n{OF_FLOW}")
    app.start()
    run = app.arrivals.take("garden", "upload", None, "a.pdf", b"%PDF-1.4 no more").run_id
    assert eventually(lambda: run_state(app, run)[0] == "refused")
    (told,) = rows(app)
    assert told.startswith("paper: a.pdf cannot be read.")


def test_a_flow_takes_in_what_fails_in_others_once_for_each_cause(seeds: None, house: Callable[..., App]) -> None:
    app = house(fetch_private=True)
    columns = 'columns: {Value: "${item.data.flow} ${item.data.step}: ${item.data.message} ${item.data.name}"}'
    app.catalog.put_flow(
        "metrikon: 1\nname: watch\nintakes: [{kind: failures}]\n"
        'destinations: {table: {kind: sql, url: "sqlite:///told.db", table: rows}}\n'
        f'steps:\n  - {{name: row, write: {{to: table, key: ["${{item.data.run}}"], {columns}}}}}\n'
    )
    app.start()
    assert eventually(lambda: app.taking.row(app.catalog.newest_flow("watch"), app.catalog.newest_flow("watch").intakes[0])["cursor"])
    runs = [begun(app, flow(f"  - {FAILS}\n"), f"paper-{number}.txt") for number in range(3)]
    assert eventually(lambda: all(run_state(app, run)[0] == "parked" for run in runs))

    def written() -> list[Any]:
        with sqlite3.connect(app.home / "told.db") as table:
            if not table.execute("SELECT 1 FROM sqlite_master WHERE name = 'rows'").fetchall():
                return []
            return [value for (value,) in table.execute("SELECT value FROM rows")]

    assert eventually(lambda: len(written()) == 1)
    assert written()[0].startswith("garden broken: http://127.0.0.1:")


def test_one_cause_is_known_by_what_does_not_differ_from_item_to_item() -> None:
    def cause(path: str, message: str, name: str) -> str:
        return Failure("garden", "1", "2", path, message, item_name=name).cause

    first = cause("lines[1]/write", "scan one.pdf: the server at 10.0.0.7 did not answer for 31 s.", "scan one.pdf")
    assert first == cause("lines[7]/write", "other.pdf: the server at 10.0.0.9 did not answer for 4 s.", "other.pdf")
    assert first != cause("lines[1]/write", "other.pdf: the server refused the password.", "other.pdf")
    assert first != cause("lines[1]/read", "scan one.pdf: the server at 10.0.0.7 did not answer for 31 s.", "scan one.pdf")


@pytest.mark.parametrize(
    ("flow_text", "told"),
    [
        (f"  - {FAILS}\non_failure: {{steps: [{TOLD.replace('failure.step', 'broken.row')}]}}\n", "'broken' is not known"),
        (f"  - {FAILS}\non_failure: {{steps: [{TOLD.replace('failure.message', 'failure.words')}]}}\n", "words"),
        (f"  - {FAILS}\non_failure: {{then: go on, steps: [{TOLD}]}}\n", "on_failure/then"),
        (f"  - {FAILS}\non_failure: {{then: end}}\n", "on_failure/steps: It is missing"),
    ],
)
def test_steps_for_failures_are_checked_like_others(seeds: None, house: Callable[..., App], flow_text: str, told: str) -> None:
    app = house(fetch_private=True)
    with pytest.raises(BadFlow, match=told):
        app.catalog.put_flow(HEAD + flow_text)


REFUSED = """
metrikon: 1
name: garden
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: rows}}
steps:
  - {name: paper, read: {file: "${item.file}"}}
  - {name: invoice, extract: {document: "${paper}", record_type: invoice}}
  - name: checked
    check:
      record: "${invoice}"
      review: always
      on_refusal:
        - {name: back, write: {to: table, key: ["${run.id}"], columns: {Value: "${refusal.record.number}: ${refusal.comment} (${refusal.by})"}}}
  - {name: row, write: {to: table, key: ["${run.id}", "row"], columns: {Value: "${checked.record.number}"}}}
"""


def test_a_record_refused_at_the_desk_goes_through_the_steps_for_that_and_is_refused(house: Callable[..., App]) -> None:
    app = house(flow=REFUSED)
    app.start()
    run = app.arrivals.take("garden", "upload", None, "a.pdf", scenario.document("01-fernhill-nurseries.pdf")).run_id
    assert eventually(lambda: run_state(app, run)[0] == "review")
    with app.database.reading() as connection:
        record = connection.exec_driver_sql("SELECT id FROM records").scalar_one()
    app.answers.refuse(record, "ada", "Not ours.")
    assert eventually(lambda: run_state(app, run)[0] == "refused")
    assert run_state(app, run)[1] == "Refused by ada: Not ours."
    (told,) = rows(app)
    assert told.endswith(": Not ours. (ada)")
    assert told.split(":")[0] not in ("", "null")
