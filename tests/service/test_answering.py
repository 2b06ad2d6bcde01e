"""Questions: brought to mind, with where their values stand, and answered through a signed link by its button alone."""

from __future__ import annotations

import re
from collections.abc import Callable
from html import unescape

import httpx
import pytest

from metrikon.client import ClientError
from metrikon.service.auth import set_password
from tests.engine.test_keeping import LaterClock
from tests.helpers import Running, eventually

FLOW = """
metrikon: 1
name: orders
intakes: [{kind: upload}]
steps:
  - name: asked
    ask:
      question: May <b>${item.name}</b> be ordered?
      options: [{name: order, label: Order it}, {name: leave, label: Leave it, comment: wanted}]
      show: {Letters: "${string length(item.name)}", Name: "${item.name}"}
      who: [Rosa, Emil]
      remind: P1D
  - {name: said, set: {by: "${asked.by}"}}
"""
READS = """
metrikon: 1
name: orders
intakes: [{kind: upload}]
steps:
  - {name: paper, read: {file: "${item.file}"}}
  - {name: found, extract: {document: "${paper}", record_type: bed, model: pattern}}
  - name: asked
    ask: {question: "Is it right?", options: [{name: ok, label: Right}], show: {Bed: "${found.record.bed}", Twice: "${found.record.bed + found.record.bed}"}}
"""
BED = '{"type": "object", "title": "bed", "properties": {"bed": {"type": ["string", "null"], "title": "Bed"}}}'


def asked(running: Callable[..., Running], flow: str = FLOW, name: str = "spades", data: bytes = b"x") -> tuple[Running, dict[str, object]]:
    service = running(clock=LaterClock())
    service.client.put_record_type("bed", BED)
    service.client.put_flow("orders", flow)
    service.client.upload("orders", data, name=name)
    (question,) = eventually(service.client.questions)
    return service, question


def test_a_link_shows_the_question_and_only_its_button_answers(running: Callable[..., Running]) -> None:
    service, question = asked(running)
    url = service.client.link_question(str(question["id"]), "Rosa")
    for _ in range(2):
        seen = httpx.get(url, timeout=60)
        assert seen.status_code == 200
        assert "May &lt;b&gt;spades&lt;/b&gt; be ordered?" in seen.text
    assert httpx.head(url, timeout=60).status_code == 200
    assert service.client.questions(), "looking at it answers nothing"
    assert seen.headers["referrer-policy"] == "no-referrer"
    refused = httpx.post(url, timeout=60, data={"option": "leave", "comment": ""})
    assert (refused.status_code, "wants a comment; say why" in refused.text) == (422, True)
    answered = httpx.post(url, timeout=60, data={"option": "leave", "comment": "too <dear>"})
    assert "Rosa (by a link of token tests) answered: Leave it (too <dear>)." in unescape(answered.text)
    assert "<dear>" not in answered.text
    late = httpx.post(url, timeout=60, data={"option": "order"})
    assert (late.status_code, "The question is answered. It was answered by Rosa (by a link of token tests): leave." in late.text) == (409, True)
    (kept,) = service.client.questions(state="answered")
    assert (kept["answer"], kept["answered_by"], kept["comment"]) == ("leave", "Rosa (by a link of token tests)", "too <dear>")


def test_a_link_is_for_whom_it_is_and_ends(running: Callable[..., Running]) -> None:
    service, question = asked(running)
    with pytest.raises(ClientError, match="This question is for Rosa, Emil"):
        service.client.link_question(str(question["id"]), "Ida")
    url = service.client.link_question(str(question["id"]), "Emil", days=2)
    signed = url.rpartition("/")[2]
    for wrong in (signed[:-2], "x" + signed, signed.replace(signed[3], "A" if signed[3] != "A" else "B", 1), "%00", "a" * 5000):
        assert httpx.get(f"{service.url}/answer/{wrong}", timeout=60).status_code in (404, 414)
    service.app.clock.ahead += 3 * 86_400_000  # type: ignore[attr-defined]
    assert httpx.post(url, timeout=60, data={"option": "order"}).status_code == 410
    assert service.client.questions()
    assert (service.app.home / "links.key").stat().st_mode & 0o777 == 0o600


def test_whoever_makes_a_link_makes_it_for_themselves_unless_they_are_an_admin_and_the_host_is_no_word_of_a_request(
    running: Callable[..., Running],
) -> None:
    service, question = asked(running)
    set_password(service.app, "Rosa", "glasshouse lane", "reviewer")
    with httpx.Client(timeout=30) as rosa:
        csrf = rosa.post(f"{service.url}/api/session", json={"name": "Rosa", "password": "glasshouse lane"}).json()["csrf"]
        for host in (dict[str, str](), {"Host": "evil.example"}):
            at, heads = f"{service.url}/api/questions/{question['id']}/link", {"X-CSRF-Token": csrf, **host}
            other = rosa.post(at, headers=heads, json={"who": "Emil", "days": 1})
            assert (other.status_code, "A link is for whoever makes it" in other.text) == (403, True)
            own = rosa.post(at, headers=heads, json={"who": "Rosa", "days": 1})
            assert own.json()["url"].startswith(f"{service.url}/answer/")
    httpx.post(own.json()["url"], timeout=60, data={"option": "order"})
    (kept,) = service.client.questions(state="answered")
    assert kept["answered_by"] == "Rosa (by link)"


def test_a_question_is_brought_to_mind_again_and_again(running: Callable[..., Running]) -> None:
    service, question = asked(running)
    assert question["reminded"] == 0
    for times, days in ((1, 1.1), (2, 1.0), (5, 3.0)):
        service.app.clock.ahead += int(days * 86_400_000)  # type: ignore[attr-defined]
        service.app.questions.remind()
        assert service.client.questions()[0]["reminded"] == times
    assert "brought to mind every day" in service.client.flow("orders")["lines"][0]["sentence"]


def test_a_value_that_is_shown_says_where_it_stands(running: Callable[..., Running]) -> None:
    service, question = asked(running, READS, "bed.txt", b"Notes of the gardeners\n\nBed: North 7\n")
    found = service.client._ask("GET", f"/api/questions/{question['id']}")
    assert found["show"]["Bed"] == "North 7"
    evidence = found["evidence"]
    assert set(evidence) == {"Bed"}
    assert (evidence["Bed"]["pointer"], evidence["Bed"]["page"], "North 7" in evidence["Bed"]["quote"]) == ("/bed", 1, True)
    page = httpx.get(service.client.link_question(str(question["id"]), "Ida"), timeout=60).text
    assert re.search(r"on page 1: “.*North 7.*”", unescape(page))
