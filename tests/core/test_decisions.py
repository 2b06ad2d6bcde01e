"""Decision tables: hit policies, what is left open, and the three uses that builders have for them."""

from __future__ import annotations

import time
from datetime import date
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import example, given, settings
from hypothesis import strategies as st
from lxml import etree

from metrikon.core.decisions import dmn
from metrikon.core.decisions.deciding import Undecided, decide
from metrikon.core.decisions.gaps import gaps, overlaps
from metrikon.core.decisions.model import BadTable, Table, table_from
from metrikon.core.feel import meets
from metrikon.core.flows.text import from_yaml

SCHEMAS = Path(__file__).parents[2] / "console/node_modules/@kie-tools/dmn-marshaller/src/schemas/dmn-1_5"
APPROVALS = """
decision: approvals
about: Who may approve an order of the garden up to which amount.
hit: unique
inputs:
  - {name: amount, type: number}
  - {name: kind, type: string, values: '"plants", "tools", "building"'}
outputs:
  - {name: approver, type: string}
rules:
  - {when: {amount: "< 500"}, then: {approver: '"nobody"'}}
  - {when: {amount: "[500..5000)", kind: '"plants", "tools"'}, then: {approver: '"head gardener"'}}
  - {when: {amount: "[500..5000)", kind: '"building"'}, then: {approver: '"bursar"'}}
  - {when: {amount: ">= 5000"}, then: {approver: '"trustees"'}}
"""
CARDS = """
decision: account-of-card
hit: first
inputs: [{name: card, expression: "substring(number, -4)", type: string}]
outputs: [{name: account, type: string}, {name: owner, type: string}]
rules:
  - {when: {card: '"4471"'}, then: {account: '"1000 travel"', owner: '"Ida Wren"'}}
  - {when: {card: '"9002", "9003"'}, then: {account: '"1010 collecting"', owner: '"Tam Birch"'}}
  - {then: {account: '"9999 unknown"', owner: "null"}}
"""
CALL = """
decision: outcome-of-call
about: A call may want several things; the weightiest names it.
hit: priority
inputs:
  - {name: complaint, type: boolean}
  - {name: booking, type: boolean}
  - {name: asks, expression: "count(questions) > 0", type: boolean}
outputs: [{name: outcome, type: string, values: '"complaint", "booking", "question", "none"', default: '"none"'}]
rules:
  - {when: {asks: "true"}, then: {outcome: '"question"'}}
  - {when: {booking: "true"}, then: {outcome: '"booking"'}}
  - {when: {complaint: "true"}, then: {outcome: '"complaint"'}}
"""


def table(text: str) -> Table:
    return table_from(from_yaml(text))


@pytest.mark.parametrize(
    ("amount", "kind", "approver"),
    [("499.99", "plants", "nobody"), ("500", "tools", "head gardener"), ("4999", "building", "bursar"), ("5000", "plants", "trustees")],
)
def test_who_may_approve_up_to_which_amount(amount: str, kind: str, approver: str) -> None:
    decision = decide(table(APPROVALS), {"amount": Decimal(amount), "kind": kind})
    assert decision.outcome == approver
    assert len(decision.rules) == 1


def test_which_account_a_card_belongs_to() -> None:
    assert decide(table(CARDS), {"number": "xxxx 4471"}).outcome == {"account": "1000 travel", "owner": "Ida Wren"}
    assert decide(table(CARDS), {"number": "0000 9003"}).rules == (2,)
    assert decide(table(CARDS), {"number": "0000 0000"}).outcome == {"account": "9999 unknown", "owner": None}


def test_several_outcomes_of_a_call_have_an_order_of_priority() -> None:
    given = {"complaint": True, "booking": True, "questions": ["when?"]}
    decision = decide(table(CALL), given)
    assert (decision.outcome, decision.rules) == ("complaint", (3,))
    assert decide(table(CALL.replace("hit: priority", "hit: output order")), given).outcome == ["complaint", "booking", "question"]
    assert decide(table(CALL.replace("hit: priority", "hit: rule order")), given).outcome == ["question", "booking", "complaint"]
    assert decide(table(CALL), {"complaint": False, "booking": False, "questions": []}).outcome == "none"
    assert decide(table(CALL), {}).missing == ("complaint", "booking", "questions", "count(…)")


@pytest.mark.parametrize(
    ("collect", "outcome"),
    [("", [Decimal(5), Decimal(7), Decimal(5)]), ("sum", Decimal(17)), ("min", Decimal(5)), ("max", Decimal(7)), ("count", Decimal(2))],
)
def test_values_are_collected(collect: str, outcome: Any) -> None:
    text = """
decision: fees
hit: collect
inputs: [{name: age, type: number}]
outputs: [{name: fee, type: number}]
rules:
  - {when: {age: "> 10"}, then: {fee: "5"}}
  - {when: {age: "> 20"}, then: {fee: "3 + 4"}}
  - {when: {age: "not(< 10)"}, then: {fee: "5"}}
"""
    made = table(text + (f"collect: {collect}\n" if collect else ""))
    assert decide(made, {"age": Decimal(30)}).outcome == outcome
    assert decide(made, {"age": Decimal(5)}).outcome == ([] if not collect else Decimal(0) if collect == "count" else None)


def test_rules_that_may_not_hold_at_once_are_named() -> None:
    doubled = APPROVALS.replace('"< 500"', '"< 600"')
    with pytest.raises(Undecided, match="Rules 1 and 2 of approvals hold at once"):
        decide(table(doubled), {"amount": Decimal(550), "kind": "tools"})
    with pytest.raises(Undecided, match="decide differently"):
        decide(table(doubled.replace("unique", "any")), {"amount": Decimal(550), "kind": "tools"})
    same = doubled.replace("unique", "any").replace('"head gardener"', '"nobody"')
    assert decide(table(same), {"amount": Decimal(550), "kind": "tools"}).outcome == "nobody"


def test_what_no_rule_covers_is_shown() -> None:
    assert gaps(table(APPROVALS)) == []
    open_end = APPROVALS.replace("[500..5000)", "[500..4000)").replace('  - {when: {amount: ">= 5000"}', '  - {when: {amount: "> 5000"}')
    assert gaps(table(open_end)) == ["No rule holds for amount in [4000..5000]. Add a rule, or a default."]
    without = APPROVALS.replace('{amount: "[500..5000)", kind: \'"building"\'}', '{amount: "> 100000", kind: \'"building"\'}')
    assert gaps(table(without))[0] == 'No rule holds for amount in [500..5000), kind = "building". Add a rule, or a default.'
    assert gaps(table(CALL)) == []


def test_where_rules_overlap_is_shown() -> None:
    assert overlaps(table(APPROVALS)) == []
    doubled = APPROVALS.replace('"< 500"', '"<= 500"')
    assert overlaps(table(doubled)) == [
        'Rules 1 and 2 both hold for amount = 500, kind = "plants".',
        'Rules 1 and 3 both hold for amount = 500, kind = "building".',
    ]


@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ('amount: "< 500"', 'amuont: "< 500"', "rule 1: There is no input 'amuont'. Is 'amount' meant?"),
        ('"nobody"', "nobody +", "rule 1, approver: nobody +: it ends too early"),
        ("hit: unique", "hit: last", "hit: It is 'last'; give 'unique', 'any'"),
        ("then: {approver: '\"nobody\"'}", "then: {aprover: '\"nobody\"'}", "rule 1: The output approver is missing"),
        ("hit: unique", "hit: unique\ncollect: sum", "collect: It goes with the hit policy collect"),
        ("hit: unique", "hit: priority", "output approver: Give its values in order"),
        ("< 500", "< < 500", "rule 1, amount"),
        ("name: kind", "name: amount", "There are two of that name"),
    ],
)
def test_each_mistake_in_a_table_is_told(old: str, new: str, said: str) -> None:
    with pytest.raises(BadTable) as caught:
        table(APPROVALS.replace(old, new, 1))
    assert said in str(caught.value)


_TEST = st.one_of(
    st.just("-"),
    st.builds(lambda sign, value: f"{sign} {value}", st.sampled_from(["<", "<=", ">", ">=", "=", "!="]), st.integers(-4, 4)),
    st.builds(
        lambda low, more, a, b: f"{a}{low}..{low + more}{b}", st.integers(-4, 4), st.integers(0, 4), st.sampled_from("[("), st.sampled_from("])")
    ),
    st.builds(lambda one, two: f"{one}, {two}", st.integers(-4, 4), st.integers(-4, 4)),
    st.builds(lambda one, two: f"not({one}, > {two})", st.integers(-4, 4), st.integers(-4, 4)),
    st.builds(lambda one: f"? > {one} and ? < 3", st.integers(-4, 4)),
    st.just("b"),
)


@settings(max_examples=150, deadline=None)
@given(st.lists(st.tuples(_TEST, _TEST), min_size=1, max_size=8), st.integers(-5, 5) | st.none(), st.decimals(-5, 5, places=1))
def test_rules_found_by_segments_are_those_found_one_by_one(rules: list[tuple[str, str]], one: int | None, two: Decimal) -> None:
    made = table_from(
        {
            "decision": "any",
            "hit": "rule order",
            "inputs": [{"name": "a"}, {"name": "b"}],
            "outputs": [{"name": "out"}],
            "rules": [{"when": {"a": each[0], "b": each[1]}, "then": {"out": str(number)}} for number, each in enumerate(rules, 1)],
        }
    )
    given = {"a": None if one is None else Decimal(one), "b": two}
    wanted = [
        number
        for number, each in enumerate(rules, 1)
        if all(test == "-" or meets(test, given[name], given) is True for name, test in zip("ab", each, strict=True))
    ]
    assert list(decide(made, given).rules) == wanted
    if all("?" not in each and "b" not in each for rule in rules for each in rule) and one is not None:
        first = made.model_copy(update={"hit": "first"})
        assert bool(wanted) or bool(gaps(first)), rules


def test_a_table_of_many_rules_takes_little_longer_than_one_of_a_single_rule() -> None:
    def made(count: int) -> Table:
        rules = [{"when": {"a": f"[{n}..{n + 1})", "b": f'"{n}"'}, "then": {"out": str(n)}} for n in range(count)]
        return table_from({"decision": "many", "inputs": [{"name": "a"}, {"name": "b"}], "outputs": [{"name": "out"}], "rules": rules})

    def seconds(count: int) -> float:
        known = made(count)
        decide(known, {"a": Decimal(0), "b": "0"})
        start = time.perf_counter()
        for _ in range(30):
            decide(known, {"a": Decimal(0), "b": "0"})
        return time.perf_counter() - start

    assert seconds(1000) < 60 * seconds(1)  # one by one it would be a thousand times


@st.composite
def tables(draw: st.DrawFn) -> Table:
    """Any table that has as many rules, inputs and outputs as it likes."""
    names = st.sampled_from(["a", "b", "c_1", "kind"])
    inputs = draw(st.lists(names, min_size=1, max_size=3, unique=True))
    outputs = draw(st.lists(names, min_size=1, max_size=2, unique=True))
    words = st.text("abc <>&\"'äö", max_size=12).map(str.strip)
    rules = [
        {
            "when": {name: test for name in inputs if (test := draw(_TEST)) != "-"},
            "then": {name: draw(st.sampled_from(["1", '"a < b"', "null", "a + 1", 'date("2026-01-01")'])) for name in outputs},
            "note": draw(words),
        }
        for _ in range(draw(st.integers(1, 4)))
    ]
    hit = draw(st.sampled_from(["unique", "any", "first", "rule order", "collect"]))
    data: dict[str, Any] = {
        "decision": "some-table",
        "about": draw(words),
        "hit": hit,
        "inputs": [{"name": name, "label": draw(words), "type": draw(st.sampled_from(["number", "date and time", "Any"]))} for name in inputs],
        "outputs": [{"name": name, "default": draw(st.none() | st.just("0"))} for name in outputs],
        "rules": rules,
    }
    if draw(st.booleans()):
        data["inputs"][0] |= {"expression": "a + b", "values": "[0..9]"}
    if hit == "collect" and draw(st.booleans()):
        data["collect"] = "count"
    return table_from(data)


@settings(max_examples=80, deadline=None)
@given(tables())
def test_a_table_written_as_dmn_is_read_as_the_same(table: Table) -> None:
    (found,) = dmn.read(dmn.written(table))
    assert found.model_dump() == table.model_dump()


def test_a_table_of_another_program_is_read() -> None:
    text = """<?xml version="1.0"?>
<definitions xmlns="http://www.omg.org/spec/DMN/20180521/MODEL/" id="d" name="Fees" namespace="urn:x">
  <decision id="fee" name="Fee of a visit">
    <description>What a visit costs.</description>
    <decisionTable hitPolicy="COLLECT" aggregation="MAX">
      <input label="Age of guest"><inputExpression typeRef="number"><text>age</text></inputExpression></input>
      <input label="Day"><inputExpression typeRef="feel:string"><text>day of week(day)</text></inputExpression></input>
      <output name="Fee" typeRef="number"/>
      <rule><inputEntry><text>&lt; 16</text></inputEntry><inputEntry><text>-</text></inputEntry><outputEntry><text>0</text></outputEntry></rule>
      <rule><inputEntry><text></text></inputEntry><inputEntry><text>"Sunday"</text></inputEntry><outputEntry><text>9.50</text></outputEntry></rule>
    </decisionTable>
  </decision>
</definitions>"""
    (found,) = dmn.read(text)
    assert (found.decision, found.hit, found.collect, found.needs) == ("fee-of-a-visit", "collect", "max", ["age", "day"])
    assert decide(found, {"age": Decimal(12), "day": date(2026, 5, 3)}).outcome == Decimal("9.50")


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("<definitions", "no XML"),
        ("<a/>", "no DMN"),
        (f'<definitions xmlns="{dmn.MODEL}"/>', "holds no decision"),
        (f'<definitions xmlns="{dmn.MODEL}"><import/></definitions>', "other files"),
        (
            f'<definitions xmlns="{dmn.MODEL}"><decision name="x"><literalExpression/></decision></definitions>',
            "no decision table but a literalExpression",
        ),
        (f'<definitions xmlns="{dmn.MODEL}"><decision name="x"><decisionTable hitPolicy="BEST"/></decision></definitions>', "hit policy BEST"),
        (f'<!DOCTYPE d [<!ENTITY e "x">]><definitions xmlns="{dmn.MODEL}"><decision/></definitions>', "document type"),
        (f'<definitions xmlns="{dmn.MODEL}"><decision name="x"><knowledgeRequirement/></decision></definitions>', "business knowledge model"),
    ],
)
def test_what_is_not_supported_is_refused_in_words(text: str, said: str) -> None:
    with pytest.raises(BadTable, match=said):
        dmn.read(text)


@pytest.fixture(scope="module")
def standard() -> etree.XMLSchema:
    """The schema that the OMG publishes for DMN 1.5, its diagram part included."""
    return etree.XMLSchema(etree.parse(SCHEMAS / "DMN15.xsd"))


@settings(max_examples=80, deadline=None)
@given(table=tables())
@example(table=table_from(from_yaml(CARDS)))
@example(table=table_from(from_yaml(CALL)))
def test_what_we_write_holds_the_schema_of_the_standard(standard: etree.XMLSchema, table: Table) -> None:
    root = etree.fromstring(dmn.written(table))
    standard.assertValid(root)
    drawn = {each.get("dmnElementRef") for each in root.iter(f"{{{dmn.DMNDI}}}DMNShape", f"{{{dmn.DMNDI}}}DMNEdge")}
    assert drawn
    assert drawn <= {each.get("id") for each in root.iter()}
