"""The flow language at work: values, decisions, lookups, waits, questions, failures; each through the engine as it runs."""

from __future__ import annotations

import sqlite3
import threading
import time
from collections.abc import Callable
from decimal import Decimal
from typing import Any

import pytest

from metrikon.app.assemble import App
from metrikon.core.flows.problems import BadFlow
from metrikon.engine.questions import BadAnswer
from metrikon.engine.refusing import NotNow
from metrikon.store import journal, questions
from metrikon.store.events import OtherEvent
from tests.helpers import at_rest, eventually, run_state, states

HEAD = """
metrikon: 1
name: garden
zone: Europe/Vienna
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: rows}}
steps:
"""
ROW = '  - {name: row, write: {to: table, key: ["${item.id}"], columns: {Value: "${VALUE}"}}}\n'
TABLE = """
decision: approvals
hit: first
inputs: [{name: amount, type: number}]
outputs: [{name: approver, type: string}]
rules:
  - {when: {amount: "< 500"}, then: {approver: '"nobody"'}}
  - {then: {approver: '"trustees"'}}
"""


def begun(app: App, steps: str, name: str = "a.txt") -> str:
    """A run of a flow with these steps, under way; its id."""
    app.catalog.put_flow(HEAD + steps)
    if not app.engine._threads:
        app.start()
    return app.arrivals.take("garden", "upload", None, name, f"{name} {time.time_ns()}".encode()).run_id


def rows(app: App) -> list[Any]:
    with sqlite3.connect(app.home / "out.db") as table:
        return [value for (value,) in table.execute("SELECT value FROM rows ORDER BY value")]


def events_of(app: App, run_id: str) -> list[str]:
    with app.database.reading() as connection:
        return [entry.event for _, entry in journal.load(connection, run_id)]


def test_values_are_named_and_used(house: Callable[..., App]) -> None:
    app = house()
    begun(app, '  - {name: sum, set: {net: "${10 * 2}", tax: 0.2}}\n' + ROW.replace("VALUE", "sum.net * (1 + sum.tax)"))
    assert at_rest(app, 1) == {"done": 1}
    assert rows(app) == [24]


def test_a_decision_table_is_asked_in_the_version_that_the_run_began_with(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_decision_table(TABLE)
    steps = '  - {name: pause, ask: {question: "Go on?", options: [{name: yes, label: Go on}]}}\n'
    steps += "  - {name: who, decide: {table: approvals, given: {amount: 700}}}\n"
    run = begun(app, steps + ROW.replace("VALUE", "who.outcome + string(who.rules) + string(who.version)"))
    eventually(lambda: states(app) == {"review": 1})
    app.catalog.put_decision_table(TABLE.replace("trustees", "bursar"))
    with app.database.reading() as connection:
        (question,) = questions.listed(connection)
    app.questions.answer(question["id"], "yes", "ada")
    eventually(lambda: run_state(app, run)[0] == "done")
    assert rows(app) == ["trustees[2]1"]


def test_a_choice_may_be_told_by_a_decision(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_decision_table(TABLE)
    steps = """
  - {name: who, decide: {table: approvals, given: {amount: "${string length(item.name) * 100}"}}}
  - name: sort
    choose:
      on: ${who.outcome}
      cases:
        - {is: '"nobody", "clerk"', steps: [{name: found, set: {way: short}}]}
        - {is: not("nobody"), steps: [{name: found, set: {way: long}}]}
"""
    begun(app, steps + ROW.replace("VALUE", "sort.found.way"), "a.c")
    begun(app, steps + ROW.replace("VALUE", "sort.found.way"), "abcdef.txt")
    assert at_rest(app, 2) == {"done": 2}
    assert rows(app) == ["long", "short"]


def test_all_branches_that_hold_are_taken(house: Callable[..., App]) -> None:
    app = house()
    steps = """
  - name: sort
    choose:
      take: all
      cases:
        - {when: 'contains(item.name, "a")', steps: [{name: one, set: {x: 1}}]}
        - {when: 'contains(item.name, "z")', steps: [{name: two, set: {x: 2}}]}
        - {when: 'contains(item.name, "t")', steps: [{name: three, set: {x: 3}}]}
"""
    begun(app, steps + ROW.replace("VALUE", "string([sort.one.x, sort.two.x, sort.three.x])"))
    assert at_rest(app, 1) == {"done": 1}
    assert rows(app) == ["[1, null, 3]"]


def test_rows_are_looked_up_in_lists_tables_and_sheets(house: Callable[..., App]) -> None:
    app = house()
    app.workshop.lists.put("cards", "card,account\n4471,1000 travel\n9002,1010 collecting\n")
    steps = '  - {name: card, lookup: {in: cards, where: {card: "9002"}}}\n' + ROW.replace("VALUE", "card.row.account")
    begun(app, steps)
    assert at_rest(app, 1) == {"done": 1}
    more = '  - {name: known, lookup: {in: table, that: "contains(row.value, string(1010))", order: Value, last: true}}\n'
    begun(app, more + ROW.replace("VALUE", "string(known.found) + known.row.value"), "b.txt")
    assert at_rest(app, 2) == {"done": 2}
    begun(
        app, '  - {name: none, lookup: {in: cards, where: {card: "1"}}}\n' + ROW.replace("VALUE", "string(none.found) + string(none.count)"), "c.txt"
    )
    assert at_rest(app, 3) == {"done": 3}
    assert rows(app) == ["1010 collecting", "false0", "true1010 collecting"]


def test_a_wait_ends_when_its_time_has_come(house: Callable[..., App]) -> None:
    app = house()
    run = begun(app, "  - {name: rest, wait: {for: 0.4}}\n" + ROW.replace("VALUE", "rest.came"))
    eventually(lambda: run_state(app, run)[0] == "waiting")
    assert "It waits until" in run_state(app, run)[1]
    eventually(lambda: states(app) == {"done": 1})
    assert rows(app) == ["moment"]
    assert "woken" in events_of(app, run)


def test_a_wait_ends_when_an_event_with_its_key_arrives(house: Callable[..., App]) -> None:
    app = house()
    steps = "  - {name: sign, wait: {event: 'order ${item.name}', until: event.state = \"sent\"}}\n" + ROW.replace("VALUE", "sign.event.state")
    run = begun(app, steps)
    eventually(lambda: run_state(app, run)[0] == "waiting")
    assert app.questions.send("garden", "order b.txt", {"state": "sent"}) == 0
    assert app.questions.send("garden", "order a.txt", {"state": "packed"}, "1") == 1
    eventually(lambda: events_of(app, run).count("came") == 1 and run_state(app, run)[0] == "waiting")
    assert app.questions.send("garden", "order a.txt", {"state": "packed"}, "1") is None
    eventually(lambda: app.questions.send("garden", "order a.txt", {"state": "sent"}) is not None)
    eventually(lambda: states(app) == {"done": 1})
    assert rows(app) == ["sent"]


def test_an_event_that_comes_before_anybody_waits_is_kept(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(HEAD + "  - {name: a, set: {x: 1}}\n")
    app.questions.send("garden", "early", {"n": 5})
    begun(app, "  - {name: sign, wait: {event: early}}\n" + ROW.replace("VALUE", "sign.event.n"))
    assert at_rest(app, 1) == {"done": 1}
    assert rows(app) == [5]


def test_another_event_under_the_same_identity_is_refused(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(HEAD + "  - {name: a, set: {x: 1}}\n")
    assert app.questions.send("garden", "early", {"n": Decimal("5.50")}, "mail-7") == 0
    assert app.questions.send("garden", "early", {"n": Decimal("5.50")}, "mail-7") is None
    for key, data in (("early", {"n": 6}), ("late", {"n": Decimal("5.50")})):
        with pytest.raises(OtherEvent, match="Under the identity 'mail-7' another event was sent before"):
            app.questions.send("garden", key, data, "mail-7")


def test_a_condition_is_looked_at_again_and_again_until_the_limit(house: Callable[..., App]) -> None:
    app = house()
    steps = "  - {name: sign, limit: 1.8, wait: {until: 1 > 2, every: 0.1, then: go on}}\n" + ROW.replace("VALUE", "sign.came")
    run = begun(app, steps)
    eventually(lambda: states(app) == {"done": 1})
    assert rows(app) == ["limit"]
    assert events_of(app, run).count("woken") >= 2
    parked = begun(app, "  - {name: sign, limit: 0.2, wait: {event: never}}\n" + ROW.replace("VALUE", "sign.came"), "b.txt")
    eventually(lambda: run_state(app, parked)[0] == "parked")
    assert "longer than its limit" in run_state(app, parked)[1]


QUESTION = """
  - name: order
    ask:
      question: Shall ${item.name} be ordered?
      options: [{name: order, label: Order it}, {name: leave, label: Leave it, comment: wanted}]
      show: {Name: "${item.name}"}
      who: [ada, tam]
"""


def test_an_answer_is_in_scope_with_who_gave_it_and_when(house: Callable[..., App]) -> None:
    app = house()
    run = begun(app, QUESTION + ROW.replace("VALUE", "order.answer + order.by + order.comment"))
    eventually(lambda: run_state(app, run) == ("review", "Shall a.txt be ordered?"))
    with app.database.reading() as connection:
        (question,) = questions.listed(connection)
    assert question["asked"]["show"] == {"Name": "a.txt"}
    for option, by, comment, said in (
        ("order", "eve", "", "is for ada, tam"),
        ("sell", "ada", "", "no option"),
        ("leave", "ada", " ", "wants a comment"),
    ):
        with pytest.raises(BadAnswer, match=said):
            app.questions.answer(question["id"], option, by, comment)
    app.questions.answer(question["id"], "leave", "tam", "too dear")
    eventually(lambda: states(app) == {"done": 1})
    assert rows(app) == ["leavetamtoo dear"]


def test_of_two_who_answer_at_once_one_wins_and_the_other_is_told(house: Callable[..., App]) -> None:
    app = house()
    run = begun(app, QUESTION + ROW.replace("VALUE", "order.by"))
    eventually(lambda: run_state(app, run)[0] == "review")
    with app.database.reading() as connection:
        (question,) = questions.listed(connection)
    together, told = threading.Barrier(2), []

    def answer(by: str) -> None:
        together.wait()
        try:
            app.questions.answer(question["id"], "order", by)
            told.append("won")
        except NotNow as error:
            told.append(str(error))

    people = [threading.Thread(target=answer, args=(by,)) for by in ("ada", "tam")]
    for each in people:
        each.start()
    for each in people:
        each.join()
    assert sorted(each.split(" by ")[0] for each in told) == ["The question is answered. It was answered", "won"]
    eventually(lambda: states(app) == {"done": 1})
    assert len(rows(app)) == 1


def test_a_question_nobody_answers_in_time_takes_its_default(house: Callable[..., App]) -> None:
    app = house()
    begun(app, QUESTION.replace("    ask:", "    limit: 0.3\n    ask:\n      default: leave") + ROW.replace("VALUE", "order.answer"))
    eventually(lambda: states(app) == {"done": 1})
    assert rows(app) == ["leave"]
    with app.database.reading() as connection:
        assert [each["state"] for each in questions.listed(connection, None)] == ["closed"]


def test_a_cancelled_run_asks_no_more(house: Callable[..., App]) -> None:
    app = house()
    run = begun(app, QUESTION)
    eventually(lambda: run_state(app, run)[0] == "review")
    app.answers.cancel(run, "ada")
    with app.database.reading() as connection:
        assert questions.listed(connection) == []


def test_elements_that_fail_are_told_while_the_others_go_on(house: Callable[..., App]) -> None:
    app = house()
    steps = """
  - name: numbers
    each:
      of: ${[1, 2, null, 4]}
      as: number
      at_once: 2
      on_failure: go on
      steps:
        - {name: row, write: {to: table, key: ["${number}"], columns: {Value: "${string(number)}"}}}
"""
    run = begun(app, steps + ROW.replace("VALUE", 'for each in numbers return if each.failed = null then each.row.result else \\"failed\\"'))
    assert at_rest(app, 1) == {"done": 1}
    assert "1 of 4 was not gone through: The key of the row is not complete" in run_state(app, run)[1]
    assert "1" in rows(app)
    assert len(rows(app)) == 4


def test_now_and_today_are_those_of_the_moment_a_step_begins(house: Callable[..., App]) -> None:
    app = house()
    begun(
        app,
        '  - {name: rest, wait: {for: 0.2}}\n  - {name: after, set: {at: "${now()}", again: "${now()}", day: "${today()}"}}\n'
        + ROW.replace("VALUE", 'after.at = after.again and starts with(after.at, after.day) and contains(after.at, \\"Vienna\\")'),
    )
    assert at_rest(app, 1) == {"done": 1}
    assert rows(app) == [1]


INNER = """
metrikon: 1
name: greeter
intakes: [{kind: upload}]
steps:
  - name: pause
    when: given.ask = true
    ask: {question: "Greet ${given.who}?", options: [{name: yes, label: Greet}]}
  - name: nobody
    choose:
      cases:
        - when: given.who = "nobody"
          steps: [{name: end, stop: {reason: Nobody is there.}}]
  - {name: result, set: {words: "Good day, ${given.who}."}}
"""


def test_another_flow_is_used_as_a_step_over_a_list_too(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(INNER)
    steps = """
  - name: all
    each:
      of: ${["Ida", "nobody", "Tam"]}
      as: who
      steps:
        - {name: greeted, use: {flow: greeter, given: {who: "${who}", ask: false}}}
"""
    run = begun(
        app,
        steps
        + ROW.replace("VALUE", 'for each in all return if each.greeted.outcome = \\"done\\" then each.greeted.result.words else each.greeted.reason'),
    )
    eventually(lambda: run_state(app, run)[0] == "done")
    assert rows(app) == ['["Good day, Ida.","Nobody is there.","Good day, Tam."]']
    assert states(app) == {"done": 3, "stopped": 1}


def test_cancelling_a_run_ends_the_runs_that_it_uses_and_the_other_way_it_goes_on(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(INNER)
    steps = "  - {name: greeted, use: {flow: greeter, given: {who: Ida, ask: true}}}\n" + ROW.replace("VALUE", "greeted.outcome")
    first = begun(app, steps)
    eventually(lambda: states(app) == {"waiting": 1, "review": 1})
    app.answers.cancel(first, "ada")
    assert states(app) == {"stopped": 2}
    second = begun(app, steps, "b.txt")
    eventually(lambda: states(app) == {"stopped": 2, "waiting": 1, "review": 1})
    with app.database.reading() as connection:
        (question,) = questions.listed(connection)
    app.answers.cancel(question["run_id"], "ada")
    eventually(lambda: run_state(app, second)[0] == "done")
    assert rows(app) == ["stopped"]


def test_flows_that_use_each_other_in_a_circle_are_refused(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(INNER)
    app.catalog.put_flow(HEAD + "  - {name: a, use: {flow: greeter}}\n")
    with pytest.raises(BadFlow, match="It would never come to an end: greeter uses garden uses greeter"):
        app.catalog.put_flow(INNER + "  - {name: back, use: {flow: garden}}\n")
    with pytest.raises(BadFlow, match="It is the flow itself"):
        app.catalog.put_flow(INNER + "  - {name: back, use: {flow: greeter}}\n")
    with pytest.raises(BadFlow, match="Is 'greeter' meant"):
        app.catalog.put_flow(HEAD + "  - {name: a, use: {flow: greter}}\n")


def test_a_parked_run_goes_on_on_a_newer_version_with_what_is_the_same(house: Callable[..., App]) -> None:
    app = house()
    steps = QUESTION + "  - {name: size, decide: {table: approvals, given: {amount: 700}}}\n"
    app.catalog.put_decision_table(TABLE)
    stuck = "  - name: sort\n    choose: {cases: [{when: number(order.comment) > 1, steps: [{name: big, set: {x: 1}}]}]}\n"
    run = begun(app, steps + stuck + ROW.replace("VALUE", "order.by"))
    eventually(lambda: run_state(app, run)[0] == "review")
    with app.database.reading() as connection:
        (question,) = questions.listed(connection)
    app.questions.answer(question["id"], "order", "tam", "please")
    eventually(lambda: run_state(app, run)[0] == "parked")
    with pytest.raises(NotNow, match="has no newer version"):
        app.moving.move(run, "ada")
    app.catalog.put_flow(
        HEAD + steps + stuck.replace("when: number", "null_means: false, when: number") + ROW.replace("VALUE", "order.by + size.outcome")
    )
    fresh = app.moving.move(run, "ada")
    eventually(lambda: run_state(app, fresh)[0] == "done")
    assert rows(app) == ["tamtrustees"]
    assert run_state(app, run)[0] == "stopped"
    assert fresh in run_state(app, run)[1]
    assert events_of(app, fresh).count("asked") == 0  # the answer was taken over
    with pytest.raises(NotNow, match="only a parked one"):
        app.moving.move(fresh, "ada")


def test_a_step_whose_commit_fails_loses_nothing_that_came_before(house: Callable[..., App], monkeypatch: pytest.MonkeyPatch) -> None:
    app = house()
    app.catalog.put_flow(INNER)
    monkeypatch.setattr("metrikon.steps.use.DEEPEST", 0)
    run = begun(app, "  - {name: paper, read: {}}\n  - {name: greeted, use: {flow: greeter}}\n")
    eventually(lambda: run_state(app, run)[0] == "parked")
    assert "use each other more than 0 deep" in run_state(app, run)[1]
    assert events_of(app, run) == ["started", "done", "failed"]


GATHER = """
  - {name: names, set: {list: ["a", "b", "c", "d", "e"]}}
  - name: all
    each:
      of: ${names.list}
      as: one
      at_once: 2
      on_failure: gather
      steps:
        - {name: fine, when: 'one in ("b", "d")', decide: {table: none-such, given: {amount: 1}}}
        - {name: row, write: {to: table, key: ["${one}"], columns: {Value: "${one}"}}}
  - {name: last, write: {to: table, key: ["last ${item.name}"], columns: {Value: "last of ${count(all)}"}}}
"""


def gathered(house: Callable[..., App]) -> tuple[App, str]:
    app = house()
    app.catalog.put_decision_table(TABLE.replace("approvals", "none-such"))
    app.catalog.checked_flow(HEAD + GATHER)
    kept, app.workshop.decision_table = app.workshop.decision_table, _no_table  # type: ignore[method-assign]
    run = begun(app, GATHER)
    assert eventually(lambda: run_state(app, run)[0] == "parked")
    app.workshop.decision_table = kept  # type: ignore[method-assign]
    return app, run


def _no_table(name: str, version: int | None = None) -> Any:
    raise KeyError(f"There is no decision table {name!r}.")


def test_elements_that_fail_are_gathered_while_the_others_go_on(house: Callable[..., App]) -> None:
    app, run = gathered(house)
    assert rows(app) == ["a", "c", "e"]
    assert run_state(app, run)[1].startswith("2 steps cannot go on: There is no decision table")
    app.answers.continue_run(run, "ada")
    assert eventually(lambda: run_state(app, run)[0] == "done")
    assert rows(app) == ["a", "b", "c", "d", "e", "last of 5"]


def test_elements_that_fail_are_left_out_when_a_person_says_so(house: Callable[..., App]) -> None:
    app, run = gathered(house)
    app.answers.continue_run(run, "ada", leave=True)
    assert eventually(lambda: run_state(app, run)[0] == "done")
    assert rows(app) == ["a", "c", "e", "last of 5"]
    assert "2 of 5 were not gone through: There is no decision table" in run_state(app, run)[1]


def test_a_row_is_set_under_its_key_by_a_later_run_and_once_a_step(house: Callable[..., App]) -> None:
    app = house()
    write = '{to: table, key: ["beds ${1}"], IF columns: {Value: "${item.name}"}}'
    begun(app, f"  - {{name: row, write: {write.replace('IF', '')}}}\n", "first")
    at_rest(app, 1)
    begun(app, f"  - {{name: row, write: {write.replace('IF', '')}}}\n", "second")
    at_rest(app, 2)
    assert rows(app) == ["first"]
    run = begun(app, f"  - {{name: row, write: {write.replace('IF', 'if_there: update,')}}}\n", "third")
    at_rest(app, 3)
    assert rows(app) == ["third"]
    begun(app, f"  - {{name: row, write: {write.replace('IF', 'if_there: update,')}}}\n", "fourth")
    at_rest(app, 4)
    assert rows(app) == ["fourth"]
    with app.database.reading() as connection:
        (done,) = [entry.data["result"] for _, entry in journal.load(connection, run) if entry.event == "done"]
    assert done["result"] == "updated"
