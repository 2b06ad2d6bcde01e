"""What people decide while a run goes on: nothing is asked again, nothing that was approved is lost."""

from __future__ import annotations

import json
import threading
from collections.abc import Callable
from pathlib import Path

import pytest
from sqlalchemy import text

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.demo import scenario
from metrikon.engine.refusing import NotNow
from metrikon.ports.model import ModelAnswer, ModelDown, ModelRequest
from metrikon.sandbox.model_server import ModelServer
from metrikon.store import calls
from tests.engine.test_several import EACH, NAMES, merged, rows
from tests.helpers import answer_here, delivered, eventually, run_state

AT_ONCE = """
metrikon: 1
name: supplier-invoices
intakes:
  - kind: upload
steps:
  - name: document
    read: {}
  - name: papers
    each:
      of: ${document.documents}
      as: paper
      steps:
        - name: sort
          choose:
            cases:
              - when: paper_number = 1
                steps:
                  - name: one
                    extract: {document: "${document}", only: "${paper}", record_type: invoice}
                  - name: looked
                    check: {record: "${one}", review: always}
            otherwise:
              - name: two
                extract: {document: "${document}", only: "${paper}", record_type: invoice}
              - name: three
                extract: {document: "${document}", only: "${paper}", record_type: invoice, context: "Once more."}
"""
LOOKED_AT = EACH.replace(
    "        - name: row\n", '        - name: looked\n          check: {record: "${invoice}", review: always}\n        - name: row\n'
).replace("invoice.record", "looked.record")


class Slow:
    """A model that answers from the third call on only when it is let."""

    name = "slow"
    room = 20_000
    sees = 0

    def __init__(self) -> None:
        self.calls, self.go = 0, threading.Event()

    def answer(self, request: ModelRequest) -> ModelAnswer:
        self.calls += 1
        if self.calls > 2:
            self.go.wait(30)
        return answer_here(request)


def waiting(app: App) -> list[str]:
    with app.database.reading() as connection:
        return list(connection.execute(text("SELECT id FROM records WHERE state = 'waits' ORDER BY id")).scalars())


def test_a_record_approved_while_another_is_read_costs_no_second_call(tmp_path: Path) -> None:
    model = Slow()
    app = App(Settings(home=tmp_path / "home"), models={"slow": model})
    try:
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(AT_ONCE)
        app.start()
        run = app.arrivals.take("supplier-invoices", "upload", None, "two.pdf", merged(*NAMES)).run_id
        eventually(lambda: model.calls == 3)
        (first,) = eventually(lambda: waiting(app))
        app.answers.approve(first, None, "ada")
        assert run_state(app, run)[0] == "running"  # its worker keeps it
        model.go.set()
        eventually(lambda: run_state(app, run)[0] == "done")
        assert model.calls == 3
    finally:
        model.go.set()
        app.close()


@pytest.mark.parametrize("refused_first", [True, False])
def test_one_of_two_records_is_refused_and_the_other_is_written(refused_first: bool, house: Callable[..., App]) -> None:
    app = house(flow=LOOKED_AT)
    app.start()
    run = app.arrivals.take("supplier-invoices", "upload", None, "two.pdf", merged(*NAMES)).run_id
    one, two = eventually(lambda: found if len(found := waiting(app)) == 2 else None)
    decide: list[Callable[[], None]] = [lambda: app.answers.refuse(one, "ada", "not ours"), lambda: app.answers.approve(two, None, "ada")]
    for each in decide if refused_first else decide[::-1]:
        each()
    eventually(lambda: run_state(app, run)[0] == "done")
    assert len(rows(app, "number")) == 1
    assert "1 of 2" in run_state(app, run)[1]
    assert "not ours" in run_state(app, run)[1]


def test_a_run_of_which_every_record_is_refused_ends_as_refused(house: Callable[..., App]) -> None:
    app = house(flow=LOOKED_AT)
    app.start()
    run = app.arrivals.take("supplier-invoices", "upload", None, "two.pdf", merged(*NAMES)).run_id
    for each in eventually(lambda: found if len(found := waiting(app)) == 2 else None):
        app.answers.refuse(each, "ada", "not ours")
    eventually(lambda: run_state(app, run)[0] == "refused")
    assert "not ours" in run_state(app, run)[1]


class Rested(Slow):
    """A model that is down at its third call, and says for how long."""

    def __init__(self, wait: float) -> None:
        super().__init__()
        self.wait = wait

    def answer(self, request: ModelRequest) -> ModelAnswer:
        self.calls += 1
        if self.calls == 3:
            raise ModelDown("The model rests.", self.wait)
        return answer_here(request)


@pytest.mark.parametrize("wait", [0.2, 600.0])
def test_a_step_waits_as_long_as_it_was_told_whoever_else_goes_on(wait: float, tmp_path: Path) -> None:
    model = Rested(wait)
    app = App(Settings(home=tmp_path / "home"), models={"rested": model})
    try:
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(AT_ONCE.replace('context: "Once more."}', 'context: "Once more."}\n                retry: {wait: 0.01}'))
        app.start()
        run = app.arrivals.take("supplier-invoices", "upload", None, "two.pdf", merged(*NAMES)).run_id
        (first,) = eventually(lambda: waiting(app))
        if wait < 1:  # it is tried again though a person is waited for
            eventually(lambda: model.calls == 4)
            eventually(lambda: run_state(app, run)[0] == "review")
        app.answers.approve(first, None, "ada")
        if wait < 1:
            eventually(lambda: run_state(app, run)[0] == "done")
            return
        eventually(lambda: run_state(app, run)[0] == "waiting")
        assert model.calls == 3  # the answer of a person does not wake it
        app.answers.continue_run(run, "ada")
        eventually(lambda: run_state(app, run)[0] == "done")
    finally:
        app.close()


def the_run(app: App, *names: str) -> str:
    app.start()
    return app.arrivals.take("supplier-invoices", "upload", None, "two.pdf", merged(*names)).run_id


UNSAID = LOOKED_AT.replace(
    "        - name: looked\n",
    '        - name: sort\n          choose:\n            cases:\n              - {when: "number(paper.title) > 2", steps: [{name: heavy, stop: {reason: "Too heavy."}}]}\n        - name: looked\n',
)


def test_a_run_that_a_flow_has_parked_is_replaced_once_the_flow_is_put_right(house: Callable[..., App]) -> None:
    app = house(flow=UNSAID)
    run = the_run(app, *NAMES)
    eventually(lambda: run_state(app, run)[0] == "parked")
    assert "came out null" in run_state(app, run)[1]
    app.catalog.put_flow(LOOKED_AT)
    with app.database.reading() as connection:
        item = connection.execute(text("SELECT item_id FROM runs WHERE id = :run"), {"run": run}).scalar_one()
    again = app.again.item(item, "ada")
    assert run_state(app, run) == ("stopped", "Replaced by a new run on version 2 of the flow.")
    for each in eventually(lambda: found if len(found := waiting(app)) == 2 else None):
        app.answers.approve(each, None, "ada")
    eventually(lambda: run_state(app, again)[0] == "done")
    assert len(rows(app, "number")) == 2


def test_a_cancelled_run_writes_no_more_and_asks_nobody(house: Callable[..., App]) -> None:
    app = house(flow=LOOKED_AT)
    run = the_run(app, *NAMES)
    first, second = eventually(lambda: found if len(found := waiting(app)) == 2 else None)
    app.answers.approve(first, None, "ada")
    eventually(lambda: list(delivered(app).values()) == ["written"])
    app.answers.cancel(run, "ada", "sent twice")
    assert run_state(app, run) == ("stopped", "Cancelled by ada: sent twice")
    assert waiting(app) == []
    with pytest.raises(NotNow):
        app.answers.approve(second, None, "ada")
    with pytest.raises(NotNow, match="stopped already"):
        app.answers.cancel(run, "ada")
    assert len(rows(app, "number")) == 1


def test_a_second_reading_is_in_the_cost_that_is_told_beforehand(house: Callable[..., App], stand_in: ModelServer) -> None:
    app = house(model_url=stand_in.url, model_name="stand-in")
    kind = {
        "type": "object",
        "properties": {"title": {"type": "string"}, "frozen": {"type": "boolean", "description": "Whether it was lost to frost."}},
    }
    app.catalog.put_record_type("loss", json.dumps(kind))
    flow = (
        "metrikon: 1\nname: losses\nintakes: [{kind: upload}]\nsteps:\n  - {name: paper, read: {}}\n"
        '  - {name: found, extract: {document: "${paper}", record_type: loss SECOND}}\n'
    )
    data = b"Loss of the mist house\nAll primulas were lost to frost in the night.\n"
    for second, requests in (("", 1), (", second_reading: stand-in", 2)):
        app.catalog.put_flow(flow.replace(" SECOND", second))
        assert app.estimating.of(app.catalog.newest_flow("losses"), data).requests == requests
    app.start()
    run = app.arrivals.take("losses", "upload", None, "a.txt", data).run_id
    eventually(lambda: run_state(app, run)[0] not in ("ready", "running", "waiting"))
    with app.database.reading() as connection:
        made = calls.of_run(connection, run)
    assert [each["stage"] for each in made] == ["ask", "second"]
