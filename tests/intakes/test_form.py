"""Forms: filled in by anyone with the link or by people who are signed in; sent twice they are one item, and what is wrong is said at its field."""

from __future__ import annotations

import re
import ssl
from collections.abc import Callable, Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest
from hypothesis import given, settings
from hypothesis import strategies as st

from metrikon.app.settings import BadSetting
from metrikon.core.records.types import RecordType
from metrikon.intakes.form import FormField, FormPage, fields_of, filled
from metrikon.service import forms
from tests.certificates import self_signed
from tests.helpers import Running, eventually

FLOW = """
metrikon: 1
name: notes
intakes:
  - kind: form
    title: A note from the garden
    about: What you saw on your round.
    thanks: Thank you, the gardeners have it.%s
    fields:
      where: {kind: choice, options: [palm house, pond], required: true}
      plants: {kind: number, label: How many plants}
      seen: {kind: date}
      urgent: {kind: yes/no}
      note: {kind: long text, hint: In your own words.}
      photo: {kind: picture}
      voice: {kind: recording}
steps:
  - {name: made, set: {where: "${item.data.where}"}}
"""


class Visitor:
    """A visitor with the link to a form."""

    def __init__(self, running: Running, more: str = "", text: str = FLOW) -> None:
        self.running = running
        running.client.put_flow("notes", text % more if "%s" in text else text)
        self.url = running.client.make_address("notes", "form")["address"]
        self.http = httpx.Client(timeout=30)

    def key(self) -> str:
        found = re.search(r'name="_key" value="([^"]+)"', self.http.get(self.url).text)
        assert found is not None
        return found.group(1)

    def send(self, values: dict[str, Any], key: str = "", files: Any = None) -> httpx.Response:
        return self.http.post(self.url, data={"_key": key or self.key(), **values}, files=files)


@pytest.fixture
def visit(running: Callable[..., Running]) -> Iterator[Callable[..., Visitor]]:
    made: list[Visitor] = []

    def visitor(more: str = "", text: str = FLOW, **settings: Any) -> Visitor:
        made.append(Visitor(running(**settings), more, text))
        return made[-1]

    yield visitor
    for each in made:
        each.http.close()


def _only(visitor: Visitor) -> dict[str, Any]:
    (item,) = visitor.running.client.items()
    return visitor.running.client.item(item.id)


def test_what_is_filled_in_is_an_item_with_its_values_as_they_are_meant(visit: Callable[..., Visitor]) -> None:
    visitor = visit()
    answer = visitor.send({"where": "pond", "plants": "12,50", "seen": "2026-11-03", "urgent": "yes", "note": "A leak\nby the pump"})
    assert "the gardeners have it" in answer.text
    item = _only(visitor)
    data = item["data"]
    assert (data["where"], str(data["plants"]), data["seen"], data["urgent"], data["note"]) == (
        "pond",
        "12.50",
        "2026-11-03",
        True,
        "A leak\nby the pump",
    )
    eventually(lambda: visitor.running.client.run(item["runs"][0]["id"]).state == "done")


def test_a_form_sent_twice_is_one_item_and_sent_anew_with_another_content_it_is_told(visit: Callable[..., Visitor]) -> None:
    visitor = visit()
    key = visitor.key()
    assert [visitor.send({"where": "pond"}, key).status_code for _ in range(2)] == [200, 200]
    assert "sent already" in visitor.send({"where": "palm house"}, key).text
    assert len(list(visitor.running.client.items())) == 1


def test_what_is_wrong_is_said_beside_its_field_and_nothing_is_lost_of_what_was_written(visit: Callable[..., Visitor]) -> None:
    visitor = visit()
    answer = visitor.send({"plants": "many", "seen": "yesterday", "note": "I wrote a lot"})
    assert answer.status_code == 422
    for told in ("It must be filled in.", "This is no number.", "This is no date", "I wrote a lot", 'value="many"'):
        assert told in answer.text
    assert answer.text.count('aria-invalid="true"') == 3
    assert not list(visitor.running.client.items())


def test_files_and_recordings_come_with_it(visit: Callable[..., Visitor]) -> None:
    visitor = visit()
    visitor.send({"where": "pond"}, files={"photo": ("leak.txt", b"a picture of a leak")})
    item = _only(visitor)
    assert (item["name"], item["data"]["photo"]) == ("leak.txt", "leak.txt")
    visitor.send({"where": "pond"}, files={"photo": ("leak.txt", b"another leak"), "voice": ("said.txt", b"it leaks")})
    assert len(list(visitor.running.client.items())) == 2
    empty = visitor.send({"where": "pond"}, files={"photo": ("leak.txt", b"")})
    assert (empty.status_code, "This file is empty" in empty.text) == (422, True)


def test_a_file_that_is_too_large_is_told_of(visit: Callable[..., Visitor]) -> None:
    visitor = visit(max_bytes=3000)
    answer = visitor.send({"where": "pond"}, files={"photo": ("leak.txt", b"x" * 4000)})
    assert (answer.status_code, "at most 0 MB" in answer.text) == (422, True)
    assert "Traceback" not in visitor.send({"where": "pond"}, files={"photo": ("leak.txt", b"x" * 150_000)}).text
    assert not list(visitor.running.client.items())


def test_a_form_for_people_who_are_signed_in_is_not_shown_to_others(visit: Callable[..., Visitor]) -> None:
    visitor = visit("\n    anyone: false")
    assert visitor.http.get(visitor.url).status_code == 401
    assert visitor.http.post(visitor.url, data={"where": "pond"}).status_code == 401
    visitor.http.post(f"{visitor.running.url}/api/session", json={"name": "gardener", "password": "glasshouse lane"})
    assert "A note from the garden" in visitor.http.get(visitor.url).text
    assert visitor.send({"where": "pond"}).status_code == 200


def test_a_flood_is_held_back_and_what_machines_fill_in_is_let_go(visit: Callable[..., Visitor], monkeypatch: pytest.MonkeyPatch) -> None:
    visitor = visit()
    assert visitor.send({"where": "pond", "_website": "https://buy.example"}).status_code == 200
    assert not list(visitor.running.client.items())
    assert "no visitor sees" in visitor.running.client.let_go("notes", "form")["items"][0]["why"]
    monkeypatch.setattr(forms, "OF_ADDRESS", 3)
    assert [visitor.send({"where": "pond", "note": str(n)}).status_code for n in range(4)] == [200, 200, 429, 429]
    assert len(list(visitor.running.client.items())) == 2


def test_while_its_flow_is_off_a_form_says_that_it_is_closed(visit: Callable[..., Visitor]) -> None:
    visitor = visit()
    visitor.running.client.switch_flow("notes", False)
    answer = visitor.http.get(visitor.url)
    assert (answer.status_code, "closed at the moment" in answer.text) == (503, True)
    assert visitor.http.get(visitor.url + "x").status_code == 404


def test_nothing_that_is_filled_in_becomes_part_of_the_page(visit: Callable[..., Visitor]) -> None:
    visitor = visit()
    answer = visitor.send({"note": "<script>alert(1)</script>", "plants": '"><img src=x>', "where": "{{ 7 * 7 }}", "_key": "a"})
    assert "<script>alert" not in answer.text
    assert "<img" not in answer.text
    assert "49" not in answer.text
    assert "default-src 'self'" in answer.headers["Content-Security-Policy"]


def test_a_form_of_a_record_type_asks_for_its_fields(invoice: RecordType) -> None:
    found = fields_of(FormPage(title="A bill", record_type="invoice"), invoice)
    kinds = {each.kind for each in found.values()}
    assert {"text", "date", "number"} <= kinds
    assert all("/" not in name for name in found)


@given(st.dictionaries(st.sampled_from(["a", "b", "c", "d"]), st.text(max_size=60)))
@settings(max_examples=200, deadline=None)
def test_whatever_is_filled_in_is_a_value_or_told_of(texts: dict[str, str]) -> None:
    fields = {
        "a": FormField(kind="number"),
        "b": FormField(kind="date"),
        "c": FormField(kind="choice", options=["x", "y"]),
        "d": FormField(kind="text", required=True),
    }
    found = filled(fields, texts, {}, 100)
    if "c" in found.values and "c" not in found.wrong:
        assert found.values["c"] in ("x", "y")
    assert ("d" in found.wrong) == (not found.values.get("d"))


def test_with_a_certificate_a_form_is_reached_over_https_where_browsers_give_the_microphone(tmp_path: Path, running: Callable[..., Running]) -> None:
    certificate, key = self_signed(tmp_path)
    visitor = Visitor(running(tls_certificate=str(certificate), tls_key=str(key), tls_port=0))
    visitor.http.close()
    secure = visitor.running.secure_url
    trusted = ssl.create_default_context(cafile=str(certificate))
    with httpx.Client(verify=trusted, timeout=30) as http:
        page = http.get(visitor.url.replace(visitor.running.url, secure))
        assert "A note from the garden" in page.text
        answer = http.post(str(page.url), data={"_key": "one", "where": "pond"}, files={"voice": ("said.webm", b"sound" * 1000)})
        assert "the gardeners have it" in answer.text
        signed = http.post(f"{secure}/api/session", json={"name": "gardener", "password": "glasshouse lane"})
        assert "Secure" in signed.headers["Set-Cookie"]
    with pytest.raises(BadSetting, match="cannot be used"):
        running("other", tls_certificate=str(key), tls_key=str(certificate))
