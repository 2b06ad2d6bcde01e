"""Odd requests get a clear answer: nothing in them is told of the machine, none ends in an error of the service."""

from __future__ import annotations

import io
import json
import logging
from collections.abc import Callable, Iterator
from decimal import Decimal
from typing import Any

import httpx
import pytest
from openpyxl import load_workbook

from metrikon.cli.logs import log_to
from metrikon.core.values.exact import NotJson, loads
from metrikon.demo import scenario
from metrikon.destinations.files import LocalFile
from metrikon.destinations.sheets import SheetDestination
from metrikon.destinations.xlsx import XlsxFormat
from metrikon.ports.destination import Row
from tests.helpers import Running

Start = Callable[..., Running]
INVOICE = json.loads((scenario.folder() / "record_types" / "invoice.json").read_text())


@pytest.fixture
def asks(running: Start) -> Iterator[Callable[..., httpx.Response]]:
    service = running()
    with httpx.Client(base_url=service.url, headers={"Authorization": f"Bearer {service.token}"}) as http:
        yield lambda method, path, **given: http.request(method, path, **given)


def test_no_answer_tells_which_files_the_machine_has(asks: Callable[..., httpx.Response]) -> None:
    there, nowhere = "/..%2f..%2f..%2f..%2f..%2f..%2f..%2f..%2f..%2fetc%2fpasswd", "/..%2f..%2f..%2f..%2f..%2f..%2f..%2f..%2f..%2fetc%2fnothing"
    answers = [asks("GET", path) for path in (there, nowhere)]
    assert answers[0].status_code == answers[1].status_code == 404
    assert answers[0].content == answers[1].content
    assert asks("GET", "/" + "a" * 3000).status_code == 404
    assert asks("GET", "/raedy").status_code == 404, "whoever watches a mistyped address is told"
    assert asks("GET", "/arrivals/nothing").status_code == 200, "the console says what is there"


def test_numbers_and_marks_out_of_range_are_told(asks: Callable[..., httpx.Response]) -> None:
    for path in ("/api/items?since=18446744073709551616", "/api/changes?after=18446744073709551616"):
        assert asks("GET", path).status_code == 422
    assert asks("GET", "/api/items?cursor=%00%ff").status_code < 500


def test_a_mark_against_forged_requests_that_is_not_ascii_is_wrong_and_no_error(running: Start) -> None:
    service = running()
    with httpx.Client(base_url=service.url) as http:
        http.post("/api/session", json={"name": "gardener", "password": "glasshouse lane"})
        assert http.post("/api/runs/continue", headers={b"X-CSRF-Token": "ü".encode()}).status_code == 403


MALFORMED: list[tuple[Any, str]] = [
    ("text", "x-metrikon: it must be object"),
    ({"labels": "total"}, 'x-metrikon/labels: It is a list of words: ["total"]'),
    ({"unsure": "maybe"}, "x-metrikon/unsure: it must be one of stop, warn"),
    ({"sums": [{"parts": ["/net"]}]}, "x-metrikon/sums/0: 'equals' is a required property"),
    ({"key": ["vendor"]}, "x-metrikon/key/0: it must be a pointer such as /lines"),
]


def test_what_is_ours_in_a_record_type_is_told_where_it_is_malformed(asks: Callable[..., httpx.Response]) -> None:
    for ours, said in MALFORMED:
        for schema in (
            {**INVOICE, "x-metrikon": ours},
            {**INVOICE, "required": ["total"], "properties": {"total": {"type": "number", "x-metrikon": ours}}},
        ):
            answer = asks("PUT", "/api/record-types/invoice", content=json.dumps(schema))
            assert answer.status_code == 422
            assert said in answer.json()["detail"]


def test_record_types_have_plain_names(asks: Callable[..., httpx.Response]) -> None:
    for name in ("a%0ab", "a%22b", "%00", "a" * 61):
        assert asks("PUT", f"/api/record-types/{name}", content=json.dumps(INVOICE)).status_code in (404, 422)
        assert asks("GET", f"/api/records.csv?record_type={name}").status_code in (404, 422)


def test_numbers_of_millions_of_digits_are_refused_as_such(asks: Callable[..., httpx.Response]) -> None:
    for text in ("1e9999999", "-1E-9999999", "1." + "0" * 5000, "1e99999999999999999999"):
        with pytest.raises(NotJson):
            loads(text)
    assert loads("1e300") == Decimal("1e300")
    answer = asks("POST", "/api/record-types/invoice/check", content='{"total": 1e9999999}', headers={"Content-Type": "application/json"})
    assert answer.status_code < 500


def test_a_line_break_in_a_path_makes_no_line_of_the_log() -> None:
    out = io.StringIO()
    root = logging.getLogger()
    before = root.handlers[:], root.level
    root.handlers = []
    try:
        log_to(out, logging.INFO, "%(levelname)s %(message)s")
        try:
            raise ValueError("one\nINFO forged")
        except ValueError:
            logging.getLogger("x").exception("GET %s", "/api\nINFO nobody signed in\u2028x")
    finally:
        root.handlers, root.level = before
    assert not [line for line in out.getvalue().splitlines() if line.startswith("INFO")]
    assert "GET /api\\nINFO nobody" in out.getvalue()


def test_the_head_of_a_column_is_no_formula(tmp_path: Any) -> None:
    SheetDestination(LocalFile(tmp_path / "a.xlsx"), XlsxFormat("Rows"), "Rows").write([Row("k1", {"=1+1": "=2+2", "-x": 1})])
    sheet: Any = load_workbook(tmp_path / "a.xlsx")["Rows"]
    assert [(cell.value, cell.data_type) for cell in sheet[1]][:2] == [("=1+1", "s"), ("-x", "s")]
    assert sheet["A2"].data_type == "s"


def test_a_request_that_meets_a_service_on_its_way_out_is_told_so(running: Start) -> None:
    service = running()
    service.app.close()
    answer = httpx.get(f"{service.url}/api/today", headers={"Authorization": f"Bearer {service.token}"})
    assert answer.status_code in (200, 503)
    changed = httpx.post(f"{service.url}/api/tokens", json={"name": "late"}, headers={"Authorization": f"Bearer {service.token}"}, timeout=5)
    assert changed.status_code == 503


def test_a_state_that_there_is_not_is_told_with_the_nearest_one(running: Callable[..., Running]) -> None:
    service = running()
    for path, near in (("/api/items?state=parkd", "parked"), ("/api/runs?state=dne", "done"), ("/api/records?state=aproved", "approved")):
        answer = httpx.get(f"{service.url}{path}", headers={"Authorization": f"Bearer {service.token}"})
        assert answer.status_code == 422
        assert f"Is '{near}' meant?" in answer.json()["detail"]
