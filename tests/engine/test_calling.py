"""Calls of models: what may be spent is reserved before, answers are given again, a model that is down rests, another takes over."""

from __future__ import annotations

import threading
import time
from collections.abc import Callable
from contextlib import suppress
from decimal import Decimal
from http.server import BaseHTTPRequestHandler, ThreadingHTTPServer
from pathlib import Path
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.demo import scenario
from metrikon.engine.budget import FAILURES, Breaker, Budget, SpendLimits
from metrikon.models.specs import BadModels, ModelSpec, specs_in
from metrikon.ports.clock import StillClock
from metrikon.ports.model import ModelAnswer, ModelDown, ModelRefused, ModelRequest, OverLimit
from metrikon.sandbox.model_server import ModelServer
from metrikon.store import calls
from tests.helpers import answer_here, at_rest, eventually, run_state, states

PRICED = ModelSpec(name="big", url="", price_in=Decimal(1000), price_out=Decimal(1000), answer_tokens=100)  # 0.001 a token
ASKED = ModelRequest([{"role": "user", "content": "x"}], {})


class Counting:
    """A model that counts its calls."""

    room = 20_000
    sees = 0

    def __init__(self, name: str, down: bool = False) -> None:
        self.name = name
        self.down = down
        self.calls = 0

    def answer(self, request: ModelRequest) -> ModelAnswer:
        self.calls += 1
        if self.down:
            raise ModelDown(f"{self.name} is down.")
        return answer_here(request)


def budget(clock: StillClock | None = None, **limits: str) -> Budget:
    return Budget(
        SpendLimits(**{name: Decimal(value) for name, value in limits.items()}),
        clock or StillClock(),
        lambda since, flow: Decimal(0),
        lambda run: Decimal(0),
    )


def taken(app: App, name: str) -> str:
    return app.arrivals.take(scenario.FLOW, "upload", None, name, scenario.document(name)).run_id


def of_run(app: App, run_id: str) -> list[dict[str, Any]]:
    with app.database.reading() as connection:
        return calls.of_run(connection, run_id)


def test_what_a_call_may_cost_at_most_is_reserved_before_it() -> None:
    counting = budget(day="0.30")
    first = counting.reserve(PRICED, "flow", "run", 100)  # 0.20
    with pytest.raises(OverLimit, match=r"0\.2 were spent by all flows today.*limit of 0\.30.*spend_day"):
        counting.reserve(PRICED, "flow", "run", 100)
    counting.settle(first, Decimal("0.05"), 50)
    counting.reserve(PRICED, "flow", "run", 100)
    assert counting.spent_today() == Decimal("0.25")


@pytest.mark.parametrize(("limit", "other"), [("run", ("flow", "other run")), ("flow", ("other flow", "run"))])
def test_each_limit_counts_what_it_is_for(limit: str, other: tuple[str, str]) -> None:
    counting = budget(None, **{limit: "0.25"})
    counting.reserve(PRICED, "flow", "run", 100)
    with pytest.raises(OverLimit, match=f"spend_{limit}"):
        counting.reserve(PRICED, "flow", "run", 100)
    counting.reserve(PRICED, *other, 100)


def test_of_many_threads_only_as_many_spend_as_the_limit_allows() -> None:
    counting, made, barrier = budget(day="1.00"), [], threading.Barrier(20)

    def spend() -> None:
        barrier.wait()
        try:
            made.append(counting.reserve(PRICED, "flow", "run", 100))
        except OverLimit:
            pass

    threads = [threading.Thread(target=spend) for _ in range(20)]
    for each in threads:
        each.start()
    for each in threads:
        each.join()
    assert len(made) == 5


def test_the_next_day_counts_anew() -> None:
    clock = StillClock()
    counting = budget(clock, day="0.25")
    counting.reserve(PRICED, "flow", "run", 100)
    clock.at += 86_400 * 1000
    counting.reserve(PRICED, "flow", "run", 100)


def test_too_many_calls_a_minute_wait_for_their_turn() -> None:
    clock = StillClock()
    counting = budget(clock)
    spec = PRICED.model_copy(update={"calls_a_minute": 2})
    counting.reserve(spec, "flow", "run", 1)
    clock.at += 20 * 1000
    counting.reserve(spec, "flow", "run", 1)
    with pytest.raises(ModelDown) as caught:
        counting.reserve(spec, "flow", "run", 1)
    assert caught.value.wait == pytest.approx(40)
    clock.at += 41 * 1000
    counting.reserve(spec, "flow", "run", 1)


def test_tokens_a_minute_count_what_is_read_and_may_be_written() -> None:
    clock = StillClock()
    counting = budget(clock)
    spec = PRICED.model_copy(update={"tokens_a_minute": 500})
    first = counting.reserve(spec, "flow", "run", 300)
    with pytest.raises(ModelDown, match="500 tokens"):
        counting.reserve(spec, "flow", "run", 100)
    counting.settle(first, Decimal(0), 120)
    counting.reserve(spec, "flow", "run", 100)


def test_a_model_that_fails_again_and_again_rests_and_is_tried_once_after() -> None:
    clock = StillClock()
    breaker = Breaker(clock)
    for _ in range(FAILURES):
        breaker.check("big")
        breaker.bad("big")
    with pytest.raises(ModelDown) as caught:
        breaker.check("big")
    assert caught.value.wait == pytest.approx(30)
    clock.at += 31 * 1000
    breaker.check("big")
    with pytest.raises(ModelDown):
        breaker.check("big")  # one call tells; the others wait for it
    breaker.good("big")
    breaker.check("big")


class Refusing(Counting):
    """A model that is down, then refuses what it is asked, then answers."""

    def answer(self, request: ModelRequest) -> ModelAnswer:
        self.calls += 1
        if self.calls <= FAILURES:
            raise ModelDown("It is down.")
        if self.calls == FAILURES + 1:
            raise ModelRefused("That cannot be asked.")
        return answer_here(request)


@pytest.mark.parametrize("over_limit", [False, True])
def test_a_trial_call_that_tells_nothing_does_not_keep_a_model_shut(over_limit: bool, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    model = Refusing("big")
    app = App(Settings(home=tmp_path, model_rest=0.0), models={"big": model})
    try:
        bound = app.board.bound("big", "flow", "run")
        request = ModelRequest(
            [{"role": "user", "content": "<document>\nFerns\n</document>"}], {"type": "object", "properties": {"a": {"type": "string"}}}, fresh=True
        )
        for _ in range(FAILURES):
            with pytest.raises(ModelDown):
                bound.answer(request)
        if over_limit:
            with monkeypatch.context() as patched:

                def reserve(*_: object) -> None:
                    raise OverLimit("The limit of the day is reached.")

                patched.setattr(app.board.budget, "reserve", reserve)
                with pytest.raises(OverLimit):
                    bound.answer(request)
        with pytest.raises(ModelRefused):
            bound.answer(request)
        assert bound.answer(request).text
    finally:
        app.close()


def test_the_same_request_costs_nothing_the_second_time(tmp_path: Path) -> None:
    model = Counting("big")
    app = App(Settings(home=tmp_path), models={"big": model})
    try:
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(scenario.flow_text())
        app.start()
        first = taken(app, "01-fernhill-nurseries.pdf")
        at_rest(app, 1)
        asked = model.calls
        with app.database.reading() as connection:
            item = connection.exec_driver_sql("SELECT item_id FROM runs").scalar_one()
        second = app.again.item(item, "")
        eventually(lambda: run_state(app, second)[0] == "done")
        assert model.calls == asked
        assert [each["outcome"] for each in of_run(app, first)] == ["good"]
        assert [(each["outcome"], each["cost"]) for each in of_run(app, second)] == [("kept", "0")]
    finally:
        app.close()


def test_models_are_asked_anew_by_the_steps_that_are_repeated_where_that_is_wanted(tmp_path: Path) -> None:
    model = Counting("big")
    app = App(Settings(home=tmp_path), models={"big": model})
    try:
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(scenario.flow_text())
        app.start()
        taken(app, "01-fernhill-nurseries.pdf")
        at_rest(app, 1)
        once = model.calls
        with app.database.reading() as connection:
            item = connection.exec_driver_sql("SELECT item_id FROM runs").scalar_one()
        behind = app.again.item(item, "", "checked", anew=True)  # the step that asks stands before it
        assert eventually(lambda: run_state(app, behind)[0] == "done")
        assert model.calls == once
        second = app.again.item(item, "", anew=True)
        assert eventually(lambda: run_state(app, second)[0] == "done")
        assert model.calls == 2 * once
        third = app.again.item(item, "")  # what was answered anew is kept
        assert eventually(lambda: run_state(app, third)[0] == "done")
        assert model.calls == 2 * once
    finally:
        app.close()


READS = """
metrikon: 1
name: reads
intakes: [{kind: upload}]
steps:
  - {name: document, read: {file: "${item.file}"}}
  - {name: invoice, extract: {document: "${document}", record_type: invoice, model: big}}
"""
USES = """
metrikon: 1
name: uses
intakes: [{kind: upload}]
steps: [{name: read, use: {flow: reads, given: {}}}]
"""


def test_models_are_asked_anew_by_the_flows_that_are_used_as_well(tmp_path: Path) -> None:
    model = Counting("big")
    app = App(Settings(home=tmp_path), models={"big": model})
    try:
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(READS)
        app.catalog.put_flow(USES)
        app.start()
        run = str(app.arrivals.take("uses", "upload", "a", "a.pdf", scenario.document("01-fernhill-nurseries.pdf")).run_id)
        assert eventually(lambda: run_state(app, run)[0] == "done")
        once = model.calls
        assert once > 0
        with app.database.reading() as connection:
            item = connection.exec_driver_sql("SELECT item_id FROM runs").scalar()
        kept = app.again.item(str(item), "")
        assert eventually(lambda: run_state(app, kept)[0] == "done")
        assert model.calls == once
        anew = app.again.item(str(item), "", anew=True)
        assert eventually(lambda: run_state(app, anew)[0] == "done")
        assert model.calls == 2 * once
    finally:
        app.close()


def test_an_answer_that_a_person_corrected_is_not_given_again(tmp_path: Path) -> None:
    model = Counting("big")
    app = App(Settings(home=tmp_path), models={"big": model})
    try:
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(scenario.flow_text())
        app.start()
        run = taken(app, "09-brackendale-wrong-sum.pdf")
        at_rest(app, 1)
        before = model.calls
        with app.database.reading() as connection:
            record, item = connection.exec_driver_sql("SELECT id, item_id FROM records").one()
        app.answers.refuse(record, "ada", "It does not add up.")
        eventually(lambda: run_state(app, run)[0] == "refused")
        again = app.again.item(item, "")
        eventually(lambda: run_state(app, again)[0] == "review")
        assert model.calls == 2 * before
        assert {each["outcome"] for each in of_run(app, run)} == {"rejected"}
    finally:
        app.close()


def test_a_limit_parks_the_run_before_the_call_and_names_its_setting(stand_in: ModelServer, house: Callable[..., App]) -> None:
    app = house(model_url=stand_in.url, model_name="stand-in", price_in=Decimal(100), price_out=Decimal(100), spend_day=Decimal("0.0001"))
    app.start()
    run = taken(app, "01-fernhill-nurseries.pdf")
    at_rest(app, 1)
    state, reason = run_state(app, run)
    assert state == "parked"
    assert "spend_day" in reason
    assert stand_in.mood.calls == 0


def test_when_a_model_is_down_its_fallback_answers(tmp_path: Path, stand_in: ModelServer) -> None:
    (tmp_path / "models.yaml").write_text(f"""
- {{name: first, url: "http://127.0.0.1:9/v1", timeout: 1, fallback: [other]}}
- {{name: other, url: "{stand_in.url}", price_in: 0.20, price_out: 0.80}}
""")
    app = App(Settings(home=tmp_path))
    try:
        assert app.default_model == "first"
        app.models["first"]._sleep = lambda seconds: None  # type: ignore[attr-defined]
        app.catalog.put_record_type("invoice", scenario.invoice_type())
        app.catalog.put_flow(scenario.flow_text())
        app.start()
        run = taken(app, "01-fernhill-nurseries.pdf")
        assert at_rest(app, 1) == {"done": 1}
        found = of_run(app, run)
        assert [(each["model"], each["outcome"]) for each in found] == [("first", "failed"), ("other", "good")]
        assert "cannot be reached" in found[0]["error"]
        assert Decimal(found[1]["cost"]) > 0
    finally:
        app.close()


@pytest.mark.parametrize(
    ("text", "message"),
    [
        ("- {name: a, url: u, fallback: [b]}", "fallback 'b'"),
        ("- {name: a, url: u}\n- {name: a, url: v}", "given twice"),
        ("- {name: a}", "model 1, url"),
        ("name: a", "list of models"),
        ("- {name: a, url: u, prise_in: 1}", "prise_in"),
    ],
)
def test_a_file_of_models_that_is_wrong_says_where(text: str, message: str, tmp_path: Path) -> None:
    (tmp_path / "models.yaml").write_text(text)
    with pytest.raises(BadModels, match=message):
        specs_in(tmp_path / "models.yaml")


def test_what_was_asked_is_kept_without_secrets_and_forgotten_in_time(stand_in: ModelServer, house: Callable[..., App]) -> None:
    app = house(model_url=stand_in.url, model_name="stand-in", model_key="very secret", keep_calls_days=30)
    app.start()
    run = taken(app, "01-fernhill-nurseries.pdf")
    at_rest(app, 1)
    (row,) = of_run(app, run)
    with app.database.reading() as connection:
        whole = calls.get(connection, row["id"])
    assert whole is not None
    assert "Fernhill" in whole["prompt"]["messages"][1]["content"]
    assert "very secret" not in str(whole)
    app.database.write(lambda connection: calls.forget(connection, app.clock.now() + 1))
    with app.database.reading() as connection:
        forgotten = calls.get(connection, row["id"])
    assert forgotten is not None
    assert (forgotten["prompt"], forgotten["answer"], forgotten["input_tokens"]) == (None, None, row["input_tokens"])


def test_the_estimate_is_near_what_the_demo_then_costs(stand_in: ModelServer, house: Callable[..., App]) -> None:
    app = house(model_url=stand_in.url, model_name="stand-in", price_in=Decimal("0.20"), price_out=Decimal("0.80"))
    flow = app.catalog.flow(scenario.FLOW, 1)
    names = [each.name for each in scenario.expected() if each.name[:2] not in ("05", "06", "11", "13")]
    estimated = sum((app.estimating.of(flow, scenario.document(name)).cost for name in names), Decimal(0))
    assert states(app) == {}  # nothing was taken in
    assert stand_in.mood.calls == 0
    app.start()
    runs = [taken(app, name) for name in names]
    at_rest(app, len(names))
    cost = sum((Decimal(each["cost"]) for run in runs for each in of_run(app, run)), Decimal(0))
    assert abs(estimated / cost - 1) <= Decimal("0.15"), (estimated, cost)


class _Slow(BaseHTTPRequestHandler):
    """It streams an answer that never comes to its end."""

    def do_POST(self) -> None:
        self.rfile.read(int(self.headers["Content-Length"]))
        self.send_response(200)
        self.send_header("Content-Type", "text/event-stream")
        self.end_headers()
        with suppress(OSError):
            for number in range(200):
                self.wfile.write(b'data: {"choices": [{"delta": {"content": "%d "}}]}\n\n' % number)
                self.wfile.flush()
                time.sleep(0.05)

    def log_message(self, format: str, *args: object) -> None:
        return None


LIMITED = """
metrikon: 1
name: limited
intakes: [{kind: upload}]
steps:
  - {name: paper, read: {}}
  - {name: found, limit: 1, extract: {document: "${paper}", record_type: invoice}}
"""


def test_reading_is_broken_off_when_the_time_of_its_step_is_over_and_that_is_not_the_files_fault(house: Callable[..., App]) -> None:
    app = house(flow=LIMITED.replace("read: {}", "limit: 0.4, read: {}"))
    app.start()
    start = time.monotonic()
    scan = app.arrivals.take("limited", "upload", None, "scan.pdf", scenario.document("05-oakhanger-garden-scan.pdf")).run_id
    eventually(lambda: run_state(app, scan)[0] == "parked")
    assert time.monotonic() - start < 2
    assert run_state(app, scan)[1] == "It took longer than its limit of 0.4 seconds."
    quick = app.arrivals.take("limited", "upload", None, "a.txt", b"Invoice 17\nTotal 12.00 EUR").run_id
    eventually(lambda: run_state(app, quick)[0] not in ("ready", "running", "waiting"))
    assert run_state(app, quick)[0] != "refused", "the next one has a reader"


def test_a_call_is_broken_off_when_the_time_of_its_step_is_over_and_is_counted(house: Callable[..., App]) -> None:
    server = ThreadingHTTPServer(("127.0.0.1", 0), _Slow)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    url = f"http://127.0.0.1:{server.server_address[1]}"
    app = house(model_url=url, model_name="slow", price_in=Decimal(2), price_out=Decimal(8))
    app.catalog.put_flow(LIMITED)
    app.start()
    start = time.monotonic()
    run = app.arrivals.take("limited", "upload", None, "a.txt", b"Invoice 17\nTotal 12.00 EUR").run_id
    eventually(lambda: run_state(app, run)[0] == "parked")
    server.shutdown()
    server.server_close()
    assert time.monotonic() - start < 6
    assert run_state(app, run)[1] == "It took longer than its limit of 1 second."
    with app.database.reading() as connection:
        (call,) = calls.of_run(connection, run)
    assert "had not answered when the time of its step was over" in call["error"]
    assert call["input_tokens"] > 50
    assert Decimal(call["cost"]) > 0
    assert app.board.budget.spent_today("limited") == Decimal(call["cost"])
    assert app.board.breaker.resting() == []
