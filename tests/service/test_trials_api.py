"""Trials: over a folder at the terminal and over reviewed records in the service; stopped, gone on with, nothing done twice."""

from __future__ import annotations

import io
import json
import shutil
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from metrikon.cli import main
from metrikon.client import NotFound, Refused
from metrikon.demo import scenario
from metrikon.sandbox.model_server import ModelServer
from tests.helpers import Running, eventually

Start = Callable[..., Running]
NAMES = ("01-fernhill-nurseries.pdf", "02-moorgate-seed.pdf")


@pytest.fixture
def folder(tmp_path: Path) -> Path:
    """Two demo invoices with their right records."""
    place = tmp_path / "known"
    place.mkdir()
    for name in NAMES:
        for each in (name, f"{name}.right.json"):
            shutil.copy(scenario.folder() / "documents" / each, place / each)
    return place


def trial(*arguments: str) -> tuple[int, str, str]:
    out, err = io.StringIO(), io.StringIO()
    code = main(["trial", *arguments], out, err)
    return code, out.getvalue(), err.getvalue()


def type_file() -> str:
    return str(scenario.folder() / "record_types" / "invoice.json")


def test_a_folder_is_tried_and_every_field_told_of(folder: Path) -> None:
    code, out, err = trial(str(folder), "--record-type", type_file())
    assert code == 0
    assert "2 documents, 2 wholly right" in out
    assert "lines[].amount" in out
    assert "2 of 2, pattern: 02-moorgate-seed.pdf" in err


def test_two_ways_stand_side_by_side_and_what_was_tried_is_not_asked_again(folder: Path, tmp_path: Path, stand_in: ModelServer) -> None:
    ways = [
        str(folder),
        "--record-type",
        type_file(),
        "--model-url",
        stand_in.url,
        "--model",
        "stand-in",
        "--against",
        "pattern",
        "--keep",
        str(tmp_path / "kept"),
    ]
    code, out, _ = trial(*ways, "--json")
    assert code == 0
    told = json.loads(out)
    assert [each["model"] for each in told["trials"]] == ["stand-in", "pattern"]
    assert told["trials"][0]["tokens"] > 0
    stand_in.stop()
    assert json.loads(trial(*ways, "--json")[1])["trials"][0]["right"] == told["trials"][0]["right"]


def test_a_folder_without_right_records_says_what_to_put_there(tmp_path: Path) -> None:
    code, _, err = trial(str(tmp_path), "--record-type", type_file())
    assert code == 2
    assert "bill.pdf.right.json" in err
    (tmp_path / "x.pdf").write_bytes(b"%PDF")
    (tmp_path / "x.pdf.right.json").write_text("{", "utf-8")
    assert "cannot be read" in trial(str(tmp_path), "--record-type", type_file())[2]


def test_a_document_that_cannot_be_read_is_told_and_the_others_are_tried(folder: Path) -> None:
    (folder / NAMES[0]).write_bytes(b"no invoice at all \x00\x01")
    code, out, err = trial(str(folder), "--record-type", type_file())
    assert code == 0
    assert "1 wholly right" in out
    assert "whatever its name says" in err


def approved(service: Running) -> None:
    for name in NAMES:
        sent = service.client.upload(scenario.FLOW, scenario.folder() / "documents" / name)
        run = service.client.wait(sent.run_id)
        if run.state == "review":
            service.client.approve(run.record_id or "")
    with service.app.database.reading() as connection:
        connection.exec_driver_sql("SELECT 1")
    service.app.database.write(lambda connection: connection.exec_driver_sql("UPDATE records SET state = 'approved'"))


def last(states: Any) -> dict[str, Any]:
    found: dict[str, Any] = list(states)[-1]
    return found


def test_reviewed_records_are_tried_in_the_service(running: Start) -> None:
    service = running()
    approved(service)
    done = last(service.client.trial("invoice", model="pattern", every=0.05))
    assert (done["state"], done["done"], done["wrong"], done["missing"]) == ("done", 2, 0, 0)
    assert done["fields"]["total"]["right"] == 2
    assert service.client.trials()[0]["id"] == done["id"]
    code, out, _ = trial("--reviewed", "--record-type", "invoice", "--model", "pattern", "--url", service.url, "--token", service.token)
    assert code == 0
    assert "2 documents, 2 wholly right" in out
    with pytest.raises(NotFound, match="no model 'oracle'"):
        last(service.client.trial("invoice", model="oracle"))
    with pytest.raises(Refused, match="is done"):
        service.client.continue_trial(done["id"])


def test_a_trial_that_was_cut_off_goes_on_where_it_was(running: Start) -> None:
    from metrikon.store import trials

    service = running()
    approved(service)
    first = last(service.client.trial("invoice", model="pattern", most=1, every=0.05))
    service.app.database.write(lambda connection: trials.change(connection, first["id"], state="running", count=2))
    service.app.database.write(trials.interrupted)  # what the next start of the service does
    assert service.client.get_trial(first["id"])["state"] == "stopped"
    service.client.continue_trial(first["id"])
    found = eventually(lambda: (now := service.client.get_trial(first["id"]))["state"] == "done" and now)
    assert found["done"] == 2


def test_fields_are_told_of_week_by_week(running: Start) -> None:
    service = running()
    approved(service)
    weeks = service.client.fields_by_week(flow=scenario.FLOW)
    total = next(each for each in weeks if each["field"] == "/total")
    assert (total["records"], total["completeness"]) == (2, 1.0)
    assert total["sure"] > 0.5
    assert service.client.fields_by_week(flow="another") == []
