"""Killed with -9 at random moments over flows of all kinds: waits, questions, used flows, loops side by side. Every row once, every journal whole."""

from __future__ import annotations

from pathlib import Path

from metrikon.app.kinds import kinds
from metrikon.core.flows.model import every_step
from metrikon.core.flows.reading import flow_from
from metrikon.core.flows.text import from_yaml
from tests.killing import INNER, MIXED, ROWS, killed

ITEMS, KILLS = 8, 6


def test_kills_at_any_moment_lose_nothing_and_write_nothing_twice(tmp_path: Path, seed: int) -> None:
    ended = killed(tmp_path / "home", seed, KILLS, ITEMS)
    assert ended.values == ended.wanted
    assert (ended.rows, ended.keys, ended.unlike) == (ITEMS * ROWS, ITEMS * ROWS, 0)


def test_all_kinds_of_step_are_in_it() -> None:
    used = {step.kind.name for text in (INNER, MIXED) for step in every_step(flow_from(from_yaml(text), kinds().language).steps)}
    going_out = {"mail", "post", "save", "attach", "enter"}  # they have servers of their own: tests/engine/test_going_out.py
    only_ask = {"tally", "convert", "chart", "compose", "search"}  # what is asked or made is the same again: test_reports.py, test_searching.py
    assert used == set(kinds().steps) - going_out - only_ask
