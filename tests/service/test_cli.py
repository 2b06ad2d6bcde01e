"""The command line: what it prints, and with which code it ends."""

from __future__ import annotations

import io
import json
import signal
import sqlite3
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.cli import ROOMS, main, parser
from metrikon.cli.service import local_access
from metrikon.demo import scenario
from metrikon.sandbox.model_server import ModelServer
from tests.engine.test_several import NAMES, merged
from tests.helpers import Running, at_rest

Start = Callable[..., Running]
DOCUMENTS = scenario.folder() / "documents"
TYPE = str(scenario.folder() / "record_types" / "invoice.json")
FERNHILL, WRONG, BROKEN = (str(DOCUMENTS / name) for name in ("01-fernhill-nurseries.pdf", "09-brackendale-wrong-sum.pdf", "13-broken-file.pdf"))


def run(*arguments: str) -> tuple[int, str, str]:
    out, err = io.StringIO(), io.StringIO()
    code = main(arguments, out, err)
    return code, out.getvalue(), err.getvalue()


@pytest.fixture
def local(running: Start) -> Running:
    """A service that commands find by its folder."""
    service = running()
    local_access(service.app, service.url)
    return service


def test_read_shows_text_and_tables() -> None:
    code, out, _ = run("read", FERNHILL)
    assert code == 0
    assert "Fernhill Nurseries Ltd" in out
    assert "table 1, page 1, 3 rows" in out
    code, out, _ = run("read", FERNHILL, "--json")
    data = json.loads(out)
    assert set(data) >= {"format", "why", "text", "pages", "tables", "facts", "warnings"}
    assert data["tables"][0]["header"] == ["Code", "Description", "Qty", "Unit price", "Amount"]


def test_what_cannot_be_read_ends_with_2_and_says_why() -> None:
    for command in (["read", BROKEN], ["extract", BROKEN, "--record-type", TYPE], ["read", "nowhere.pdf"]):
        code, out, err = run(*command)
        assert (code, out) == (2, "")
        assert err.startswith("metrikon: ")
    code, out, _ = run("read", BROKEN, "--json")
    assert (code, json.loads(out)["error"]["code"]) == (2, "broken")


def test_extract_prints_record_evidence_findings_and_usage() -> None:
    code, out, _ = run("extract", FERNHILL, "--record-type", TYPE, "--json")
    data = json.loads(out)
    assert code == 0
    assert set(data) == {"record", "evidence", "findings", "stages", "usage"}
    assert data["evidence"]["/number"]["quote"] == "FN-20417"
    assert '"total": 489.36' in out
    code, out, _ = run("extract", WRONG, "--record-type", TYPE)
    assert code == 3
    assert "stop: Net + Tax comes to 489.36" in out


def test_extract_asks_the_model_it_is_given(stand_in: ModelServer) -> None:
    code, out, _ = run("extract", FERNHILL, "--record-type", TYPE, "--model-url", stand_in.url, "--model", "stand-in", "--json")
    data = json.loads(out)
    assert code == 0
    assert data["usage"]["model"] == "stand-in"
    assert data["usage"]["input_tokens"] > 100


@pytest.mark.parametrize(("text", "said"), [("{", "no JSON"), ('{"type": "string"}', "describes an object"), ('{"type": 5}', "no valid JSON Schema")])
def test_a_bad_record_type_is_told(text: str, said: str, tmp_path: Path) -> None:
    (tmp_path / "type.json").write_text(text)
    code, _, err = run("extract", FERNHILL, "--record-type", str(tmp_path / "type.json"))
    assert code == 2
    assert said in err


def test_a_file_is_uploaded_waited_for_listed_shown_and_approved(local: Running, monkeypatch: pytest.MonkeyPatch) -> None:
    home = ["--home", str(local.app.home)]
    code, out, _ = run("upload", WRONG, "--flow", scenario.FLOW, "--wait", *home)
    assert code == 3
    assert "09-brackendale-wrong-sum.pdf: review" in out
    code, out, _ = run("runs", "list", "--state", "review", "--json", *home)
    (listed,) = json.loads(out)
    code, out, _ = run("runs", "show", listed["id"], *home)
    assert "asked" in out
    code, out, _ = run("records", "list", "--state", "waits", "--json", *home)
    (record,) = json.loads(out)
    code, out, _ = run("records", "show", record["id"], *home)
    assert "Brackendale Nurseries Ltd · BN-4471 (waits)" in out
    code, _, err = run("records", "approve", record["id"], "--set", "totl=489.36", *home)
    assert (code, "has no field 'totl'. Is 'total' meant?" in err) == (1, True), err
    code, _, err = run("records", "approve", record["id"], *home)
    assert (code, "say with --comment why" in err, "It is still stopped: " in err) == (2, True, True), err
    monkeypatch.setenv("METRIKON_PERSON", "Ida Wren")
    correct = ("--set", "total=489.36", "--set", "lines/0/quantity=2", "--comment", "they say so")
    code, out, err = run("records", "approve", record["id"], *correct, *home)
    assert (code, err) == (0, "")
    with local.app.database.reading() as connection:
        by = connection.exec_driver_sql("SELECT data FROM journal WHERE event = 'answered'").scalar_one()
    assert b'"by":"Ida Wren (token this machine)"' in by
    assert "total is now 489.36.\n" in out
    at_rest(local.app, 1)
    code, out, _ = run("runs", "list", *home)
    assert "done" in out


def test_a_record_is_refused_with_a_reason(local: Running) -> None:
    home = ["--home", str(local.app.home)]
    run("upload", WRONG, "--flow", scenario.FLOW, "--wait", *home)
    record = json.loads(run("records", "list", "--json", *home)[1])[0]["id"]
    code, out, _ = run("records", "refuse", record, "--comment", "not ours", *home)
    assert (code, "nothing of it is written" in out) == (0, True)
    at_rest(local.app, 1)
    assert "not ours" in run("runs", "list", *home)[1]


def test_flows_are_put_listed_and_switched(local: Running, tmp_path: Path) -> None:
    home = ["--home", str(local.app.home)]
    path = tmp_path / "flow.yaml"
    path.write_text(scenario.flow_text().replace("supplier-invoices", "second-flow"))
    code, out, _ = run("flows", "put", str(path), *home)
    assert (code, out.splitlines()) == (
        0,
        [
            "Flow second-flow is kept as version 1.",
            f"Its intake folder looks at {local.app.home}/invoices, which is not there yet.",
            f"Its destination workbook writes to {local.app.home}/ledger.xlsx, which is not there yet.",
            f"Its destination table writes to {local.app.home}/ledger.db, which is not there yet.",
            "Its intake folder takes the same things as that of supplier-invoices: what is there is taken by both. Give one of them another place, or a condition.",
            "It is on; see what it takes with `metrikon intakes list second-flow`.",
        ],
    )
    path.write_text(scenario.flow_text().replace("to: table", "to: tabel"))
    code, _, err = run("flows", "put", str(path), *home)
    assert code == 1
    assert "no destination 'tabel'" in err
    assert run("flows", "off", "second-flow", *home)[0] == 0
    assert "off" in run("flows", "list", *home)[1]
    assert run("record-types", "put", "invoice", TYPE, *home)[0] == 0


def test_a_new_flow_is_kept_off_until_somebody_has_looked(local: Running, tmp_path: Path) -> None:
    home = ["--home", str(local.app.home)]
    flow = tmp_path / "late.yaml"
    flow.write_text('metrikon: 1\nname: late\nintakes: [{kind: upload}]\nsteps: [{name: a, set: {b: "${item.name}"}}]\n')
    code, out, _ = run("flows", "put", str(flow), "--off", *home)
    assert (code, out) == (
        0,
        "Flow late is kept as version 1.\nIt is off; look with `metrikon intakes preview late`, then switch it on with `metrikon flows on late`.\n",
    )
    run("flows", "on", "late", *home)
    flow.write_text(flow.read_text().replace("item.name", "item.id"))
    assert "It is on;" in run("flows", "put", str(flow), "--off", *home)[1], "one that is there stays as it is"


def test_a_home_of_a_newer_version_is_told(tmp_path: Path) -> None:
    house = App(Settings(home=tmp_path / "home"))
    house.close()
    with sqlite3.connect(tmp_path / "home" / "metrikon.db") as database:
        database.execute("UPDATE alembic_version SET version_num = '9999'")
    code, _, err = run("serve", "--home", str(tmp_path / "home"), "--port", "0")
    assert (code, "was last used by a newer version of Metrikon (its database is at 9999" in err) == (1, True), err


def test_a_service_that_is_not_there_ends_with_4(tmp_path: Path) -> None:
    code, _, err = run("runs", "list", "--home", str(tmp_path))
    assert code == 4
    assert "metrikon serve" in err
    assert run("runs", "list", "--url", "http://127.0.0.1:9", "--token", "x")[0] == 4


def test_people_and_tokens_are_made_while_the_service_rests(tmp_path: Path) -> None:
    home = ["--home", str(tmp_path)]
    assert "can sign in with the password" in run("people", "add", "ada", *home)[1]
    _, out, _ = run("tokens", "add", "sheet", "--json", *home)
    assert json.loads(out)["secret"].startswith("mk_")
    assert "sheet" in run("tokens", "list", *home)[1]


def test_every_setting_is_listed() -> None:
    code, out, _ = run("settings")
    assert code == 0
    assert "METRIKON_MAX_BYTES" in out


def test_a_bad_setting_is_told(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("METRIKON_PORT", "many")
    code, _, err = run("serve", "--home", str(tmp_path))
    assert code == 2
    assert "METRIKON_PORT is 'many'" in err


def commands(found: Any, path: tuple[str, ...] = ()) -> list[tuple[str, ...]]:
    inner = [action for action in found._actions if hasattr(action, "choices") and isinstance(action.choices, dict)]
    if not inner:
        return [path]
    return [each for action in inner for name, below in action.choices.items() for each in commands(below, (*path, name))]


def test_a_command_loads_no_more_than_its_own() -> None:
    assert list(dict.fromkeys(path[0] for path in commands(parser()))) == list(ROOMS)
    for first in ROOMS:
        assert {path for path in commands(parser(first)) if path[0] == first} == {path for path in commands(parser()) if path[0] == first}
    heavy = "import sys; from metrikon.cli import parser; parser('runs'); print([each for each in ('sqlalchemy', 'flask', 'numpy') if each in sys.modules])"
    assert subprocess.run([sys.executable, "-c", heavy], capture_output=True, text=True, check=True).stdout == "[]\n"


@pytest.mark.parametrize("command", commands(parser()), ids=" ".join)
def test_every_command_explains_itself(command: tuple[str, ...], capsys: pytest.CaptureFixture[str]) -> None:
    with pytest.raises(SystemExit) as caught:
        main([*command, "--help"])
    assert caught.value.code == 0
    assert f"metrikon {' '.join(command)}" in capsys.readouterr().out


@pytest.mark.parametrize("model", ["stand-in", "pattern"])
def test_the_demo_settles_as_expected(model: str) -> None:
    code, out, _ = run("demo", "--once", "--json", "--model", model)
    data = json.loads(out)
    assert code == 0, [each for each in data["documents"] if not each["as_expected"]]
    assert len(data["documents"]) == 17
    assert sum(each["right"] for each in data["documents"]) == sum(each["values"] for each in data["documents"])


def test_the_demo_starts_stops_on_ctrl_c_and_starts_again(tmp_path: Path) -> None:
    for _ in range(2):
        command = [sys.executable, "-m", "metrikon.cli", "demo", "--home", str(tmp_path / "demo"), "--port", "8790"]
        process = subprocess.Popen(command, stdout=subprocess.PIPE, stderr=subprocess.PIPE, text=True)
        assert process.stdout is not None
        assert process.stdout.readline().startswith("Console   http://127.0.0.1:87")
        process.send_signal(signal.SIGINT)
        out, err = process.communicate(timeout=60)
        assert (process.returncode, err) == (0, "")
        assert "Everything is kept" in out


def test_a_file_that_holds_two_documents_is_told_and_each_is_read_by_itself(tmp_path: Path) -> None:
    both = tmp_path / "two.pdf"
    both.write_bytes(merged(*NAMES))
    assert "document 2 of 2: page 2" in run("read", str(both))[1]
    code, out, _ = run("extract", str(both), "--record-type", TYPE)
    assert code == 3
    assert "seems to hold 2 documents" in out
    code, out, _ = run("extract", str(both), "--record-type", TYPE, "--only", "2", "--json")
    assert json.loads(out)["record"]["number"] == "2026/0871"
    assert {each["page"] for each in json.loads(out)["evidence"].values() if each.get("page")} == {2}
    code, _, err = run("extract", str(both), "--record-type", TYPE, "--only", "5")
    assert (code, "there is no number 5" in err) == (2, True)


def test_files_are_read_as_one_and_each_value_names_its_file(tmp_path: Path) -> None:
    form = tmp_path / "form.json"
    form.write_text('{"order_number": "EBG-1"}', "utf-8")
    out = run("extract", str(form), "--along", FERNHILL, "--record-type", TYPE, "--json")[1]
    evidence = json.loads(out)["evidence"]
    assert evidence["/vendor"]["file"] == "01-fernhill-nurseries.pdf"
    assert evidence["/vendor"]["page"] == 2


def test_keeping_a_flow_tells_where_it_looks_and_writes_and_makes_nothing_there(running: Callable[..., Running], tmp_path: Path) -> None:
    service = running()
    (service.app.home / "in").mkdir()
    (service.app.home / "in" / "a.txt").write_text("a")
    flow = (
        "metrikon: 1\nname: filing\nintakes: [{kind: folder, path: in}, {kind: folder, name: other, path: elsewhere}]\n"
        'destinations: {table: {kind: sql, url: "sqlite:///rows.db", table: rows}}\n'
        'steps: [{name: row, write: {to: table, key: ["${item.id}"], columns: {Name: "${item.name}"}}}]\n'
    )
    (tmp_path / "filing.yaml").write_text(flow)
    out = io.StringIO()
    assert main(["flows", "put", str(tmp_path / "filing.yaml"), "--off", "--url", service.url, "--token", service.token], out, out) == 0
    home = service.app.home
    assert f"Its intake folder looks at {home}/in, in which one file is." in out.getvalue()
    assert f"Its intake other looks at {home}/elsewhere, which is not there yet." in out.getvalue()
    assert f"Its destination table writes to {home}/rows.db, which is not there yet." in out.getvalue()
    assert not (home / "rows.db").exists(), "a look makes nothing"


def test_a_slip_in_the_name_of_the_folder_begins_no_new_service(tmp_path: Path) -> None:
    out, err = io.StringIO(), io.StringIO()
    home = tmp_path / "metrikon-data"
    assert main(["people", "add", "ada", "--home", str(home)], out, err) == 0
    assert f"A new service is begun in {home}." in err.getvalue()
    slip = str(tmp_path / "metrikon-dta")
    err = io.StringIO()
    assert main(["people", "add", "ida", "--home", slip], out, err) == 2
    assert f"but there is one in {home}. Is that one meant?" in err.getvalue()
    assert main(["serve", "--home", slip], out, err) == 2
    assert main(["people", "list", "--home", str(tmp_path / "quite-another")], out, err) == 2
    assert sorted(each.name for each in tmp_path.iterdir()) == ["metrikon-data"]
    assert main(["people", "add", "ida", "--home", slip, "--new"], out, err) == 0
