"""Commands as newcomers get them wrong: each is told in their words, with what to do, and nothing is done in silence."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from pathlib import Path

import pytest

from metrikon.app.settings import unknown_in
from metrikon.cli import main
from metrikon.demo import scenario
from tests.helpers import Running


def run(*words: str) -> tuple[int, str, str]:
    out, err = io.StringIO(), io.StringIO()
    return main(list(words), out, err), out.getvalue(), err.getvalue()


@pytest.mark.parametrize("heads", ["Name,Number,Amount", "Name;Number;Amount", "Name\tNumber\tAmount"])
def test_heads_are_parted_as_sheets_of_any_country_part_them(heads: str) -> None:
    code, out, _ = run("record-types", "start", "--heads", heads)
    assert (code, list(json.loads(out)["properties"])) == (0, ["name", "number", "amount"])


@pytest.mark.parametrize(
    ("words", "said"),
    [
        (("record-types", "start", "--sample", "EMPTY"), "Nothing was found in"),
        (("record-types", "start", "--sample", "NOISE"), "of a format that is not known here"),
        (("record-types", "start", "--heads", " , "), "Nothing was found in the heads"),
        (("serve", "--home", "HOME", "--model-url", "http://127.0.0.1:9/v1"), "Give --model NAME (or METRIKON_MODEL_NAME)"),
        (("extract", "EMPTY", "--record-type", "TYPE", "--model-url", "http://127.0.0.1:9/v1"), "Give --model NAME"),
        (("runs", "again", "--flow", "x", "--since", "30.04.2026"), "is no day, such as 2026-04-30. Is 2026-04-30 meant?"),
        (("runs", "again", "--flow", "x", "--since", "soon"), "'soon' is no day, such as 2026-04-30.\n"),
        (("connections", "put", "post", "imaps://mail.example", "--way", "basic", "--user", "a"), "there is no terminal. Give it on standard input"),
    ],
)
def test_what_is_wrong_is_told_with_what_to_do(words: tuple[str, ...], said: str, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    (tmp_path / "empty.txt").write_text("\n")
    (tmp_path / "noise.bin").write_bytes(bytes(range(256)) * 12)
    monkeypatch.setattr("sys.stdin", io.StringIO())
    kind = str(scenario.folder() / "record_types" / "invoice.json")
    named = {"EMPTY": str(tmp_path / "empty.txt"), "NOISE": str(tmp_path / "noise.bin"), "HOME": str(tmp_path / "home"), "TYPE": kind}
    code, out, err = run(*(named.get(word, word) for word in words))
    assert (code, out) == (2, "")
    assert said in err, err
    assert not (tmp_path / "home").exists()


def test_a_variable_that_is_nearly_a_setting_is_told() -> None:
    given = {"METRIKON_FETCHES_MINUTE": "5", "METRIKON_PORT": "8700", "METRIKON_TOKEN": "mk_x", "METRIKON_LARGE_KEY": "k", "PATH": "/bin"}
    assert unknown_in(given) == ["METRIKON_FETCHES_MINUTE is no setting, and does nothing. Is METRIKON_FETCHES_A_MINUTE meant?"]


def test_a_figure_that_a_table_cannot_compare_decides_nothing(running: Callable[..., Running]) -> None:
    service = running()
    service.client.put_decision_table("approvals", (scenario.folder() / "decision_tables" / "approvals.yaml").read_text())
    reach = ("--url", service.url, "--token", service.token)
    code, out, err = run("decision-tables", "ask", "approvals", "amount=1.200,50", *reach)
    assert (code, out) == (1, "")
    assert "wants a number, such as 1200.50, for amount, not the text '1.200,50'. Nothing was decided." in err
    assert run("decision-tables", "ask", "approvals", "amount=1200.50", "purpose=tools", *reach)[0] == 0
