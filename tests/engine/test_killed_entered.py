"""Killed with -9 at random moments while invoices are typed into a program: each there once; where it cannot be looked up, never repeated unasked."""

from __future__ import annotations

from pathlib import Path

from tests.killing_entered import killed_entered


def test_kills_while_invoices_are_typed_into_a_program_enter_each_once(tmp_path: Path, seed: int) -> None:
    found = killed_entered(tmp_path / "home", seed, 3, 2)
    assert found.wrong == []
