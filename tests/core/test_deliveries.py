"""The moves of a delivery: what is there is never lost sight of, what is gone may come again, and nothing moves that the table does not know."""

from __future__ import annotations

from decimal import Decimal
from typing import get_args

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.deliveries.comparing import Differs, changed, same_values, told
from metrikon.core.deliveries.sending import Sends
from metrikon.core.deliveries.states import DUE, ENDED, FREE, MOVES, STATES, Move, NoSuchMove, State, moved, sources, target
from metrikon.core.feel.holes import fill, outside

AT_REST = {*ENDED, *FREE, "unsure", "shown"}  # nothing happens by itself from there


def test_every_move_goes_between_known_states_and_every_state_is_reached() -> None:
    assert set(MOVES) == set(get_args(Move))
    reached = {state for each in MOVES.values() for state in each.values()}
    assert reached == set(STATES)
    left = {state for each in MOVES.values() for state in each} - {None}
    assert left == set(STATES), "nothing is stuck for good"


@given(st.lists(st.sampled_from(sorted(MOVES)), max_size=30))
def test_whatever_happens_a_delivery_is_in_one_state_and_what_may_be_there_is_not_entered_anew(moves: list[Move]) -> None:
    state: State | None = None
    may_be_there = False
    for move in moves:
        if move == "enter":
            may_be_there = may_be_there and state not in (*FREE, None)
        try:
            state = moved(state, move)
        except NoSuchMove:
            continue
        assert not (move in ("enter", "show") and may_be_there)
        may_be_there = state in (*ENDED, "sending", "unsure", "returning")
    assert state is None or state in STATES


def test_what_is_due_is_what_its_destination_is_asked_for() -> None:
    assert set(DUE) == set(STATES) - AT_REST - {"sending"}


@pytest.mark.parametrize(
    ("state", "move"), [("written", "enter"), ("sending", "enter"), ("unsure", "written"), ("taken back", "take back"), (None, "gone")]
)
def test_a_move_that_is_not_in_the_table_is_refused(state: State | None, move: Move) -> None:
    with pytest.raises(NoSuchMove, match="has no move"):
        moved(state, move)


def test_where_a_move_leads_to_several_states_nobody_takes_it_for_one() -> None:
    assert target("written") == "written"
    assert sources("take back") == ("written", "corrected")
    with pytest.raises(NoSuchMove, match="leads to several"):
        target("put off")


def test_numbers_are_the_same_whatever_their_zeros_and_an_empty_text_is_nothing() -> None:
    assert same_values({"a": Decimal("5.00"), "b": "", "c": None}, {"a": 5, "c": ""})
    assert not same_values({"a": True}, {"a": 1})
    assert changed({"a": 1, "b": 2}, {"a": 1, "b": 3, "c": 4}) == {"b": 2}


def test_what_differs_is_told_by_column_and_cut_where_it_is_long() -> None:
    assert told([Differs("Price", Decimal("38.50"), 41)]) == "Price is 38.50, the paper says 41."
    assert told([]) == ""
    many = told([Differs(f"C{number}", "", "x" * 99) for number in range(6)])
    assert many.startswith("C0 is empty, the paper says xxx")
    assert many.endswith("; and 2 more.")


def test_what_goes_out_has_a_key_of_its_item_and_step_or_of_the_parts_that_a_flow_gives() -> None:
    plain, keyed = Sends("mail", "post", {}), Sends("mail", "post", {}, ["Fernhill", 12])
    assert plain.key_for("f", "i", "a") != plain.key_for("f", "i", "b")
    assert keyed.key_for("f", "i", "a") == keyed.key_for("f", "j", "a")
    assert keyed.key_for("f", "i", "lines[1]/a") == keyed.key_for("f", "i", "lines[2]/a")
    assert keyed.key_for("f", "i", "a") != keyed.key_for("f", "i", "b"), "another step sends something else"
    assert keyed.key_for("f", "i", "a") != Sends("mail", "other", {}, ["Fernhill", 12]).key_for("f", "i", "a")


def test_what_goes_out_names_the_offset_of_a_date_with_a_time_and_no_zone() -> None:
    scope = {"kept": "2026-12-01T14:26:26.2@Europe/Vienna", "told": "Write to ada@x.example"}
    expression = '${date and time("2026-07-01T08:00:00@Europe/Vienna")}'
    assert fill(expression, scope, made=outside) == "2026-07-01T08:00:00+02:00"
    assert fill(f"at {expression}", scope, made=outside) == "at 2026-07-01T08:00:00+02:00"
    assert fill(["${kept}", "${told}"], scope, made=outside) == ["2026-12-01T14:26:26.2+01:00", "Write to ada@x.example"]
    assert fill({"at": expression}, scope)["at"].endswith("@Europe/Vienna"), "within a flow it keeps its zone"
    assert outside("2026-12-01T14:26:26@Nowhere/Here") == "2026-12-01T14:26:26@Nowhere/Here"
