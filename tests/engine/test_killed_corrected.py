"""Killed with -9 at random moments while records are corrected and runs taken back: in the end every row says what its record says."""

from __future__ import annotations

from pathlib import Path

from tests.killing_corrected import killed_corrected


def test_kills_while_records_are_corrected_and_taken_back_leave_what_the_records_say(tmp_path: Path, seed: int) -> None:
    found = killed_corrected(tmp_path / "home", seed, 2)
    assert found.wrong == []
    assert found.kills == 5
