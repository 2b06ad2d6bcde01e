"""Lists and rules at the desk: kept through the API and the terminal, and tried again with every correction of a person."""

from __future__ import annotations

import io
import json
from collections.abc import Callable
from pathlib import Path
from typing import Any

import pytest

from metrikon.cli import main
from metrikon.client import NotFound, Refused
from metrikon.demo import scenario
from tests.helpers import Running

Start = Callable[..., Running]
FERNHILL, MOORGATE = "01-fernhill-nurseries.pdf", "02-moorgate-seed.pdf"
VENDORS = "vendor,account\nFernhill Nurseries Limited,5100 Plants\nMoorgate Seed Company,5110 Seed\n"


def invoice_with(**ours: Any) -> str:
    """The demo's record type with a list of vendors, and the account of each."""
    kind = json.loads(scenario.invoice_type())
    kind["x-metrikon"] |= ours
    kind["properties"]["vendor"]["x-metrikon"]["list"] = "vendors"
    kind["properties"]["account"] = {"type": "string", "x-metrikon": {"lookup": {"list": "vendors", "by": "/vendor", "column": "account"}}}
    return json.dumps(kind)


def waiting(service: Running, name: str = FERNHILL) -> Any:
    """The record of a demo document, which waits for a person."""
    sent = service.client.upload(scenario.FLOW, scenario.folder() / "documents" / name)
    assert service.client.wait(sent.run_id).state == "review"
    return service.client.record(service.client.run(sent.run_id).record_id or "")


def told(found: list[dict[str, Any]]) -> dict[str, str]:
    return {each["check"]: each["message"] for each in found}


def test_lists_are_kept_and_shown_through_the_api_and_at_the_terminal(running: Start, tmp_path: Path) -> None:
    service = running()
    here = ["--url", service.url, "--token", service.token]
    out = io.StringIO()
    assert main(["lists", "list", *here], out, io.StringIO()) == 0
    assert "There is no list yet" in out.getvalue()
    (tmp_path / "vendors.csv").write_text(VENDORS, "utf-8")
    out = io.StringIO()
    assert main(["lists", "put", "vendors", str(tmp_path / "vendors.csv"), *here], out, io.StringIO()) == 0
    assert out.getvalue() == "The list vendors holds 2 values, with account beside them.\n"
    assert service.client.lists() == [{"name": "vendors", "count": 2, "columns": ["vendor", "account"]}]
    out = io.StringIO()
    assert main(["lists", "show", "vendors", *here], out, io.StringIO()) == 0
    assert out.getvalue() == VENDORS
    with pytest.raises(NotFound, match="no list 'parts'"):
        service.client.list_of("parts")
    with pytest.raises(Refused, match="no values"):
        service.client.put_list("parts", "\n")
    (tmp_path / "latin.csv").write_bytes("Pépinières\n".encode("cp1252"))
    err = io.StringIO()
    assert main(["lists", "put", "x", str(tmp_path / "latin.csv"), *here], io.StringIO(), err) == 2
    assert "not saved as UTF-8" in err.getvalue()


def test_a_known_vendor_brings_its_account_and_asks_nobody(running: Start) -> None:
    service = running()
    service.client.put_list("vendors", "vendor,account\nFernhill Nurseries Ltd,5100 Plants\n")
    service.client.put_record_type("invoice", invoice_with())
    sent = service.client.upload(scenario.FLOW, scenario.folder() / "documents" / FERNHILL)
    assert service.client.wait(sent.run_id).state == "done"
    record = service.client.record(service.client.run(sent.run_id).record_id or "")
    assert record.values["account"] == "5100 Plants"
    assert record.evidence["/account"]["how"] == "list"


def test_lists_rules_and_look_alikes_are_tried_again_while_a_person_corrects(running: Start) -> None:
    service = running()
    service.client.put_list("vendors", VENDORS)
    rule = {"holds": "total <= 400", "message": "More than 400 needs a second look.", "fields": ["/total"]}
    service.client.put_record_type("invoice", invoice_with(rules=[rule], alike=["/vendor", "/total"]))
    record = waiting(service)
    first = told(record.findings)
    assert "Is Fernhill Nurseries Limited meant?" in first["list"]
    assert "account" not in record.values
    mended = service.client.check(record.id, {**record.values, "vendor": "Fernhill Nurseries Limited"})
    assert mended["values"]["account"] == "5100 Plants"
    assert told(mended["findings"]) == {"rule": rule["message"]}
    other = service.client.check(record.id, {**record.values, "vendor": "Moorgate Seed Company", "account": "5100 Plants"})
    assert other["values"]["account"] == "5100 Plants"  # a person's word stands, and is told of
    assert "the list vendors says 5110 Seed for Moorgate Seed Company" in told(other["findings"])["list"]
    approved = service.client.approve(record.id, mended["values"], "seen")
    assert approved.values["account"] == "5100 Plants"
    again = waiting(service, MOORGATE)
    twin = {**again.values, "vendor": "Fernhill Nurseries Limited", "total": approved.values["total"]}
    assert f"as a record of {FERNHILL}" in told(service.client.check(again.id, twin)["findings"])["looks alike"]
    assert "looks alike" not in told(service.client.check(again.id, again.values)["findings"])
    same = {**again.values, "vendor": approved.values["vendor"], "number": approved.values["number"]}
    assert "already seen" in told(service.client.check(again.id, same)["findings"])


def test_what_the_first_reading_noted_stays_until_a_person_sets_the_value(running: Start) -> None:
    service = running()
    service.client.put_record_type("invoice", scenario.invoice_type())
    record = waiting(service, "09-brackendale-wrong-sum.pdf")
    notes = [each for each in record.findings if each["check"] not in ("sum", "product", "required")]
    same = service.client.check(record.id, record.values)["findings"]
    assert [each for each in same if each["check"] not in ("sum", "product", "required")] == notes
    assert told(same)["sum"] == told(record.findings)["sum"]
