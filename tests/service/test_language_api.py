"""The flow language over HTTP and on the command line: checking, reading, comparing, deciding, asking, telling."""

from __future__ import annotations

import json
from collections.abc import Callable
from io import StringIO
from pathlib import Path

import pytest

from metrikon.cli import main
from metrikon.client import ClientError
from metrikon.demo import scenario
from tests.helpers import Running, eventually

FLOW = """
metrikon: 1
name: orders
zone: Europe/Vienna
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: rows}}
steps:
  - {name: size, set: {letters: "${string length(item.name)}"}}
  - {name: who, decide: {table: approvals, given: {amount: "${size.letters * 100}"}}}
  - name: order
    when: who.outcome != "nobody"
    ask:
      question: May ${item.name} be ordered?
      options: [{name: order, label: Order it}, {name: leave, label: Leave it, comment: wanted}]
      show: {Letters: "${size.letters}"}
  - name: way
    choose:
      on: ${order.answer}
      cases: [{is: '"leave"', steps: [{name: end, stop: {reason: "Left by ${order.by}: ${order.comment}"}}]}]
  - {name: sent, wait: {event: "sent ${item.name}"}}
  - {name: row, write: {to: table, key: ["${item.id}"], columns: {Who: "${who.outcome}", State: "${sent.event.state}"}}}
"""
LETTERS = """
metrikon: 1
name: letters
intakes: [{kind: upload}]
destinations: {table: {kind: csv, path: out.csv}}
steps:
  - {name: row, write: {to: table, key: ["KEY"], columns: {Name: "${item.name}"}}}
"""
TABLE = """
decision: approvals
about: Who may approve an order.
hit: unique
inputs: [{name: amount, type: number}]
outputs: [{name: approver, type: string}]
rules:
  - {when: {amount: "< 500"}, then: {approver: '"nobody"'}}
  - {when: {amount: "> 500"}, then: {approver: '"trustees"'}}
"""


@pytest.fixture
def ordering(running: Callable[..., Running]) -> Running:
    service = running()
    service.client.put_decision_table("approvals", TABLE)
    service.client.put_flow("orders", FLOW, "first of all")
    return service


def test_a_run_is_asked_answered_and_told(ordering: Running) -> None:
    client = ordering.client
    run = client.upload("orders", b"an order", name="spades.txt").run_id
    (question,) = eventually(client.questions)
    assert question["question"] == "May spades.txt be ordered?"
    assert question["show"] == {"Letters": 10}
    with pytest.raises(ClientError, match="There is no option 'sell'"):
        client.answer(question["id"], "sell")
    assert client.answer(question["id"], "order")["answered_by"]
    with pytest.raises(ClientError, match="The question is answered"):
        client.answer(question["id"], "leave", "no")
    eventually(lambda: client.run(run).state == "waiting" and "waits for the event" in client.run(run).reason)
    assert client.send_event("orders", "sent spades.txt", {"state": "gone"}, "1") == 1
    assert client.send_event("orders", "sent spades.txt", {"state": "gone"}, "1") == 0
    assert client.wait(run).state == "done"
    values = {each["path"]: each for each in client.values_of(run)}
    assert values["who.outcome"] == {"path": "who.outcome", "type": "string", "value": "trustees", "count": None}
    assert values["size.letters"]["type"] == "number"
    assert values["sent.event.state"]["value"] == "gone"
    assert values["row.result"]["value"] == "written"


def test_an_answer_with_a_comment_ends_the_run(ordering: Running) -> None:
    client = ordering.client
    run = client.upload("orders", b"another", name="spades.txt").run_id
    (question,) = eventually(client.questions)
    client.answer(question["id"], "leave", "We have enough.")
    assert client.wait(run).state == "stopped"
    assert client.run(run).reason.endswith("We have enough.")
    assert client.questions() == []
    assert [each["answer"] for each in client.questions(state="answered")] == ["leave"]


def test_a_flow_is_read_as_sentences_and_its_versions_are_compared(ordering: Running) -> None:
    client = ordering.client
    client.put_flow(
        "orders",
        FLOW.replace("{amount: ", "{amount: ")
        .replace("size.letters * 100", "size.letters * 90")
        .replace("name: sent", "name: gone")
        .replace("sent.event", "gone.event"),
        "nearer",
    )
    page = client.flow("orders")
    assert [line["number"] for line in page["lines"]] == ["1", "2", "3", "4", "", "4.1", "5", "6"]
    assert page["lines"][1]["sentence"] == "Ask the decision table approvals for amount = size.letters * 90."
    assert page["lines"][2]["more"] == ['Only when who.outcome != "nobody".']
    assert page["lines"][4]["sentence"] == 'When it is "leave":'
    assert page["comes"] == ["files that are sent"]
    assert page["goes"] == ["the table rows of a database"]
    newest = page["versions"][0]
    assert newest["why"] == "nearer"
    assert "The step gone (wait) is new." in newest["changes"]
    assert "The step sent (wait) is gone." in newest["changes"]
    assert any(each.startswith("The step who has given/amount size.letters * 90 instead of") for each in newest["changes"])


def test_a_paused_flow_takes_in_and_works_on_nothing(ordering: Running) -> None:
    client = ordering.client
    client.switch_flow("orders", True, paused=True)
    run = client.upload("orders", b"while paused", name="a.b").run_id
    assert client.run(run).state == "ready"
    assert client.flow("orders")["paused"]
    client.switch_flow("orders", True)
    eventually(lambda: client.run(run).state == "waiting")


def test_a_flow_is_tried_and_nothing_leaves_the_house(ordering: Running) -> None:
    client = ordering.client
    found = client.try_flow("orders", b"an order", name="a.b")
    assert [(each["path"], each["would"][:20]) for each in found["steps"]] == [("who", "")]
    assert (found["stands"], found["reason"]) == ("waits", "It waits for the event 'sent a.b'.")
    asked = client.try_flow("orders", b"an order", name="spades.txt")
    assert asked["stands"] == "asks"
    assert asked["reason"] == "May spades.txt be ordered?"
    assert {"path": "who.outcome", "type": "string", "value": "trustees", "count": None} in asked["values"]
    client.put_flow("short", SHORT)
    for _ in range(2):
        tried = client.try_flow("short", b"x", name="x.txt")
        assert tried["stands"] == "done"
        assert tried["steps"][0]["would"] == "A row would be written, once for x.txt."
        assert tried["steps"][0]["values"]["columns"] == {"N": 5}
    run = client.upload("short", b"in earnest", name="x.txt")
    client.wait(run.run_id)
    assert client.try_flow("short", item=run.item_id)["steps"][0]["would"] == "It is there already; nothing would be written."
    assert [each.state for each in client.runs()] == ["done"]
    assert client.questions() == []
    assert client.try_flow("orders", b"x", name="spades.txt", until="who")["stands"] == "tried as far as wanted"


def test_a_key_that_tells_no_paper_from_another_is_told_when_the_third_is_tried(running: Callable[..., Running]) -> None:
    client = running().client
    flow = LETTERS.replace("KEY", "${string length(item.name)}")
    assert "a second paper may have" in client.keep_flow("letters", flow)["told"][0]
    assert [len(client.try_flow("letters", name.encode(), name=name)["told"]) for name in ("a.b", "c.d", "e.f", "longer")] == [0, 0, 1, 0]
    client.put_flow("letters", LETTERS.replace("KEY", "${item.name}"))
    assert [len(client.try_flow("letters", name.encode(), name=name)["told"]) for name in ("a.b", "c.d", "e.f")] == [0, 0, 0]


def test_a_record_is_tried_without_being_kept(running: Callable[..., Running]) -> None:
    service = running(model_url="")
    kind, table, flow = scenario.requests_texts()
    service.client.put_record_type("order_request", kind)
    service.client.put_decision_table("approvals", table)
    service.client.put_flow("order-requests", flow)
    ((name, data), *_) = scenario.requests()
    found = service.client.try_flow("order-requests", data, name=name)
    values = {each["path"]: each["value"] for each in found["values"]}
    assert values["checked.record.number"] == "R-101"
    assert found["steps"][-1]["values"]["columns"]["Request"] == "R-101"
    assert found["stands"] == "done"
    assert list(service.client.records()) == []
    service.client.wait(service.client.upload("order-requests", data, name=name).run_id)
    again = service.client.try_flow("order-requests", data, name=name)
    assert again["stands"] == "done"  # what came in before is no repeat of itself
    assert again["steps"][-1]["would"] == "It is there already; nothing would be written."


SHORT = """
metrikon: 1
name: short
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///short.db", table: rows}}
steps:
  - {name: row, write: {to: table, key: ["${item.name}"], columns: {N: "${string length(item.name)}"}}}
"""


def test_a_decision_table_says_what_it_leaves_open(ordering: Running) -> None:
    client = ordering.client
    (table,) = client.decision_tables()
    assert table["open"] == ["No rule holds for amount = 500. Add a rule, or a default."]
    assert client.decide("approvals", {"amount": 700})["outcome"] == "trustees"
    assert client.decide("approvals", {"amount": 700})["rules"] == [2]
    xml = client.decision_table_as_dmn("approvals")
    assert client.put_decision_table("approvals", xml)["version"] == 2
    assert client.decide("approvals", {"amount": 700})["rules"] == [2]
    with pytest.raises(ClientError, match="Rules 1 and 2 both hold for amount"):
        client.put_decision_table("approvals", TABLE.replace("> 500", "> 400"))
    with pytest.raises(ClientError, match="no decision table 'nothing'"):
        client.decide("nothing", {})


def test_a_flow_is_checked_with_line_and_column(ordering: Running) -> None:
    (found,) = ordering.client.check_flow(FLOW.replace("to: table", "to: tabel"))
    assert FLOW.splitlines()[found["line"] - 1][found["column"] - 1 :].startswith("to")
    assert "Is 'table' meant?" in found["message"]
    assert ordering.client.check_flow(FLOW) == []
    with pytest.raises(ClientError, match="Is 'table' meant"):
        ordering.client.put_flow("orders", FLOW.replace("to: table", "to: tabel"))


@pytest.fixture
def run(ordering: Running) -> Callable[..., tuple[int, str]]:
    def running(*arguments: str) -> tuple[int, str]:
        out = StringIO()
        code = main([*arguments, "--url", ordering.url, "--token", ordering.token], out, out)
        return code, out.getvalue()

    return running


def test_commands_ask_answer_and_tell(ordering: Running, run: Callable[..., tuple[int, str]], tmp_path: Path) -> None:
    assert run("questions", "list") == (0, "No question waits for an answer.\n")
    one = ordering.client.upload("orders", b"x", name="spades.txt").run_id
    (question,) = eventually(ordering.client.questions)
    assert "May spades.txt be ordered?" in run("questions", "list")[1]
    assert run("questions", "answer", question["id"], "order") == (0, "Answered: order. Its run goes on.\n")
    eventually(lambda: ordering.client.run(one).state == "waiting")
    assert run("events", "send", "orders", "sent spades.txt", "--data", '{"state": "gone"}') == (0, "1 run goes on.\n")
    assert run("events", "send", "orders", "other")[1] == "No run waits for it; it is kept for the next one that does.\n"
    (tmp_path / "table.yaml").write_text(TABLE)
    assert (
        run("decision-tables", "put", str(tmp_path / "table.yaml"))[1].splitlines()[1]
        == "  No rule holds for amount = 500. Add a rule, or a default."
    )
    assert run("decision-tables", "ask", "approvals", "amount=700")[1] == "outcome: trustees\nBy rule 2.\n"
    assert "approvals" in run("decision-tables", "list")[1]
    (tmp_path / "table.dmn").write_text(run("decision-tables", "export", "approvals")[1])
    assert "is kept as version 2" in run("decision-tables", "put", str(tmp_path / "table.dmn"))[1]
    assert "1 Set letters to string length(item.name)." in run("flows", "show", "orders", "--versions")[1]
    assert run("flows", "pause", "orders") == (0, "Flow orders is paused: what comes in waits.\n")


def test_a_flow_is_checked_without_a_service(tmp_path: Path) -> None:
    flow = tmp_path / "flow.yaml"
    flow.write_text(scenario.flow_text())
    (tmp_path / "types").mkdir()
    (tmp_path / "types" / "invoice.json").write_text(scenario.invoice_type())
    out = StringIO()
    assert main(["flows", "check", str(flow), "--beside", str(tmp_path / "types")], out, out) == 0
    flow.write_text(scenario.flow_text().replace("record.total}", "record.totl}"))
    out = StringIO()
    assert main(["flows", "check", str(flow), "--beside", str(tmp_path / "types"), "--json"], out, out) == 1
    found = json.loads(out.getvalue())["problems"]
    assert {each["step"] for each in found} == {"ledger_row", "table_row"}
    assert all("Is 'total' meant?" in each["message"] for each in found)
    assert main(["flows", "check", str(tmp_path / "none.yaml")], out, out) == 2
