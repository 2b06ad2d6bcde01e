"""Killed with -9 at random moments while rows go to all kinds of destination: each there once; what nobody can tell of is never repeated unasked."""

from __future__ import annotations

from pathlib import Path

import pytest

from tests.killing_out import killed_out


@pytest.mark.filterwarnings("ignore:Requiring AUTH while not requiring TLS")
def test_kills_while_rows_go_to_all_kinds_of_destination_write_each_once(tmp_path: Path, seed: int) -> None:
    found = killed_out(tmp_path, seed, 4, 8)
    assert found.wrong == []
