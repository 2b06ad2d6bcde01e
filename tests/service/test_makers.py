"""At the desk only its maker takes a finding back: what a reading noted of one value stays while another one is corrected."""

from __future__ import annotations

import json
from collections.abc import Callable
from pathlib import Path

from metrikon.sandbox.model_server import ModelServer
from tests.helpers import Running

NUMBER = {"type": "number"}
TYPE = {
    "type": "object",
    "required": ["vendor", "total"],
    "properties": {
        "vendor": {"type": "string"},
        "total": NUMBER,
        "lines": {
            "type": "array",
            "items": {
                "type": "object",
                "properties": {"description": {"type": "string"}, "quantity": NUMBER, "unit_price": NUMBER, "amount": NUMBER},
            },
        },
    },
}
BILL = """Vendor: Fernhill Nurseries

Description       Quantity    Unit price    Amount
Polypodium        2           3.00          6.00
Blechnum          4           2.00          8.00
Dryopteris        3           5.00          16.00
Asplenium         5           1.00          5.00

Total 35.00
"""
FLOW = """metrikon: 1
name: ferns
intakes: [{kind: upload}]
steps:
  - {name: paper, read: {}}
  - {name: bill, extract: {document: "${paper}", record_type: ferns}}
  - {name: checked, check: {record: "${bill}", review: always}}
"""


def test_a_row_that_does_not_hold_stays_found_while_the_vendor_is_corrected(
    running: Callable[..., Running], stand_in: ModelServer, tmp_path: Path
) -> None:
    service = running(model_url=stand_in.url, model_name="stand-in")
    service.app.catalog.put_record_type("ferns", json.dumps(TYPE))
    service.app.catalog.put_flow(FLOW)
    (tmp_path / "bill.txt").write_text(BILL, "utf-8")
    sent = service.client.upload("ferns", tmp_path / "bill.txt")
    assert service.client.wait(sent.run_id).state == "review"
    record = service.client.record(service.client.run(sent.run_id).record_id or "")
    assert "product" in {each["check"] for each in record.findings}
    corrected = {**record.values, "vendor": "Fernhill Nurseries Ltd"}
    assert "product" in {each["check"] for each in service.client.check(record.id, corrected)["findings"]}
    lines = [dict(line) for line in record.values["lines"]]
    lines[2]["amount"] = 15
    assert "product" not in {each["check"] for each in service.client.check(record.id, {**corrected, "lines": lines})["findings"]}
