"""What is wrong with a flow is told when it is kept: each mistake in its own words, with its step, its place, its line."""

from __future__ import annotations

import pytest

from metrikon.app.kinds import kinds
from metrikon.core.decisions.model import table_from
from metrikon.core.flows.checking import checked
from metrikon.core.flows.kind import Known
from metrikon.core.flows.problems import Problem
from metrikon.core.flows.text import from_yaml
from metrikon.core.records.types import record_type

ORDER = record_type(
    {
        "type": "object",
        "properties": {
            "vendor": {"type": "string"},
            "total": {"type": "number"},
            "due": {"type": "string", "format": "date"},
            "way": {"enum": ["post", "van", None]},
            "urgent": {"type": "boolean"},
            "lines": {"type": "array", "items": {"type": "object", "properties": {"part": {"type": "string"}, "amount": {"type": "number"}}}},
        },
    },
    "order",
)
TABLE = table_from(
    from_yaml(
        """
decision: approvals
hit: first
inputs: [{name: amount, type: number}]
outputs: [{name: who, type: string}, {name: limit, type: number}]
rules: [{then: {who: '"trustees"', limit: "1"}}]
"""
    )
)
KNOWN = Known({"order": ORDER}, frozenset({"small", "large"}), {"approvals": TABLE}, {"cards": ("card", "account")})
FLOW = """
metrikon: 1
name: orders
zone: Europe/Vienna
intakes:
  - {kind: folder, path: orders, settled: 1}
  - {kind: upload}
destinations:
  book: {kind: xlsx, path: book.xlsx}
  table: {kind: sql, url: "sqlite:///orders.db", table: orders}
steps:
  - name: paper
    read: {file: "${item.file}"}
  - name: order
    retry: {attempts: 3}
    extract: {document: "${paper}", record_type: order, model: small}
  - name: checked
    check: {record: "${order}", review: on stop}
  - name: who
    decide: {table: approvals, given: {amount: "${checked.record.total}"}}
  - name: card
    lookup: {in: cards, where: {card: "${checked.record.vendor}"}}
  - name: sort
    choose:
      cases:
        - when: checked.record.total > 100
          steps:
            - {name: big, set: {net: "${checked.record.total / 2}"}}
        - when: checked.record.way = "post"
          steps:
            - {name: posted, set: {net: 0}}
  - name: pause
    wait: {for: PT1H, event: "order ${item.name}"}
  - name: asked
    limit: P2D
    ask:
      question: Shall it be ordered?
      options: [{name: yes, label: Order it}, {name: no, label: Leave it}]
      default: no
  - name: lines
    each:
      of: ${checked.record.lines}
      as: line
      steps:
        - name: row
          write:
            to: table
            key: ["${checked.record.vendor}", "${line_number}"]
            columns: {Part: "${line.part}", Amount: "${line.amount}", Who: "${who.outcome.who}"}
"""


def problems(text: str) -> list[Problem]:
    return checked(text, kinds().language, KNOWN)[1]


def test_the_flow_that_the_mistakes_are_made_in_is_right() -> None:
    assert problems(FLOW) == []


MISTAKES = [
    # rows
    ("{Part: \"${line.part}\"", "{Part: null", "row", "The column Part has no value, and would always be empty."),
    ('"${line_number}"]', '""]', "row", "This part of the key has no value, so that no row could be written."),
    # the form of a flow
    ("metrikon: 1", "metrikon: 2", "", "It is 2; give 1."),
    ("name: orders", "name: Orders", "", "'Orders' is no name"),
    ("name: orders\n", "nam: orders\n", "", "'nam' is not known here. Is 'name' meant?"),
    ("Europe/Vienna", "Europe/Wien", "", "There is no zone 'Europe/Wien'"),
    ("steps:\n  - name: paper", "stages:\n  - name: paper", "", "'stages' is not known here. Is 'steps' meant?"),
    ("kind: folder", "kind: foldr", "", "There is no kind of intake 'foldr'. Is 'folder' meant?"),
    ("{kind: upload}", "{opened: true}", "", "Say of which `kind` the intake is."),
    ("settled: 1", "settled: soon", "", "It is 'soon'; give a number."),
    ("settled: 1", "settled: -1", "", "give 0 or more"),
    ("path: orders, ", "", "", "It is missing; add it."),
    ("kind: xlsx", "kind: xlxs", "", "There is no kind of destination 'xlxs'. Is 'xlsx' meant?"),
    ("path: book.xlsx", "path: book.csv", "", "The name of the file ends with .xlsx."),
    # the form of a step
    ("read: {file", "raed: {file", "paper", "'raed' is not known here. Is 'read' meant?"),
    ("    read: {file: \"${item.file}\"}", "    about: nothing", "paper", "has no kind; give it exactly one of read"),
    ("    retry: {attempts: 3}", "    set: {a: 1}", "order", "has set and extract; give it exactly one"),
    ("attempts: 3", "attempts: 0", "order", "It is 0; give 1 or more."),
    ("attempts: 3", "attempts: three", "order", "It is 'three'; give a whole number."),
    ("limit: P2D", "limit: two days", "asked", "It is 'two days'; give seconds, or a duration such as PT30M"),
    ("name: paper", "name: Paper 1", "Paper 1", "is no name"),
    ("name: card", "name: then", "then", "'then' is a word of FEEL"),
    ("name: checked", "name: order", "order", "The name 'order' is taken already"),
    ("on stop", "sometimes", "checked", "give 'on stop', 'always' or 'never'"),
    ("document: \"${paper}\", ", "", "order", "It is missing; add it."),
    ("record_type: order,", "record_typ: order,", "order", "'record_typ' is not known here. Is 'record_type' meant?"),
    ("of: ${checked.record.lines}", "of: lines", "lines", "It must be a list, such as"),
    ("columns: {Part", "columns: {}  # {Part", "row", "It is empty; give at least 1"),
    # names and paths
    ("record_type: order,", "record_type: ordr,", "order", "There is no record type 'ordr'. Is 'order' meant?"),
    ("model: small", "model: smal", "order", "There is no model 'smal'. Is 'small' meant?"),
    ("\"${paper}\"", "\"${papr}\"", "order", "'papr' is not known. Is 'paper' meant?"),
    ("checked.record.total}\"}}", "checked.record.totl}\"}}", "who", "'totl' is not known. Is 'total' meant?"),
    ("line.amount", "line.amuont", "row", "'amuont' is not known. Is 'amount' meant?"),
    ("record: \"${order}\"", "record: \"${paper}\"", "checked", "It must be the result of an extract step"),
    ("who.outcome.who", "who.outcome.whom", "row", "'whom' is not known. Is 'who' meant?"),
    ("table: approvals", "table: aprovals", "who", "There is no decision table 'aprovals'. Is 'approvals' meant?"),
    ("given: {amount:", "given: {amuont:", "who", "The table looks at 'amount', which is not given"),
    ("given: {amount:", "given: {amuont:", "who", "The table does not look at 'amuont'. Is 'amount' meant?"),
    ("in: cards", "in: crads", "card", "There is no list and no destination 'crads'. Is 'cards' meant?"),
    ("where: {card:", "where: {crad:", "card", "The list has no column 'crad'. Is 'card' meant?"),
    ("to: table", "to: tabel", "row", "There is no destination 'tabel' in this flow. Is 'table' meant?"),
    ("default: no", "default: never", "asked", "There is no option 'never'."),
    ("{name: no, label", "{name: yes, label", "asked", "There are two options 'yes'"),
    ("of: ${checked.record.lines}", "of: ${checked.record.total}", "lines", "It is no list, but number"),
    ("as: line", "as: order", "lines", "The name 'order' is taken already"),
    ("\"order ${item.name}\"", "\"order ${big.net}\"", "pause", "'big' is set within 'sort' alone"),
    # expressions and conditions
    ("checked.record.total > 100", "checked.record.total >", "sort", "it ends too early"),
    ("checked.record.total > 100", "chekced.record.total > 100", "sort", "'chekced' is not known. Is 'checked' meant?"),
    ("checked.record.total > 100", "checked.record.total > \"100\"", "sort", "number(\"100\") makes a number of it"),
    ("checked.record.total > 100", "checked.record.due < today()", "sort", "date(checked.record.due) makes a date of it"),
    ("checked.record.total > 100", "checked.record.total", "sort", "It gives a number, and a condition is true or false"),
    ("checked.record.total > 100", "false", "sort", "It can never hold."),
    ("checked.record.total > 100", "true", "sort", "It always holds, so the cases after it are never reached."),
    ("way = \"post\"", "way = \"ship\"", "sort", "It can never hold: checked.record.way is one of post, van."),
    ("checked.record.total / 2", "checked.record.vendor / 2", "big", "a string and a number give null"),
    ("checked.record.total / 2", "summ(checked.record.total)", "big", "no function 'summ'; is 'sum' meant?"),
    ("${checked.record.total / 2}", "${checked.record.total", "big", "not closed"),
    ("when: checked.record.total > 100", "is: \"> 100\"", "sort", "say under `on` which"),
    ("when: checked.record.total > 100", "null_means: true", "sort", "exactly one of `when` and `is`"),
    # what goes wrong later
    ("{name: big, set: {net: \"${checked.record.total / 2}\"}}", "{name: big, stop: {reason: x}}\n            - {name: late, set: {a: 1}}", "late", "It is never reached"),
    ("for: PT1H, event: \"order ${item.name}\"", "then: go on", "pause", "It says nothing that comes"),
    ("for: PT1H, ", "for: PT1H, at: \"2026-05-01\", ", "pause", "Give `at` or `for`, not both."),
    ("for: PT1H, ", "for: PT1H, every: 5, ", "pause", "Looking again and again needs a condition"),
    (", \"${line_number}\"]", "]", "lines", "The key of 'row' is the same for every element"),
    ("sqlite:///orders.db", "postgresql://ida:Thistle77@db/orders", "", "The address of a server stands in a connection"),
    ("question: Shall it be ordered?", "question: \"see ftp://ida:Thistle77@db/orders\"", "asked", "It looks like a password in an address"),
    ("question: Shall it be ordered?", "question: \"api_key: 8f3kd92kdk39\"", "asked", "It looks like a key or a password"),
    ("set: {net: 0}", "set: {}", "posted", "It sets nothing"),
    ("set: {net: 0}", "set: {Net: 0}", "posted", "'Net' is no name"),
    ("where: {card: \"${checked.record.vendor}\"}", "most: 5", "card", "It says nothing to find rows by"),
]  # fmt: skip


@pytest.mark.parametrize(("old", "new", "step", "said"), MISTAKES, ids=[f"{said[:50]} ({step})" for _, _, step, said in MISTAKES])
def test_each_mistake_is_told_in_its_own_words(old: str, new: str, step: str, said: str) -> None:
    text = FLOW.replace(old, new, 1)
    assert text != FLOW
    found = problems(text)
    assert any(each.step == step and said in each.message for each in found), "\n".join(str(each) for each in found)
    assert all(each.line > 0 and each.column > 0 for each in found)


def test_a_problem_stands_at_its_line_and_column() -> None:
    (found,) = problems(FLOW.replace("model: small", "model: smal"))
    line = FLOW.splitlines()[found.line - 1]
    assert line[found.column - 1 :].startswith("model: small")


def test_mistakes_of_every_sort_are_told_together_in_the_order_of_the_text() -> None:
    text = FLOW
    for wanted in ("It is 'soon'", "no model 'smal'", "'amuont' is not known. Is 'amount'", "no option 'never'", "The key of 'row'"):
        old, new = next((old, new) for old, new, _, said in MISTAKES if wanted in said)
        text = text.replace(old, new, 1)
    found = problems(text)
    assert len(found) >= 5
    assert [each.line for each in found] == sorted(each.line for each in found)


@pytest.mark.parametrize(
    "text",
    [
        "a: &a [1]\nb: [*a, *a]\n" * 2000,
        "metrikon: 1\nname: many\nintakes: [{kind: upload}]\nsteps:\n" + "  - {name: a, set: {x: 1}}\n" * 10_000,
        "metrikon: 1\nname: deep\nintakes: [{kind: upload}]\nsteps: " + "[{name: a, each: {of: '${item}', as: b, steps: " * 200 + "[]" + "}}]" * 200,
        "metrikon: 1\nname: 花園\nintakes: [{kind: upload}]\nsteps: [{name: ünïcode, set: {x: 1}}, {name: имя, set: {y: 2}}]",
        "steps: [1, null, [], {}, {name: [1]}, {name: {a: 1}, read: 5}, {1: 2}]",
        "[]",
        "",
        "&a {b: *a}",
        "metrikon: 1\nname: x\nintakes: {}\nsteps: {a: 1}\ndestinations: [1]",
    ],
    ids=["aliases", "ten thousand steps", "two hundred deep", "names in every script", "odd steps", "a list", "nothing", "itself", "odd parts"],
)
def test_a_hostile_flow_is_answered_with_words(text: str) -> None:
    _, found = checked(text, kinds().language, KNOWN)
    assert found
    assert all(each.message for each in found)


def test_lists_of_aliases_do_not_grow_without_end() -> None:
    bomb = "a: &a [x, x, x, x, x, x, x, x, x]\n" + "".join(
        f"{name}: &{name} [{', '.join(['*' + before] * 9)}]\n" for before, name in zip("abcdefgh", "bcdefghi", strict=True)
    )
    _, found = checked(bomb, kinds().language, KNOWN)
    assert found
