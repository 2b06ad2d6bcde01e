"""Models through the API, the client and the command line: what they were asked, what they cost, what they would cost; record types."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest

from metrikon.cli import main
from metrikon.client import NotFound, Refused
from metrikon.demo import scenario
from metrikon.sandbox.model_server import ModelServer
from tests.helpers import Running

Start = Callable[..., Running]
FERNHILL, WRONG = "01-fernhill-nurseries.pdf", "09-brackendale-wrong-sum.pdf"
PRICES = {"price_in": Decimal("0.20"), "price_out": Decimal("0.80")}


def command(service: Running, *arguments: str) -> tuple[int, str]:
    out = io.StringIO()
    code = main([*arguments, "--url", service.url, "--token", service.token], out, io.StringIO())
    return code, out.getvalue()


@pytest.fixture
def asked(running: Start, stand_in: ModelServer) -> tuple[Running, str]:
    """A service with a model, and a run that asked it."""
    service = running(model_url=stand_in.url, model_name="stand-in", **PRICES)
    sent = service.client.upload(scenario.FLOW, scenario.folder() / "documents" / WRONG)
    service.client.wait(sent.run_id)
    return service, sent.run_id


def test_every_call_can_be_seen_with_its_prompt_and_its_answer(asked: tuple[Running, str]) -> None:
    service, run_id = asked
    found = service.client.calls(run_id)
    assert [(each["stage"], each["outcome"]) for each in found] == [("ask", "good")]  # the same model is not asked to mend what it said
    whole = service.client.call(found[0]["id"])
    assert "Brackendale" in whole["messages"][1]["content"]
    assert json.loads(whole["answer"])["number"] == "BN-4471"
    assert service.client.run(run_id).cost == str(sum(Decimal(each["cost"]) for each in found))
    code, out = command(service, "calls", "list", run_id)
    assert (code, out.count("stand-in")) == (0, 1)
    code, out = command(service, "calls", "show", found[0]["id"])
    assert "Brackendale" in out
    assert "--- answer" in out
    with pytest.raises(NotFound):
        service.client.call("0" * 26)


def test_the_run_tells_what_each_stage_came_to(asked: tuple[Running, str]) -> None:
    service, run_id = asked
    (done,) = [entry for entry in service.client.run(run_id).journal if entry.kind == "extract" and entry.event == "done"]
    stages = {each["name"]: each["outcome"] for each in done.data["result"]["stages"]}
    assert list(stages) == ["plan", "ask", "parse", "ground", "check", "repair", "settle"]
    assert "known by their heads" in stages["plan"]
    assert stages["repair"] == "None was tried."


def test_what_is_spent_is_told_by_day_with_its_limit(asked: tuple[Running, str]) -> None:
    service, run_id = asked
    spend = service.client.spend(7)
    (day,) = spend["days"]
    assert day["flow"] == scenario.FLOW
    assert Decimal(spend["today"]) == Decimal(day["cost"]) == Decimal(service.client.run(run_id).cost)
    assert service.client.today()["spend"]["limit"] == "0"


def test_files_can_be_estimated_before_they_are_taken_in(running: Start, stand_in: ModelServer, tmp_path: Path) -> None:
    service = running(model_url=stand_in.url, model_name="stand-in", **PRICES)
    for name in (FERNHILL, "13-broken-file.pdf"):
        (tmp_path / name).write_bytes(scenario.document(name))
    found = service.client.estimate(scenario.FLOW, tmp_path / FERNHILL)
    assert found["requests"] == 1
    assert 0 < Decimal(found["cost"]) < Decimal("0.001")
    code, out = command(service, "estimate", str(tmp_path), "--flow", scenario.FLOW)
    assert code == 0
    assert "would be refused: The file says that it is a PDF" in out
    assert "2 files would take about" in out
    assert list(service.client.items()) == []
    assert stand_in.mood.calls == 0
    assert command(service, "estimate", str(tmp_path / "nothing.pdf"), "--flow", scenario.FLOW)[0] == 2
    with pytest.raises(NotFound):
        service.client.estimate("no-flow", b"x")


def test_the_cost_of_a_recording_is_said_to_be_unknown_until_it_is_transcribed(running: Start, stand_in: ModelServer) -> None:
    recording = scenario.post_folder() / "27-voice-note.wav"
    deaf = running("deaf", model_url=stand_in.url, model_name="stand-in", **PRICES)
    assert "transcription_url" in deaf.client.estimate(scenario.FLOW, recording)["refused"]
    service = running("hears", model_url=stand_in.url, model_name="stand-in", transcription_url=stand_in.url, **PRICES)
    found = service.client.estimate(scenario.FLOW, recording)
    assert (found["refused"], found["cost"]) == ("", "0")
    assert "once it is transcribed" in found["unknown"]
    code, out = command(service, "estimate", str(recording), "--flow", scenario.FLOW)
    assert code == 0
    assert "What 1 of them would cost is not known beforehand, and not counted." in out


def test_an_e_invoice_costs_nothing_and_asks_no_model(running: Start, stand_in: ModelServer) -> None:
    service = running(model_url=stand_in.url, model_name="stand-in", **PRICES)
    xml = scenario.post_folder() / "41-moorgate-ubl.xml"
    assert service.client.estimate(scenario.FLOW, xml)["requests"] == 0
    sent = service.client.upload(scenario.FLOW, xml)
    assert service.client.wait(sent.run_id).state == "done"
    assert stand_in.mood.calls == 0
    assert service.client.calls(sent.run_id) == []
    inside = service.client.upload(scenario.FLOW, scenario.post_folder() / "55-invoice-with-its-xml.pdf")
    service.client.wait(inside.run_id)
    (record,) = [each for each in service.client.records() if each.item_name.startswith("55-")]
    assert [str(line["amount"]) for line in record.values["lines"]] == ["472.00"]
    assert stand_in.mood.calls == 0


def test_models_are_listed_with_their_prices_and_without_keys(running: Start, stand_in: ModelServer) -> None:
    service = running(model_url=stand_in.url, model_name="stand-in", model_key="very secret", **PRICES)
    models = {each["name"]: each for each in service.client.models()}
    assert set(models) == {"pattern", "stand-in"}
    assert (models["stand-in"]["default"], models["stand-in"]["price_out"]) == (True, "0.80")
    assert "secret" not in str(models)
    assert "stand-in" in command(service, "models")[1]


def test_a_record_type_says_which_flows_a_change_touches(running: Start) -> None:
    service = running()
    (before,) = service.client.touched_flows("invoice")
    assert before == {"flow": scenario.FLOW, "problems": []}
    changed = json.loads(scenario.invoice_type())
    changed["properties"]["supplier"] = changed["properties"].pop("vendor")
    changed["required"].remove("vendor")
    changed["x-metrikon"]["key"] = ["/supplier", "/number"]
    (after,) = service.client.touched_flows("invoice", json.dumps(changed))
    assert any("vendor" in each for each in after["problems"])
    with pytest.raises(Refused):
        service.client.touched_flows("invoice", "{")
    service.client.put_record_type("invoice", json.dumps(changed))
    assert [each["version"] for each in service.client.record_type_versions("invoice")] == [2, 1]
    assert command(service, "record-types", "list")[1].splitlines()[-1].split() == ["invoice", "2", scenario.FLOW]
    assert len(command(service, "record-types", "versions", "invoice")[1].splitlines()) >= 3


def test_a_record_type_is_started_through_the_api_and_at_the_terminal(running: Start, tmp_path: Path) -> None:
    service = running()
    sent = service.client.upload(scenario.FLOW, scenario.folder() / "documents" / FERNHILL)
    service.client.wait(sent.run_id)
    (item,) = service.client.items()
    detail: dict[str, Any] = service.client._ask("GET", f"/api/items/{item.id}")
    started = json.loads(service.client.start_record_type(document=detail["sha256"], title="bill"))
    assert {"invoice_no", "total", "lines"} <= set(started["properties"])
    service.client.put_record_type("bill", json.dumps(started))
    assert json.loads(service.client.start_record_type(heads=["Vendor", "Total"]))["properties"].keys() == {"vendor", "total"}
    with pytest.raises(Refused, match="exactly one"):
        service.client.start_record_type()
    out = io.StringIO()
    assert main(["record-types", "start", "--heads", "Vendor,Total"], out, io.StringIO()) == 0
    assert json.loads(out.getvalue())["properties"].keys() == {"vendor", "total"}
    (tmp_path / "row.json").write_text('{"Vendor": "Fernhill", "Total": 12.50}')
    out = io.StringIO()
    assert main(["record-types", "start", "--row", str(tmp_path / "row.json")], out, io.StringIO()) == 0
    assert json.loads(out.getvalue())["properties"]["total"]["type"] == "number"
    assert main(["record-types", "start", "--row", str(tmp_path / "none.json")], io.StringIO(), io.StringIO()) == 2


def test_rules_and_lists_of_a_builder_put_a_record_before_a_person(running: Start) -> None:
    service = running()
    kind = json.loads(scenario.invoice_type())
    kind["x-metrikon"]["rules"] = [{"holds": "total <= 400", "message": "More than 400 needs a second look.", "fields": ["/total"]}]
    kind["properties"]["vendor"]["x-metrikon"]["list"] = "vendors"
    kind["x-metrikon"]["alike"] = ["/vendor", "/total"]
    service.client.put_record_type("invoice", json.dumps(kind))
    lists = service.app.home / "lists"
    lists.mkdir()
    (lists / "vendors.txt").write_text("Fernhil Nurseries\nMoorgate Seed Company Ltd\n")
    sent = service.client.upload(scenario.FLOW, scenario.folder() / "documents" / FERNHILL)
    assert service.client.wait(sent.run_id).state == "review"
    (record,) = service.client.records()
    told = {each["check"]: each["message"] for each in record.findings}
    assert told["rule"] == "More than 400 needs a second look."
    assert "Is Fernhil Nurseries meant?" in told["list"]
