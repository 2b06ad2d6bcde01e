"""A record type is a stranger's text: it fetches nothing, stands for no more than it says, and its patterns cost what they are long."""

from __future__ import annotations

import threading
import time
from http.server import BaseHTTPRequestHandler, HTTPServer
from pathlib import Path
from typing import Any

import pytest

from metrikon.core.flows.text import NotYaml, from_yaml
from metrikon.core.records.checks import check_record
from metrikon.core.records.sound import without_yes_and_no
from metrikon.core.records.types import BadRecordType, record_type


def typed(**more: Any) -> dict[str, Any]:
    return {"type": "object", "properties": {"name": {"type": "string"}}, **more}


HOLDERS = [
    lambda ref: {"not": ref},
    lambda ref: {"if": ref, "then": {}},
    lambda ref: {"patternProperties": {"^x": ref}},
    lambda ref: {"dependentSchemas": {"name": ref}},
    lambda ref: {"unevaluatedProperties": ref},
    lambda ref: {"contains": ref},
    lambda ref: {"allOf": [ref]},
    lambda ref: {"$defs": {"a": ref}},
]


@pytest.mark.parametrize("held", HOLDERS)
@pytest.mark.parametrize("key", ["$ref", "$dynamicRef"])
def test_no_reference_leaves_the_record_type(held: Any, key: str, tmp_path: Path) -> None:
    asked = []

    class Handler(BaseHTTPRequestHandler):
        def do_GET(self) -> None:
            asked.append(self.path)
            self.send_error(404)

    server = HTTPServer(("127.0.0.1", 0), Handler)
    threading.Thread(target=server.serve_forever, daemon=True).start()
    secret = tmp_path / "secret.json"
    secret.write_text('{"const": "the secret"}')
    for address in (f"http://127.0.0.1:{server.server_port}/x", secret.as_uri(), "other.json", "#anchor"):
        with pytest.raises(BadRecordType, match=r"points outside the record type\. Only #/… is followed"):
            record_type(typed(**held({key: address})))
    server.shutdown()
    server.server_close()
    assert not asked


def doubling(join: str, levels: int, width: int) -> dict[str, Any]:
    """A few words that stand for width ** levels."""
    defs = {f"d{n}": {join: [{"$ref": f"#/$defs/d{n + 1}"}] * width} for n in range(levels)}
    return typed(**{"$defs": {**defs, f"d{levels}": {"type": "string"}}, "properties": {"name": {"$ref": "#/$defs/d0"}}})


def in_properties(levels: int, width: int) -> dict[str, Any]:
    defs = {f"d{n}": {"type": "object", "properties": {f"p{w}": {"$ref": f"#/$defs/d{n + 1}"} for w in range(width)}} for n in range(levels)}
    return typed(**{"$defs": {**defs, f"d{levels}": {"type": "string"}}, "properties": {"name": {"$ref": "#/$defs/d0"}}})


@pytest.mark.parametrize(
    ("schema", "said"),
    [
        (doubling("anyOf", 9, 6), "stands for more than 20,000 parts"),
        (doubling("allOf", 9, 6), "stands for more than 20,000 parts"),
        (in_properties(8, 8), "stands for more than 20,000 parts"),
        (typed(allOf=[{"$ref": "#"}]), "refers to itself without end"),
        (typed(properties={"name": {"$ref": "#/properties/name"}}), "refers to itself without end"),
        (typed(properties={"name": {"allOf": [{"$ref": "#/properties/name"}]}}), "refers to itself without end"),
        (typed(**{"not": {"$id": "http://a.example", "$ref": "#/x"}}), "an address of its own"),
        (typed(properties={"name": {"$ref": "#/nowhere"}}), "points to nothing"),
        (typed(properties={"name": {"type": "string", "pattern": "^(?=a)"}}), "cannot be used"),
        (typed(properties={"name": {"type": "string", "pattern": "("}}), "cannot be used"),
        (typed(properties={"name": {"type": "string", "pattern": "((a{1,900}){1,900}){1,900}"}}), "cannot be used"),
        (typed(patternProperties={"(a": {}}), "cannot be used"),
    ],
)
def test_what_stands_for_too_much_is_refused_at_once(schema: dict[str, Any], said: str) -> None:
    began = time.process_time()
    with pytest.raises(BadRecordType, match=said):
        record_type(schema)
    assert time.process_time() - began < 2


def test_a_schema_as_deep_as_a_stack_is_refused_in_words() -> None:
    schema: dict[str, Any] = {"type": "string"}
    for _ in range(900):
        schema = {"type": "object", "properties": {"a": schema}}
    with pytest.raises(BadRecordType, match="nests deeper than 60 levels"):
        record_type(schema)


def test_a_pattern_costs_what_the_text_is_long() -> None:
    kind = record_type(typed(properties={"name": {"type": "string", "pattern": "^(a+)+$"}}, patternProperties={"^(n+)+$": {"type": "integer"}}))
    began = time.process_time()
    found = check_record(kind, {"name": "a" * 5000 + "b", "n" * 5000: "x"}, {})
    assert time.process_time() - began < 2
    assert next(each.message[:40] for each in found if each.check == "type").startswith("Name: 'aaaa")
    assert len([each for each in found if each.check == "type"]) == 2


def test_parts_that_are_plainly_true_or_false_can_be_read() -> None:
    kind = record_type(typed(properties={"anything": True, "nothing": False, "rows": {"type": "array", "items": True}}))
    assert {each.shape for each in kind.fields} == {"/anything", "/nothing", "/rows/*"}
    assert check_record(kind, {"nothing": 1}, {})[0].level == "stop"
    assert without_yes_and_no({"anyOf": [True, {"not": False}]}) == {"anyOf": [{}, {"not": {"not": {}}}]}


def test_few_lines_of_yaml_do_not_stand_for_many() -> None:
    text, before = "a: &a [x, x, x, x, x, x, x, x, x]\n", "a"
    for name in "bcdefghi":
        text += f"{name}: &{name} [{', '.join([f'*{before}'] * 9)}]\n"
        before = name
    with pytest.raises(NotYaml, match="refers to itself too often"):
        from_yaml(text)
    assert from_yaml("a: &a [1, 2]\nb: *a\n") == {"a": [1, 2], "b": [1, 2]}


@pytest.mark.parametrize(
    ("text", "said"),
    [
        ("x: [" + ",".join("a" for _ in range(240_000)) + "]\n", "line 1, column .*more than 25,000 values"),
        ("x: " + "[" * 5000, "line 1, column 103: lists and contexts stand more than 100 within each other"),
        (
            "a: &a {" + ",".join(f"k{i}: 1" for i in range(3000)) + "}\n" + "".join(f"b{i}: {{<<: *a}}\n" for i in range(2000)),
            "take over another one",
        ),
    ],
    ids=["long", "deep", "taken over"],
)
def test_yaml_that_holds_too_much_is_told_before_it_is_read_whole(text: str, said: str) -> None:
    began = time.process_time()
    with pytest.raises(NotYaml, match=said):
        from_yaml(text)
    assert time.process_time() - began < 10
