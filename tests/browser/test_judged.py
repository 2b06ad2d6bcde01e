"""What was judged, in the console: ranked, each mark with its words on the page, set right by keyboard; anchors chosen after seeing who would move."""

from __future__ import annotations

from collections.abc import Callable

import pytest
from selenium import webdriver

from metrikon.demo import scenario
from metrikon.sandbox.model_server import ModelServer
from tests.browser.conftest import signed_in
from tests.browser.desk import Desk
from tests.helpers import Running, eventually

LETTERS = 4


@pytest.fixture
def judging(browser: webdriver.Chrome, running: Callable[..., Running], stand_in: ModelServer) -> Desk:
    """Somebody signed in to a service whose model is the stand-in under another name, so that it counts."""
    return signed_in(browser, running(model_url=stand_in.url, model_name="small"))


def applied(desk: Desk) -> None:
    """The demo's flow of applications, with some of them."""
    client = desk.service.client
    client.put_flow(scenario.POST, scenario.flow(scenario.POST))
    for name, data in list(scenario.letters())[:LETTERS]:
        client.upload(scenario.POST, data, name=name)
    eventually(lambda: len(client.judgements(scenario.POST)["items"]) == LETTERS)


def test_applications_are_ranked_and_a_mark_is_set_right_by_keyboard_beside_its_words(judging: Desk) -> None:
    applied(judging)
    client = judging.service.client
    judging.go(f"/flows/{scenario.POST}")
    judging.read("Mark letter for propagation, teaching, licence, records")
    eventually(lambda: "judged" in judging.text())
    judging.press("g")
    judging.read(f"{LETTERS} documents, the best first.")
    rows = client.judgements(scenario.POST)["items"]
    assert [each.text.split()[1] for each in judging.all("table.ranked tbody tr")] == [each["item_name"] for each in rows]
    judging.click(rows[0]["item_name"])
    judging.read("The model was not shown: name")
    assert judging.all(".paper .ev.on"), "the words of the first mark are marked on the page"
    judging.press("j")
    judging.press("0")
    judging.read(f"{rows[0]['marks'][1]['mark']} was given")
    judging.press("u")
    judging.read("Set marks right")
    judging.press("0")
    judging.click("Set 1 mark right")
    judging.read("Set right by gardener")
    found = client.judgement(rows[0]["id"])
    assert (found["marks"][1]["mark"], found["corrected_by"]) == (0, "gardener")
    assert found["total"] < rows[0]["total"]
    assert judging.complaints() == []


def test_anchors_count_only_after_it_was_seen_who_would_move(judging: Desk) -> None:
    applied(judging)
    client = judging.service.client
    row = client.judgements(scenario.POST)["items"][0]
    client.correct_judgement(row["id"], {"teaching": 0})
    judging.go(f"/flows/{scenario.POST}")
    judging.click("judged")
    judging.read("No anchors keep the level yet")
    judging.click("Judge again…")
    judging.read(f"{LETTERS} documents, about {LETTERS} requests")
    judging.see("input[type=checkbox]").click()
    judging.read("3 anchors (")
    judging.click("Judge them again")
    judging.read(f"{LETTERS} of {LETTERS} judged again")
    judging.read("teaching 0 → ")
    assert client.judgements(scenario.POST)["steps"][0]["anchors"] == []
    judging.click("Let these anchors count from now on")
    judging.read("Judged beside 3 anchors")
    assert len(client.judgements(scenario.POST)["steps"][0]["anchors"]) == 3
    assert judging.complaints() == []


SORTED = """
metrikon: 1
name: sorted
intakes: [{kind: upload}]
steps:
  - {name: paper, read: {}}
  - {name: found, extract: {document: "${paper}", record_type: invoice, model: pattern}}
  - name: sort
    classify:
      of: ${paper}
      UNSURE
      labels: [{name: plants, about: Plants are sold.}, {name: tools, about: Tools are sold.}]
  - {name: checked, check: {record: "${found}"}}
"""


def test_a_record_shows_what_was_judged_beside_it_and_marks_its_words(judging: Desk, stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"words": "Fernhill Nurseries", "label": "plants"}
    client = judging.service.client
    client.put_flow("sorted", SORTED.replace("UNSURE", "unsure: go on"))
    client.upload("sorted", scenario.document("01-fernhill-nurseries.pdf"), name="01.pdf")
    (record,) = eventually(lambda: list(client.records()))
    judging.go(f"/records/{record.id}")
    judging.read("sort: plants")
    judging.see("[data-pointer='/sort/0']").click()
    judging.see(".paper .ev.on[title^='sort']")
    assert judging.complaints() == []


def test_a_question_about_what_was_judged_leads_to_the_document_with_the_words_marked(judging: Desk, stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"words": "utterly delightful", "label": "plants"}
    client = judging.service.client
    client.put_flow("sorted", SORTED.replace("UNSURE", "unsure: ask"))
    client.upload("sorted", scenario.document("01-fernhill-nurseries.pdf"), name="01.pdf")
    (question,) = eventually(client.questions)
    judging.go(f"/questions/{question['id']}")
    judging.click("See the document, with the words that were thought to say so")
    judging.read("Look yourself:")
    judging.read("35 % sure, small")
    assert judging.complaints() == []
