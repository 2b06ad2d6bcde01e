"""Steps that judge, in flows: the outcome decides the way, what is not sure is put at the desk, every call is on record, costs are known beforehand."""

from __future__ import annotations

import json
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import pytest
from openpyxl import load_workbook

from metrikon.app.assemble import App
from metrikon.app.kinds import kinds
from metrikon.core.flows.checking import checked
from metrikon.core.flows.kind import Known
from metrikon.demo import scenario
from metrikon.ports.model import STAND_IN
from metrikon.sandbox import model_server
from metrikon.sandbox.model_server import ModelServer
from metrikon.store import calls, journal, questions
from tests.engine.test_several import NAMES, merged
from tests.helpers import eventually, run_state, states

HEAD = """
metrikon: 1
name: post
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///post.db", table: rows}}
steps:
  - {name: paper, read: {}}
"""
SORT = """
  - name: sort
    classify:
      of: ${paper}
      labels:
        - {name: complaint, about: Somebody complains or wants money back.}
        - {name: booking, about: Somebody books a tour.}
"""
WAYS = """
  - name: way
    choose:
      on: ${sort.outcome}
      cases:
        - is: '"complaint"'
          steps: [{name: row, write: {to: table, key: ["${item.id}"], columns: {What: "${sort.outcome}", Words: "${sort.evidence.quote}"}}}]
        - is: '"booking"'
          steps: [{name: tour, stop: {reason: Somebody books a tour.}}]
      otherwise: [{name: rest, stop: {reason: It is neither.}}]
"""
MAIL = b"Dear garden office,\nthe glasshouse was closed again.\nI want my money back for the tickets.\nIda Wren\n"


def result_of(app: App, run_id: str, path: str = "sort") -> dict[str, Any]:
    with app.database.reading() as connection:
        return next(
            entry.data["result"]
            for _, entry in journal.load(connection, run_id)
            if entry.event in ("done", "answered", "asked") and entry.path == path
        )


def started(house: Callable[..., App], stand_in: ModelServer, text: str, **settings: Any) -> App:
    app = house(flow=text, model_url=stand_in.url, model_name="stand-in", **settings)
    app.start()
    return app


def sent(app: App, data: bytes = MAIL) -> str:
    return app.arrivals.take("post", "upload", "1", "mail.txt", data).run_id


def test_an_outcome_decides_the_way_and_its_words_can_be_written(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"words": "I want my money back", "label": "complaint"}
    app = started(house, stand_in, HEAD + SORT + WAYS)
    run = sent(app)
    eventually(lambda: states(app) == {"done": 1})
    result = result_of(app, run)
    assert (result["outcome"], str(result["sure"]), result["evidence"]["page"]) == ("complaint", "0.9", 1)
    assert result["needs_person"] is False
    with app.database.reading() as connection:
        (delivery,) = connection.exec_driver_sql('SELECT "values" FROM deliveries').scalars()
        (call,) = calls.of_run(connection, run)
    assert json.loads(delivery) == {"What": "complaint", "Words": "I want my money back"}
    assert call["stage"] == "ask"


def test_a_stand_in_cannot_pass_for_judgement(house: Callable[..., App], stand_in: ModelServer) -> None:
    assert model_server.NAME == STAND_IN
    app = started(house, stand_in, HEAD + SORT + WAYS)
    run = sent(app)
    eventually(lambda: not set(states(app)) - {"done", "stopped", "review"})
    result = result_of(app, run)
    assert result["stand_in"] is True
    assert any(each["check"] == "stand-in" for each in result["findings"])


def test_what_is_not_sure_is_a_question_at_the_desk_and_the_answer_counts(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"words": "utterly delightful", "label": "booking"}
    app = started(house, stand_in, HEAD + SORT + WAYS)
    run = sent(app)
    eventually(lambda: states(app) == {"review": 1})
    with app.database.reading() as connection:
        (question,) = questions.listed(connection)
    asked = question["asked"]
    assert asked["question"] == "What is mail.txt?"
    assert [each["name"] for each in asked["options"]] == ["complaint", "booking", "none of these"]
    assert asked["show"]["The model thought"] == "booking (35 % sure)"
    app.questions.answer(question["id"], "complaint", "ada", "They want money.")
    eventually(lambda: states(app) == {"done": 1})
    result = result_of(app, run)
    with app.database.reading() as connection:
        last = next(entry.data["result"] for _, entry in journal.load(connection, run) if entry.event == "answered")
    assert (last["outcome"], last["by"], last["comment"], last["needs_person"]) == ("complaint", "ada", "They want money.", False)
    assert (last["evidence"], last["thought"]["outcome"]) == (None, "booking"), "the words that the model gave speak for what it said alone"
    assert result["outcome"] == "booking", "what the model said stays on record"


def test_a_flow_may_go_on_with_what_is_not_sure_and_sees_that(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"words": "utterly delightful", "label": "booking"}
    app = started(
        house, stand_in, HEAD + SORT + "      unsure: go on\n" + '  - {name: end, when: "sort.needs_person", stop: {reason: It was not sure.}}\n'
    )
    run = sent(app)
    eventually(lambda: states(app) == {"stopped": 1})
    assert run_state(app, run)[1] == "It was not sure."


def test_a_text_or_a_record_is_judged_as_well(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"words": "money back", "label": "complaint"}
    app = started(house, stand_in, HEAD + SORT.replace("${paper}", "Subject my money back, please") + WAYS)
    run = sent(app)
    eventually(lambda: states(app) == {"done": 1})
    assert result_of(app, run)["evidence"]["quote"] == "money back,"


def test_the_pattern_reader_judges_nothing_and_says_so(house: Callable[..., App]) -> None:
    app = house(flow=HEAD + SORT + WAYS)
    app.start()
    run = sent(app)
    eventually(lambda: states(app) == {"parked": 1})
    assert "The pattern reader judges nothing." in run_state(app, run)[1]


def test_a_model_that_is_down_is_asked_again_later(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"words": "I want my money back", "label": "complaint"}
    stand_in.mood.kinds, stand_in.mood.times = ("500",), 1
    app = started(house, stand_in, HEAD + SORT + "    retry: {wait: 0.1}\n" + WAYS)
    sent(app)
    eventually(lambda: states(app) == {"done": 1})


def test_what_judging_costs_is_known_beforehand(house: Callable[..., App], stand_in: ModelServer) -> None:
    app = house(
        flow=HEAD + SORT + "      second_reading: stand-in\n" + WAYS,
        model_url=stand_in.url,
        model_name="stand-in",
        price_in=Decimal(1),
        price_out=Decimal(1),
    )
    told = app.estimating.of(app.catalog.newest_flow("post"), MAIL)
    assert told.requests == 2
    assert told.cost > 0
    assert stand_in.mood.calls == 0
    stand_in.mood.answer = {"words": "I want my money back", "label": "complaint"}
    app.start()
    sent(app)
    eventually(lambda: states(app) == {"done": 1})
    with app.database.reading() as connection:
        spent = connection.exec_driver_sql("SELECT calls, input_tokens FROM runs").one()
    assert spent.calls == 2
    assert told.input_tokens == pytest.approx(spent.input_tokens, rel=0.3)


WRONG = [
    ("labels: []", "Give either labels, one of which fits, or questions"),
    ("labels: [{name: a}, {name: b}]\n      questions: [{name: c}]", "Give either labels, one of which fits, or questions"),
    ("labels: [{name: a}, {name: a}]", "'a' is there twice"),
    ("labels: [{name: a}]", "One label alone tells nothing"),
    ("questions: [{name: a}]\n      otherwise: a", "'a' is the name of one of them"),
    ("questions: [{name: a}]\n      model: pattern", "The pattern reader judges nothing; name a language model."),
    ("questions: [{name: a}]\n      model: smal", "There is no model 'smal'. Is 'small' meant?"),
]


@pytest.mark.parametrize(("said", "message"), WRONG)
def test_mistakes_are_told_when_a_flow_is_kept(said: str, message: str) -> None:
    text = HEAD + f"  - name: sort\n    classify:\n      of: ${{paper}}\n      {said}\n"
    _, problems = checked(text, kinds().language, Known(models=frozenset({"small", "pattern"})))
    assert any(message in each.message for each in problems), problems


def test_an_outcome_that_there_is_not_is_found_in_a_condition() -> None:
    text = HEAD + SORT + '  - {name: end, when: "sort.outcome = \\"grumble\\"", stop: {reason: No.}}\n'
    _, problems = checked(text, kinds().language, Known())
    assert any("can never" in each.message or "grumble" in each.message for each in problems), problems


PRICES = b"Hartwell Seeds\nRosa canina 12.50 EUR\nAcer palmatum 40.00 EUR\nYew 9.00 EUR\nFern 4.00 EUR\nIvy 2.00 EUR\n"
DEARER = PRICES.replace(b"12.50", b"13.00")
WATCH = """
  - name: changed
    compare: {of: "${paper}", before: BEFORE, matters: other prices}
  - {name: end, stop: {reason: "It is ${changed.outcome}"}}
"""


def watched(before: str) -> str:
    return HEAD + WATCH.replace("BEFORE", json.dumps(before))


def test_a_change_of_a_page_is_told_with_both_sides(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"1": {"why": "a price", "material": "yes"}}
    app = started(house, stand_in, watched(PRICES.decode()))
    run = sent(app, DEARER)
    eventually(lambda: states(app) == {"stopped": 1})
    assert run_state(app, run)[1] == "It is material"
    (change,) = result_of(app, run, "changed")["changes"]
    assert (change["before"], change["after"], change["why"]) == ("Rosa canina 12.50 EUR", "Rosa canina 13.00 EUR", "a price")
    assert change["evidence"]["page"] == 1


def test_the_same_page_asks_no_model(house: Callable[..., App], stand_in: ModelServer) -> None:
    app = started(house, stand_in, watched(PRICES.decode().replace("12.50", "12.5")))
    run = sent(app, PRICES)
    eventually(lambda: states(app) == {"stopped": 1})
    assert run_state(app, run)[1] == "It is same"
    assert stand_in.mood.calls == 0


def test_records_are_compared_without_a_language_model_where_every_change_matters(house: Callable[..., App]) -> None:
    flow = HEAD + "  - {name: was, set: {total: 12.50, lines: [Fern, Yew]}}\n  - {name: now, set: {total: 12.5, lines: [Yew, Ivy]}}\n"
    app = house(flow=flow + "  - {name: changed, compare: {of: '${now}', before: '${was}'}}\n")
    app.start()
    run = sent(app)
    eventually(lambda: states(app) == {"done": 1})
    result = result_of(app, run, "changed")
    assert result["outcome"] == "material"
    assert {(each["at"], each["before"], each["after"]) for each in result["changes"]} == {("lines[1]", "Fern", ""), ("lines[2]", "", "Ivy")}


def test_a_record_is_not_compared_with_a_text(house: Callable[..., App]) -> None:
    app = house(flow=HEAD + "  - {name: was, set: {total: 1}}\n  - {name: changed, compare: {of: a text, before: '${was}'}}\n")
    app.start()
    run = sent(app)
    eventually(lambda: states(app) == {"parked": 1})
    assert "`before` and `of` must be of one sort" in run_state(app, run)[1]


MARKS = """
  - name: marks
    judge:
      of: ${paper}
      hide: [Ida Wren]
      criteria:
        - {name: ferns, about: Has raised ferns., marks: {0: none, 1: some, 2: many}, weight: 2, must: true}
        - {name: groups, about: Has led groups., marks: {0: none, 1: some}}
      labels: {unfit: 0, possible: 50, ideal: 90}
  - {name: end, stop: {reason: "${marks.outcome} ${marks.total}"}}
"""
LETTER = b"Ida Wren\nShe raised four thousand ferns a year.\nLed the school workshops of the arboretum.\n"
MARKED = {
    "ferns": {"words": "raised four thousand ferns a year", "reason": "Four thousand.", "missing": "", "mark": 2},
    "groups": {"words": "Led the school workshops", "reason": "Workshops.", "missing": "", "mark": 1},
}


def test_an_application_is_marked_and_the_label_decides(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = MARKED
    app = started(house, stand_in, HEAD + MARKS)
    run = sent(app, LETTER)
    eventually(lambda: states(app) == {"stopped": 1})
    assert run_state(app, run)[1] == "ideal 100"
    result = result_of(app, run, "marks")
    assert [each["evidence"]["quote"] for each in result["marks"]] == ["raised four thousand ferns a year.", "Led the school workshops"]
    assert result["left_out"] == ["name", "sex"]
    with app.database.reading() as connection:
        (call,) = calls.of_run(connection, run)
        asked = calls.get(connection, call["id"])
    assert asked is not None
    assert "Wren" not in json.dumps(asked["prompt"], default=str)


def test_a_mark_without_ground_waits_for_a_person_who_gives_the_label(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = {**MARKED, "groups": {"words": "Managed two hundred people", "reason": "", "missing": "", "mark": 1}}
    app = started(house, stand_in, HEAD + MARKS)
    run = sent(app, LETTER)
    eventually(lambda: states(app) == {"review": 1})
    with app.database.reading() as connection:
        (question,) = questions.listed(connection)
    assert "groups: the mark 1 was given, but the words" in question["asked"]["show"]["Why it is asked"]
    app.questions.answer(question["id"], "possible", "ada", "No groups.")
    eventually(lambda: states(app) == {"stopped": 1})
    assert run_state(app, run)[1] == "possible 100"


@pytest.mark.parametrize(
    ("said", "message"),
    [
        ("criteria: []", "criteria"),
        ("criteria: [{name: a, about: x, marks: {0: none}}]", "marks"),
        ("criteria: [{name: a, marks: {0: none, 1: some}}]", "about"),
        ("criteria: [{name: a, about: x, marks: {0: none, 1: some}}, {name: a, about: y, marks: {0: none, 1: some}}]", "There are two criteria 'a'"),
        ("labels: {good: 50, ideal: 90}", "One label must hold from 0"),
        ("labels: {unfit: 0, bad: 0}", "Two labels hold from the same total"),
    ],
)
def test_a_judgement_without_criteria_of_its_own_is_refused(said: str, message: str) -> None:
    body = {"criteria": "criteria: [{name: a, about: x, marks: {0: none, 1: some}}]", "labels": "labels: {unfit: 0, ideal: 90}"}
    body[said.partition(":")[0]] = said
    text = HEAD + "  - name: marks\n    judge:\n      of: ${paper}\n" + "".join(f"      {each}\n" for each in body.values())
    _, problems = checked(text, kinds().language, Known())
    assert any(message in str(each) for each in problems), problems


WRITE = """
  - name: was
    set: {lines: [{plant: Fern, amount: 10.25}, {plant: Yew, amount: 4.50}]}
  - name: reply
    draft: {of: "${was}", instructions: Say what was ordered., words: 30, figures: {"dearest": "${max(was.lines.amount)}"}}
  - {name: end, stop: {reason: "${reply.text}"}}
"""


def test_a_text_is_written_with_sums_that_were_worked_out(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"text": "Two kinds were ordered for 14.75; the dearest is 10.25."}
    app = started(house, stand_in, HEAD + WRITE)
    run = sent(app)
    eventually(lambda: states(app) == {"stopped": 1})
    assert run_state(app, run)[1] == "Two kinds were ordered for 14.75; the dearest is 10.25."
    with app.database.reading() as connection:
        (call,) = calls.of_run(connection, run)
        asked = calls.get(connection, call["id"])
    assert asked is not None
    assert "- sum of lines.amount: 14.75" in json.dumps(asked["prompt"], default=str)


def test_a_text_with_a_figure_of_its_own_is_not_used_unless_a_person_says_so(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"text": "Nearly 15 was spent."}
    app = started(house, stand_in, HEAD + WRITE)
    run = sent(app)
    eventually(lambda: states(app) == {"review": 1})
    assert stand_in.mood.calls == 3
    with app.database.reading() as connection:
        (question,) = questions.listed(connection)
    assert question["asked"]["show"]["The text"] == "Nearly 15 was spent."
    assert "In none of its sources: 15" in question["asked"]["show"]["Why it is asked"]
    app.questions.answer(question["id"], "use it", "ada", "")
    eventually(lambda: states(app) == {"stopped": 1})
    assert run_state(app, run)[1] == "Nearly 15 was spent."


def test_each_of_several_documents_in_a_file_is_judged_by_itself(house: Callable[..., App], stand_in: ModelServer) -> None:
    stand_in.mood.answer = {"words": None, "label": "none of these"}
    sort = SORT.replace("of: ${paper}", "of: ${paper}\n      only: ${one}").replace("\n", "\n      ")
    app = started(house, stand_in, HEAD + '  - name: all\n    each:\n      of: "${paper.documents}"\n      as: one\n      steps:' + sort.rstrip())
    run = sent(app, merged(*NAMES))
    eventually(lambda: states(app) == {"done": 1})
    with app.database.reading() as connection:
        asked = [json.dumps((calls.get(connection, each["id"]) or {})["prompt"], default=str) for each in calls.of_run(connection, run)]
    assert [("Fernhill" in each, "Moorgate" in each) for each in sorted(asked, key=lambda each: "Moorgate" in each)] == [(True, False), (False, True)]


def test_the_demo_sorts_the_calls_of_the_visitor_line_and_says_who_told(house: Callable[..., App], stand_in: ModelServer) -> None:
    app = started(house, stand_in, scenario.flow(scenario.CALLS))
    for name, data in scenario.calls():
        app.arrivals.take(scenario.CALLS, "upload", name, name, data)
    eventually(lambda: states(app) == {"done": 3})
    rows = list(load_workbook(app.home / "calls.xlsx")["Calls"].iter_rows(min_row=2, values_only=True))
    assert [(row[1], row[4]) for row in rows] == [("booking", "a stand-in")] * 3


def test_the_demo_marks_applications_and_says_who_told(house: Callable[..., App], stand_in: ModelServer) -> None:
    app = started(house, stand_in, scenario.flow(scenario.POST))
    letters = list(scenario.letters())
    for name, data in letters:
        app.arrivals.take(scenario.POST, "upload", name, name, data)
    eventually(lambda: states(app) == {"done": len(letters)})
    rows = list(load_workbook(app.home / "applications.xlsx")["Applications"].iter_rows(min_row=2, values_only=True))
    assert {row[6] for row in rows} == {"a stand-in"}
    assert sorted(str(row[0]) for row in rows) == [name for name, _ in letters]


def test_the_demo_tells_of_price_lists_what_matters_and_nothing_of_what_changed_in_form(house: Callable[..., App], stand_in: ModelServer) -> None:
    app = started(house, stand_in, scenario.flow(scenario.LISTS))
    for month, settled in (("2026-03", {"stopped": 4}), ("2026-04", {"stopped": 6, "done": 2})):
        for name, data in scenario.price_lists(month):
            app.arrivals.take(scenario.LISTS, "upload", name, name, data)
        eventually(lambda settled=settled: states(app) == settled)  # type: ignore[misc]
    rows = list(load_workbook(app.home / "prices.xlsx")["Changes"].iter_rows(min_row=2, values_only=True))
    assert [row[2:4] for row in rows if row[0] == "hartwell-seeds"] == [("Hedera helix 83.33 EUR", "Hedera helix 82.33 EUR")]
    assert {row[5] for row in rows if row[0] == "zonnehof-bollen"} == {True}, "a notice in place of the list is put before a person"
    assert {row[0] for row in rows} == {"hartwell-seeds", "zonnehof-bollen"}
