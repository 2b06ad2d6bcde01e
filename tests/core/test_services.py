"""OpenAPI descriptions: operations with typed fields, requests made from values, notes that fit; hostile ones are refused in words."""

from __future__ import annotations

import json
from decimal import Decimal
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.services.description import BadDescription, description
from metrikon.core.services.notes import Notes, can, suggested, wrong
from metrikon.core.services.request import Unfit, asked, at
from metrikon.sandbox.records import DESCRIPTION


def _with(**paths: Any) -> dict[str, Any]:
    return {"openapi": "3.0.3", "info": {"title": "Plants", "version": "1"}, "paths": {f"/{name}": each for name, each in paths.items()}}


GOOD = {"responses": {"200": {"description": "ok"}}}


def test_operations_have_their_fields_with_types_and_nested_ones_by_their_path() -> None:
    told = description(DESCRIPTION)
    made = told.operations["makeContact"]
    assert (made.method, made.path, made.good) == ("POST", "/contacts", (201,))
    assert [(each.name, each.kind, each.wanted) for each in made.fields] == [
        ("email", "text", True),
        ("name", "text", False),
        ("phone", "text", False),
        ("external_id", "text", False),
        ("visits", "number", False),
        ("member", "yes/no", False),
        ("address", "context", False),
        ("address.town", "text", False),
        ("address.street", "text", False),
    ]
    assert [each.name for each in told.operations["setContact"].fields][:2] == ["id", "email"]  # through allOf
    assert told.operations["makeTask"].field_of("Priority").choices == ("low", "normal", "high")  # type: ignore[union-attr]


def test_our_own_description_is_read(tmp_path: Path) -> None:
    told = description(json.loads(Path("docs/openapi.json").read_text()))
    assert "continueRun" in told.operations
    assert not list(wrong(suggested(told), told))


@pytest.mark.parametrize(
    ("bad", "said"),
    [
        ([], "no OpenAPI description of version 3"),
        ({"swagger": "2.0"}, "no OpenAPI description of version 3"),
        ({"openapi": "3.0.0"}, "not as OpenAPI has it"),
        (_with(), "no operations"),
        (_with(a={"get": {**GOOD, "parameters": [{"$ref": "file:///etc/passwd"}]}}), "lies outside"),
        (_with(a={"get": {**GOOD, "parameters": [{"$ref": "http://elsewhere.example/x"}]}}), "lies outside"),
        (_with(a={"get": {**GOOD, "parameters": [{"$ref": "#/nothing"}]}}), "does not hold"),
        ({**_with(a={"get": {**GOOD, "parameters": [{"$ref": "#/x-a"}]}}), "x-a": {"$ref": "#/x-b"}, "x-b": {"$ref": "#/x-a"}}, "circle"),
        (_with(**{f"p{number}": {"get": GOOD} for number in range(2100)}), "more than 2000"),
    ],
)
def test_a_description_that_is_none_or_leads_elsewhere_is_refused_in_words(bad: Any, said: str) -> None:
    with pytest.raises(BadDescription, match=said):
        description(bad)


def test_a_record_that_holds_itself_is_read_to_a_depth() -> None:
    whole = _with(a={"post": {**GOOD, "requestBody": {"content": {"application/json": {"schema": {"$ref": "#/components/schemas/P"}}}}}})
    whole["components"] = {
        "schemas": {"P": {"type": "object", "properties": {"name": {"type": "string"}, "child": {"$ref": "#/components/schemas/P"}}}}
    }
    names = [each.name for each in description(whole).operations["post_a"].fields]
    assert names[:4] == ["name", "child", "child.name", "child.child"]
    assert len(names) < 20


def test_a_request_holds_each_value_in_its_place_and_no_value_leads_elsewhere() -> None:
    told = description(DESCRIPTION)
    made = asked(told.operations["setContact"], {"id": "../a b/c?d", "email": "a@b.example", "address.town": "Rome", "visits": Decimal("3")})
    assert made.path == "contacts/..%2Fa%20b%2Fc%3Fd"
    assert json.loads(made.body or b"") == {"email": "a@b.example", "address": {"town": "Rome"}, "visits": 3}
    assert asked(told.operations["listContacts"], {"email": "a&b=c", "cursor": None}).path == "contacts?email=a%26b%3Dc"
    for values, said in (
        ({}, "wants email"),
        ({"email": 1.5}, "takes text"),
        ({"email": "a@b", "visits": "three"}, "takes a number"),
        ({"email": "a@b", "member": "no"}, "takes true or false"),
        ({"email": "a@b", "mail": "x"}, "takes no 'mail'"),
    ):
        with pytest.raises(Unfit, match=said):
            asked(told.operations["makeContact"], values)
    with pytest.raises(Unfit, match="one of low, normal, high"):
        asked(told.operations["makeTask"], {"title": "t", "priority": "urgent"})
    for id_ in ("", ".", ".."):
        with pytest.raises(Unfit, match="no part of an address"):
            asked(told.operations["setContact"], {"id": id_, "email": "a@b"})


def test_what_keeps_a_record_from_being_written_twice_follows_from_the_notes() -> None:
    told = description(DESCRIPTION)
    guess = suggested(told)
    assert guess.records["contacts"].find is not None
    assert guess.records["contacts"].find.records == "data"
    assert can(guess.records["contacts"]) == "neither"  # nobody has said within what time one is found
    assert not list(wrong(guess, told))
    noted = Notes.model_validate({"records": {"c": {"create": "makeContat"}, "d": {"create": "makeContact", "key_field": "external_id"}, "e": {}}})
    assert [place for place, _ in wrong(noted, told)] == ["records/c/create", "records/d/key_field", "records/e"]


@given(
    st.recursive(
        st.none() | st.booleans() | st.integers() | st.text(max_size=8),
        lambda inner: st.lists(inner, max_size=3) | st.dictionaries(st.text(max_size=8), inner, max_size=4),
        max_leaves=20,
    )
)
def test_whatever_is_given_as_a_description_is_read_or_refused(data: Any) -> None:
    for each in (
        data,
        {
            "openapi": "3.1.0",
            "info": {"title": "t", "version": "1"},
            "paths": {"/a": {"get": data, "post": {"requestBody": data, "responses": data}}},
        },
    ):
        try:
            description(each)
        except BadDescription:
            continue
    assert at({"a": [{"b": 1}]}, "a.0.b") == 1
