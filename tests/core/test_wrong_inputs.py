"""Flows and record types as people write them who have seen one example: what is wrong is told in their words, with the place and the next step."""

from __future__ import annotations

import json
from io import StringIO
from pathlib import Path

import pytest

from metrikon.app.kinds import kinds
from metrikon.cli import main
from metrikon.core.flows.checking import checked
from metrikon.core.flows.kind import Known
from metrikon.core.records.wrong import wrong_with

FLOW = """metrikon: 1
name: beds
intakes:
  - {kind: folder, path: beds}
destinations:
  book: {kind: xlsx, path: beds.xlsx, sheet: Beds}
steps:
  - name: paper
    read: {file: "${item.file}"}
  - name: row
    write:
      to: book
      key: ["${item.id}"]
      columns: {Name: "${item.name}", Format: "${paper.format}"}
"""


@pytest.mark.parametrize(
    ("before", "after", "line", "told"),
    [
        ("      to: book", "\tto: book", 12, "There is a tab at the beginning of the line"),
        ("      to: book", "       to: book\n      also: 1", 13, "indented otherwise"),
        ('{file: "${item.file}"}', "{file: “${item.file}”}", 9, "The quotation mark “ is that of an office program"),
        ('{file: "${item.file}"}', "{file: ${item.file}}", 9, "A ${…} stands there without quotation marks"),
        ('"${item.name}"', '"{item.name}"', 14, "{item.name} is text as it stands there. To put in what it names, write ${item.name}"),
        ('"${item.name}"', '"{{item.name}}"', 14, "is text as it stands there"),
        ('"${item.name}"', '"${paper.pages} * 1,19"', 14, "write all of it within: ${paper.pages * 1.19}"),
        ("kind: xlsx", "kind: excel", 6, "Is 'xlsx' meant?"),
        ("kind: folder, path: beds", "kind: mail, server: imap.garden.example, password: x", 4, "Is 'mailbox' meant?"),
        (
            "kind: folder, path: beds",
            "kind: mailbox, server: imap.garden.example, password: x",
            4,
            "make one with `metrikon connections put NAME ADDRESS`",
        ),
        ("path: beds}", "path: ~/Beds}", 4, "~ stands for no home here"),
        ("path: beds}", "path: 'C:\\Users\\Anna\\Beds'}", 4, "is a path of another system"),
        ("name: beds", "name: Große Beete", 2, "such as 'grosse-beete'"),
        ("${item.file}", "${row.result}", 9, "'row' is given by a step that comes after this one"),
        ('      key: ["${item.id}"]\n', "", 11, "It is missing; add it. What tells this row from all others"),
        ("  - name: row\n", "  - name: row\n    when: paper.pages == 1\n", 11, "what is equal is written with one ="),
        ("  - name: row\n", "  - name: row\n    when: date(item.received) > 01.02.2026\n", 11, 'a date is written date("2026-02-01")'),
        ("  - name: row\n", "  - name: row\n    when: paper.pages > 1 && true\n", 11, "both is written `and`"),
        ("  - name: row\n", "  - name: row\n    when: paper.pages * 1,5 > 3\n", 11, "a decimal is written with a point: 1.5"),
        ("  - name: row\n", "  - name: row\n    when: item.name = 'a'\n", 11, "texts stand between double quotation marks"),
        (FLOW, "", 1, "The file is empty. A flow begins with `metrikon: 1`"),
    ],
)
def test_a_wrong_flow_is_told_with_its_line_and_what_to_write(before: str, after: str, line: int, told: str) -> None:
    assert before in FLOW
    problems = checked(FLOW.replace(before, after, 1), kinds().language, Known(whole=False))[1]
    found = [each for each in problems if told in each.message]
    assert found, [str(each) for each in problems]
    assert found[0].line == line


def test_the_flow_itself_is_right() -> None:
    assert checked(FLOW, kinds().language, Known(whole=False))[1] == []


def test_texts_that_only_look_odd_are_let_be() -> None:
    for text in ("{a}", "${item.name} (${item.id})", "${item.name} + more", "a {b} c"):
        assert checked(FLOW.replace('"${item.name}"', json.dumps(text), 1), kinds().language, Known(whole=False))[1] == [], text


def test_a_flow_that_names_what_is_not_known_says_what_was_not_looked_at(tmp_path: Path) -> None:
    file = tmp_path / "beds.yaml"
    file.write_text(FLOW.replace("  - name: row\n", '  - name: found\n    extract: {document: "${paper}", record_type: bed}\n  - name: row\n'))
    out = StringIO()
    assert main(["flows", "check", str(file)], out, out) == 0
    assert "nothing that rests on it was looked at: record type bed." in out.getvalue()
    assert "Nothing else is wrong with it." in out.getvalue()
    file.write_bytes(FLOW.replace("beds", "b\u00e4d").encode("latin-1"))
    out = StringIO()
    assert main(["flows", "check", str(file)], out, out) == 2
    assert "Save it as UTF-8" in out.getvalue()


TYPE = """{
 "type": "object",
 "properties": {
  "bed": {"type": "string", "x-metrikon": {"labels": ["bed"]}},
  "sown": {"type": "string", "format": "date"},
  "paid": {"type": "number", "x-metrikon": {"kind": "amount"}}
 },
 "required": ["bed"]
}"""


@pytest.mark.parametrize(
    ("before", "after", "line", "told"),
    [
        ('"object",\n', '"object"\n', 3, "A comma is missing between this entry and the one before it"),
        ('"kind": "amount"}}\n', '"kind": "amount"}},\n', 7, "A comma stands before the closing bracket"),
        ('["bed"]\n}', '["bed"], "additionalProperties": False\n}', 8, "JSON writes false, and not False"),
        ('"type": "number"', "'type': 'number'", 6, "between double quotation marks"),
        ('"type": "number"', '"type": "numer"', 6, "'numer' is no type; \"number\" is meant"),
        ('"type": "number"', '"type": "money"', 6, '"kind": "amount"'),
        ('"format": "date"', '"format": "datum"', 5, "'date' is meant"),
        ('"kind": "amount"', '"kind": "ammount"', 6, "'ammount' is no kind; 'amount' is meant"),
        ('"labels": ["bed"]', '"label": ["bed"]', 4, "'label' is not known here. Is 'labels' meant?"),
        ('"labels": ["bed"]', '"labels": "bed, row"', 4, 'It is a list of words: ["bed", "row"]'),
        ('"required": ["bed"]', '"required": ["bad"]', 8, "There is no field 'bad' that could be required. Is 'bed' meant?"),
        ('"required": ["bed"]', '"requird": ["bed"]', 8, "Is 'required' meant?"),
        ('{"type": "string", "format": "date"}', '"date"', 5, "A field is an object that says what it is"),
        ('"format": "date"}', '"enum": "a, b"}', 5, 'The options are a list: "enum": ["a", "b"]'),
        ('"format": "date"}', '"x-metrikon": {"default": "todayy()"}}', 5, "there is no function 'todayy'"),
        (TYPE, "title: bed\n", 1, "It is no JSON"),
        (TYPE, "", 1, "The file is empty"),
    ],
)
def test_a_wrong_record_type_is_told_with_its_line_and_what_to_write(before: str, after: str, line: int, told: str) -> None:
    assert before in TYPE
    problems = wrong_with(TYPE.replace(before, after, 1))
    found = [each for each in problems if told in each.message]
    assert found, [str(each) for each in problems]
    assert found[0].line == line


def test_all_that_is_wrong_with_a_record_type_is_told_at_once_and_what_is_only_unusual_is_let_be() -> None:
    assert wrong_with(TYPE) == []
    two = TYPE.replace('"number"', '"numer"').replace('"date"', '"datum"')
    assert [each.line for each in wrong_with(two)] == [5, 6]
    unusual = TYPE.replace('"format": "date"', '"format": "x-week", "unit": "kg", "x-own": 1, "comment": "sown in rows"')
    assert wrong_with(unusual) == []
