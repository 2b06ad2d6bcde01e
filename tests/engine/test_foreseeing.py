"""What an intake would cost is told from some that are read: right where all cost the same, a span around the truth where they do not."""

from __future__ import annotations

from collections.abc import Callable
from decimal import Decimal

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.app.assemble import App
from metrikon.engine.foreseeing import _money
from metrikon.sandbox.model_server import ModelServer

FLOW = """
metrikon: 1
name: letters
intakes: [{kind: folder, path: in, settled: 0}]
steps:
  - {name: letter, read: {file: "${item.file}"}}
  - {name: about, classify: {of: "${letter}", labels: [{name: order, about: Somebody orders plants.}, {name: thanks, about: Somebody thanks.}]}}
"""


@pytest.fixture
def app(house: Callable[..., App], stand_in: ModelServer) -> App:
    prices = {"price_in": Decimal(1), "price_out": Decimal(1), "model_url": stand_in.url, "model_name": "stand-in", "ask_cost": Decimal("0.001")}
    app = house(**prices)
    app.catalog.put_flow(FLOW)
    (app.home / "in").mkdir()
    return app


def test_the_cost_of_all_is_told_as_a_span_around_what_each_would_cost_by_itself(app: App) -> None:
    flow = app.catalog.newest_flow("letters")
    alone = Decimal(0)
    for number in range(80):
        text = f"Dear garden, this is letter {number}.\n" + "We should like to order ferns.\n" * (number % 9)
        (app.home / "in" / f"{number}.txt").write_text(text)
        alone += app.estimating.of(flow, text.encode()).cost
    would = app.watching.would(flow, flow.intakes[0], 5)
    assert (would.count, would.read, len(would.listed)) == (80, 30, 5)
    assert would.low <= alone <= would.high
    assert would.high < alone * 2


def test_what_may_cost_more_than_a_set_amount_waits_for_a_yes_however_few_they_are(app: App) -> None:
    flow = app.catalog.newest_flow("letters")
    for number in range(15):
        (app.home / "in" / f"{number}.txt").write_text("We should like to order ferns.\n" * 40 + str(number))
    with app.watching.asking(flow, flow.intakes[0]) as found:
        row = app.taking.row(flow, flow.intakes[0], found.place)
        assert not app.agreeing.agreed(flow, flow.intakes[0], found.source, row, aside=False)
    assert not app.watching.look(flow, flow.intakes[0]).count


def test_a_flow_without_a_model_that_has_a_price_costs_nothing_and_reads_nothing(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(FLOW.split("  - {name: about")[0])
    (app.home / "in").mkdir()
    (app.home / "in" / "a.txt").write_text("a")
    flow = app.catalog.newest_flow("letters")
    would = app.watching.would(flow, flow.intakes[0], 5)
    assert (would.count, would.read) == (1, 0)
    assert would.high == 0


@given(st.floats(0, 1e9))
def test_a_span_is_never_narrower_than_what_was_worked_out(value: float) -> None:
    low, high = _money(value, -1), _money(value, 1)
    assert low <= Decimal(repr(value)) <= high
    assert len(low.normalize().as_tuple().digits) <= 2
