"""Commands as newcomers get them wrong: each is told in their words, with what to do, and nothing is done in silence."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from contextlib import redirect_stderr
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


def at_start(*words: str) -> str:
    """What is told of a command line that is none; it exits with 2, and prints nothing of the program's own insides."""
    err = io.StringIO()
    with redirect_stderr(err), pytest.raises(SystemExit) as ended:
        main(list(words))
    assert ended.value.code == 2
    assert err.getvalue().count("\n") == 1, "one line, not the usage of everything"
    return err.getvalue()


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("run list", "metrikon: There is no command 'run'. Is 'runs' meant? `metrikon --help` tells more."),
        ("runs lst", "metrikon runs: There is no action 'lst'. Is 'list' meant? Known: list, show, continue"),
        ("runs show 1 --jsn", "metrikon runs show: It takes no --jsn. Is '--json' meant?"),
        ("runs show", "It wants id as well. It is used so: metrikon runs show ID."),
        ("upload bill.pdf", "It wants --flow as well. It is used so: metrikon upload FILE --flow FLOW."),
        ("flows try invoices", "It wants one of --file, --item, --sample."),
        ("people add bob --role boss", "--role is one of reader, reviewer, builder, admin, and 'boss' is none of them."),
        ("connections put crm https://a.example --way basc", "and 'basc' is none of them. Is 'basic' meant?"),
        ("serve --port abc", "--port takes a number, and 'abc' is none."),
        ("models list", "It does not take 'list': it takes no words besides its options."),
        ("read a.pdf b.pdf", "It does not take 'b.pdf': it takes FILE."),
    ],
)
def test_a_command_line_that_is_none_is_told_in_our_words(words: str, said: str) -> None:
    assert said in at_start(*words.split())


@pytest.mark.parametrize(
    ("words", "said"),
    [
        ("flows put NONE --url http://127.0.0.1:9", "There is no file NONE."),
        ("flows put FOLDER --url http://127.0.0.1:9", "is a folder. Name a file in it."),
        ("flows check SHEET", "cannot be read as text. It is no text file"),
        ("flows check LATIN", "cannot be read as text. It is not saved as UTF-8, at byte"),
        ("lists put vendors NONE --url http://127.0.0.1:9", "There is no file NONE."),
        ("extract NONE --record-type NONE", "There is no file NONE."),
    ],
)
def test_a_file_that_cannot_be_read_is_told_without_numbers_of_errors(words: str, said: str, tmp_path: Path) -> None:
    (tmp_path / "book.xlsx").write_bytes(b"PK\x03\x04\x82\x00")
    (tmp_path / "latin.yaml").write_bytes("name: Gärten".encode("latin-1"))
    named = {"FOLDER": str(tmp_path), "SHEET": str(tmp_path / "book.xlsx"), "LATIN": str(tmp_path / "latin.yaml")}
    code, _, err = run(*(named.get(word, word) for word in words.split()))
    assert code == 2
    assert said in err
    assert "Errno" not in err


@pytest.mark.parametrize(
    "words",
    ["runs list --flow invoics", "flows show invoics", "flows on invoics", "flows copy invoics other", "runs take-back --flow invoics --version 1",
     "runs again --flow invoics", "upload FILE --flow invoics", "intakes preview invoics"],
)  # fmt: skip
def test_a_flow_that_is_not_there_is_told_with_the_nearest_wherever_it_is_named(words: str, running: Callable[..., Running], tmp_path: Path) -> None:
    service = running()
    service.client.put_flow("invoices", "metrikon: 1\nname: invoices\nintakes: [{kind: upload}]\nsteps: [{name: end, stop: {reason: end}}]\n")
    (tmp_path / "a.txt").write_text("a")
    given = [str(tmp_path / "a.txt") if word == "FILE" else word for word in words.split()]
    code, out, err = run(*given, "--url", service.url, "--token", service.token)
    assert (code, out) == (1, "")
    assert "There is no flow 'invoics'. Is 'invoices' meant? Known: invoices" in err


def test_a_type_that_is_not_there_and_a_correction_that_is_none_are_told(running: Callable[..., Running]) -> None:
    service = running()
    service.client.put_record_type("invoice", scenario.invoice_type())
    reach = ("--url", service.url, "--token", service.token)
    code, _, err = run("records", "list", "--record-type", "invoce", *reach)
    assert (code, "There is no record type 'invoce'. Is 'invoice' meant?" in err) == (1, True), err
    code, _, err = run("connections", "put", "crm", "crm.example/api", *reach)
    assert (code, "Is https://crm.example/api meant" in err) == (1, True), err
