"""The service on loopback, through its HTTP and its client."""

from __future__ import annotations

import csv
import io
import json
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path
from typing import Any

import httpx
import pytest
from openapi_spec_validator import validate

from metrikon.client import Client, NotAllowed, NotFound, NotSettled, Refused, Unreachable
from metrikon.demo import scenario
from metrikon.service.web import description
from tests.helpers import Running, at_rest

Start = Callable[..., Running]
FERNHILL, WRONG = "01-fernhill-nurseries.pdf", "09-brackendale-wrong-sum.pdf"


def signed_in(service: Running) -> httpx.Client:
    """A browser's way in: a cookie and the mark for changing requests."""
    http = httpx.Client(base_url=service.url, trust_env=False)
    answer = http.post("/api/session", json={"name": "gardener", "password": "glasshouse lane"})
    assert answer.status_code == 200
    http.headers["X-CSRF-Token"] = answer.json()["csrf"]
    return http


def test_an_upload_is_followed_to_its_rows(running: Start) -> None:
    service = running()
    sent = service.client.upload(scenario.FLOW, scenario.folder() / "documents" / FERNHILL)
    run = service.client.wait(sent.run_id)
    assert (run.state, run.settled, run.item_name) == ("done", True, FERNHILL)
    assert [entry.event for entry in run.journal][:3] == ["started", "done", "begun"]
    (record,) = service.client.records(record_type="invoice")
    assert record.values["total"] == Decimal("489.36")
    assert str(record.values["net"]) == "407.80"
    whole = service.client.record(record.id)
    assert whole.evidence["/total"]["quote"] == "£489.36"


def test_the_same_upload_gets_the_same_answer(running: Start) -> None:
    service = running()
    first = service.client.upload(scenario.FLOW, scenario.document(FERNHILL), name="a.pdf", identity="mail-7")
    second = service.client.upload(scenario.FLOW, scenario.document(FERNHILL), name="a.pdf", identity="mail-7")
    assert (first.run_id, first.item_id) == (second.run_id, second.item_id)
    assert (first.known, second.known) == (False, True)
    third = service.client.upload(scenario.FLOW, scenario.document(FERNHILL), name="a.pdf")
    assert third.held


def test_another_file_under_the_same_key_is_refused(running: Start) -> None:
    service = running()
    first = service.client.upload(scenario.FLOW, scenario.document(FERNHILL), name="a.pdf", identity="mail-7")
    with pytest.raises(Refused, match=rf"a\.pdf \(item {first.item_id}\) was sent before, which holds something else") as refused:
        service.client.upload(scenario.FLOW, scenario.document(WRONG), name="b.pdf", identity="mail-7")
    assert refused.value.status == 409
    long = "k" * 160
    service.client.upload(scenario.FLOW, scenario.document(WRONG), name="b.pdf", identity=long)
    with pytest.raises(Refused, match="161 characters; at most 160"):
        service.client.upload(scenario.FLOW, scenario.document(FERNHILL), name="a.pdf", identity=long + "k")


def test_a_record_is_corrected_and_approved_through_the_client(running: Start) -> None:
    service = running()
    sent = service.client.upload(scenario.FLOW, scenario.document(WRONG), name=WRONG)
    run = service.client.wait(sent.run_id)
    assert run.needs_person
    with pytest.raises(NotSettled, match="review"):
        service.client.wait(sent.run_id, 0.2, person=True)
    assert run.record_id
    record = service.client.record(run.record_id)
    approved = service.client.approve(record.id, {**record.values, "total": Decimal("489.36")}, "their sum is wrong")
    assert approved.state == "approved"
    assert service.client.wait(sent.run_id, person=True).state == "done"
    with pytest.raises(Refused, match="does not wait"):
        service.client.refuse(record.id, "too late")


def test_lists_come_page_by_page_in_order(running: Start) -> None:
    service = running()
    for number in range(7):
        service.client.upload(scenario.FLOW, b"\x00\x01not readable %d" % number, name=f"{number}.txt")
    at_rest(service.app, 7)
    seen, cursor = [], ""
    while True:
        page = service.client._ask("GET", "/api/items", params={"limit": 3, "cursor": cursor})
        seen += [each["name"] for each in page["items"]]
        if not page["next"]:
            break
        cursor = page["next"]
    assert seen == [f"{number}.txt" for number in range(6, -1, -1)]
    assert [run.item_name for run in service.client.runs(state="refused")] == seen
    assert list(service.client.runs(state="parked")) == []
    assert [item.name for item in service.client.items(search="5.TXT")] == ["5.txt"]
    assert list(service.client.items(search="%")) == []


def test_records_are_sorted_filtered_and_paged(running: Start) -> None:
    service = running()
    for name in ("01-fernhill-nurseries.pdf", "02-moorgate-seed.pdf", "03-larkmead-horticulture.pdf"):
        service.client.upload(scenario.FLOW, scenario.document(name), name=name)
    at_rest(service.app, 3)
    for sort, expected in (("title", ["Fernhill", "Larkmead", "Moorgate"]), ("-title", ["Moorgate", "Larkmead", "Fernhill"])):
        seen, cursor = [], ""
        for _ in range(3):
            page = service.client._ask("GET", "/api/records", params={"sort": sort, "limit": 1, "cursor": cursor})
            seen += [each["title"].split()[0] for each in page["items"]]
            cursor = page["next"]
        assert seen == expected
        assert cursor is None
    assert [each.title for each in service.client.records(search="moorgate seed")] == ["Moorgate Seed Company Ltd · 2026/0871"]


def test_records_are_exported_as_csv_without_formulas(running: Start) -> None:
    service = running()
    sent = service.client.upload(scenario.FLOW, scenario.document(WRONG), name=WRONG)
    run = service.client.wait(sent.run_id)
    record = service.client.record(run.record_id or "")
    service.client.approve(record.id, {**record.values, "order_number": '=HYPERLINK("http://x")'})
    answer = httpx.get(f"{service.url}/api/records.csv?record_type=invoice", headers={"Authorization": f"Bearer {service.token}"}, trust_env=False)
    rows = list(csv.DictReader(io.StringIO(answer.text)))
    assert [row["lines.amount"] for row in rows] == ["97.00", "94.80", "216.00"]
    assert {row["vendor"] for row in rows} == {"Brackendale Nurseries Ltd"}
    assert rows[0]["order_number"].startswith("'=")


def test_a_run_is_continued_and_an_item_run_again(running: Start) -> None:
    service = running()
    first = service.client.upload(scenario.FLOW, scenario.document(FERNHILL), name="a.pdf")
    service.client.wait(first.run_id)
    held = service.client.upload(scenario.FLOW, scenario.document(FERNHILL), name="b.pdf")
    service.client.continue_run(held.run_id)
    assert service.client.wait(held.run_id).state == "review"
    again = service.client.run_again(first.item_id)
    assert service.client.wait(again).state == "done"
    with pytest.raises(Refused, match="only a parked"):
        service.client.continue_run(again)
    assert service.client.continue_parked() == 0


def test_flows_and_record_types_are_put_in_versions(running: Start) -> None:
    service = running()
    assert service.client.put_flow(scenario.FLOW, scenario.flow_text()) == 1
    assert service.client.put_flow(scenario.FLOW, scenario.flow_text() + "\n# changed\n") == 2
    with pytest.raises(Refused) as caught:
        service.client.put_flow(scenario.FLOW, scenario.flow_text().replace("to: table", "to: tabel"))
    assert caught.value.problem["problems"][0]["step"] == "table_row"
    assert service.client.put_record_type("invoice", scenario.invoice_type()) == 1
    with pytest.raises(Refused, match="'nonsense' is no type"):
        service.client.put_record_type("bad", '{"type": "object", "properties": {"a": {"type": "nonsense"}}}')
    service.client.switch_flow(scenario.FLOW, False)
    with pytest.raises(Refused, match="switched off"):
        service.client.upload(scenario.FLOW, b"x")


def test_the_live_feed_tells_what_changed(running: Start) -> None:
    service = running()
    before = service.client.changes()["last"]
    sent = service.client.upload(scenario.FLOW, scenario.document(FERNHILL))
    service.client.wait(sent.run_id)
    found = service.client.changes(before)
    assert sent.run_id in {each["ref"] for each in found["changes"]}
    assert service.client.changes(found["last"])["changes"] == []


@pytest.mark.parametrize(
    ("method", "path", "status"),
    [
        ("GET", "/api/runs/" + "0" * 26, 404),
        ("GET", "/api/records/" + "0" * 26, 404),
        ("GET", "/api/items/" + "0" * 26, 404),
        ("GET", "/api/documents/" + "0" * 64, 404),
        ("GET", "/api/runs/..%2f..%2fetc", 404),
        ("GET", "/api/runs/short", 422),
        ("GET", "/api/items?limit=9999", 422),
        ("GET", "/api/nothing", 404),
        ("POST", "/api/flows/nothing/items", 404),
        ("POST", "/api/records/" + "0" * 26 + "/refuse", 422),
        ("DELETE", "/api/tokens/" + "0" * 26, 404),
        ("PATCH", "/api/items", 405),
    ],
)
def test_every_error_is_a_problem_in_words(method: str, path: str, status: int, running: Start) -> None:
    service = running()
    answer = httpx.request(
        method, service.url + path, headers={"Authorization": f"Bearer {service.token}"}, content=b"{}" if method == "POST" else None, trust_env=False
    )
    assert answer.status_code == status
    assert answer.headers["content-type"] == "application/problem+json"
    problem = answer.json()
    assert problem["status"] == status
    assert problem["detail"]
    assert "Traceback" not in answer.text


def test_an_error_that_nobody_expected_shows_no_traceback(running: Start, monkeypatch: pytest.MonkeyPatch) -> None:
    service = running()
    monkeypatch.setattr("metrikon.store.listing.waiting", lambda *_: 1 / 0)
    answer = httpx.get(f"{service.url}/api/today", headers={"Authorization": f"Bearer {service.token}"}, trust_env=False)
    assert answer.status_code == 500
    assert "service's log" in answer.json()["detail"]
    assert "Traceback" not in answer.text


def test_nothing_is_open_without_a_token_or_a_session(running: Start) -> None:
    service = running()
    for path, methods in description()["paths"].items():
        if not path.startswith("/api/") or path in ("/api/session",):
            continue
        for method in methods:
            url = service.url + path.replace("{id}", "0" * 26).replace("{sha256}", "0" * 64).replace("{page}", "1").replace("{name}", "x")
            assert httpx.request(method, url, trust_env=False).status_code == 401, (method, path)
    with Client(service.url, "mk_wrong") as stranger, pytest.raises(NotAllowed):
        list(stranger.runs())


def test_a_session_needs_its_mark_for_changes(running: Start) -> None:
    service = running()
    http = signed_in(service)
    assert http.post("/api/runs/continue", json={}).status_code == 200
    del http.headers["X-CSRF-Token"]
    assert http.get("/api/today").status_code == 200
    assert http.post("/api/runs/continue", json={}).status_code == 403
    cookie = next(iter(http.cookies.jar))
    assert cookie.has_nonstandard_attr("HttpOnly")
    http.close()


def test_signing_out_ends_the_session(running: Start) -> None:
    service = running()
    http = signed_in(service)
    assert http.get("/api/session").json()["person"] == "gardener"
    assert http.delete("/api/session").status_code == 204
    assert http.get("/api/today").status_code == 401
    http.close()


def test_tokens_are_kept_as_hashes_only(running: Start) -> None:
    service = running()
    made = service.client._ask("POST", "/api/tokens", body={"name": "sheet"})
    other = Client(service.url, made["secret"])
    assert other.today()["empty"]
    service.client._ask("DELETE", f"/api/tokens/{made['id']}")
    with pytest.raises(NotAllowed):
        other.today()
    other.close()
    data = (service.app.home / "metrikon.db").read_bytes() + (service.app.home / "metrikon.db-wal").read_bytes()
    assert made["secret"].encode() not in data
    assert b"glasshouse lane" not in data


def test_an_upload_beyond_the_limit_is_refused(running: Start) -> None:
    service = running(max_bytes=1000)
    with pytest.raises(Refused, match="max_bytes"):
        service.client.upload(scenario.FLOW, b"x" * 5000)
    assert list(service.client.items()) == []


def test_a_form_upload_works_like_a_plain_one(running: Start) -> None:
    service = running()
    files = {"file": ("C:\\bills\\a.pdf", scenario.document(FERNHILL), "application/pdf")}
    url = f"{service.url}/api/flows/{scenario.FLOW}/items"
    answer = httpx.post(url, files=files, headers={"Authorization": f"Bearer {service.token}"}, trust_env=False)
    assert answer.status_code == 201
    assert service.client.wait(answer.json()["run_id"]).item_name == "a.pdf"


def test_page_pictures_come_as_png_and_files_only_for_saving(running: Start) -> None:
    service = running()
    sent = service.client.upload(scenario.FLOW, scenario.document(FERNHILL))
    service.client.wait(sent.run_id)
    (item,) = service.client._ask("GET", "/api/items")["items"]
    headers = {"Authorization": f"Bearer {service.token}"}
    picture = httpx.get(f"{service.url}/api/documents/{item['sha256']}/pages/1/picture", headers=headers, trust_env=False)
    assert picture.content.startswith(b"\x89PNG")
    assert httpx.get(f"{service.url}/api/documents/{item['sha256']}/pages/2/picture", headers=headers, trust_env=False).status_code == 404
    file = httpx.get(f"{service.url}/api/files/{item['sha256']}", headers=headers, trust_env=False)
    assert file.content == scenario.document(FERNHILL)
    assert file.headers["content-disposition"] == "attachment"


def test_health_and_readiness_are_told(running: Start) -> None:
    service = running()
    assert httpx.get(f"{service.url}/health", trust_env=False).json()["status"] == "up"
    assert service.client.ready()
    service.app.engine._stop.set()
    assert httpx.get(f"{service.url}/ready", trust_env=False).status_code == 503


def test_a_service_that_is_not_there_is_told(tmp_path: Path) -> None:
    with Client("http://127.0.0.1:9", "x") as client:
        assert not client.ready()
        with pytest.raises(Unreachable, match="does not answer"):
            client.today()
    with pytest.raises(NotFound):
        raise NotFound(404, {"detail": "gone"})


def test_the_description_is_valid_and_the_one_that_ships(tmp_path: Path) -> None:
    made = description()
    validate(made)
    shipped: dict[str, Any] = json.loads((Path(__file__).parents[2] / "docs" / "openapi.json").read_text("utf-8"))
    assert made == shipped, "run `make docs`"
    ids = [operation["operationId"] for path in made["paths"].values() for operation in path.values()]
    assert len(ids) == len(set(ids))


def test_pages_carry_headers_that_keep_strangers_out(running: Start) -> None:
    answer = httpx.get(running().url, trust_env=False)
    assert "default-src 'self'" in answer.headers["content-security-policy"]
    assert answer.headers["x-content-type-options"] == "nosniff"
