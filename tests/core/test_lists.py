"""Lists of known values: what is on them, what is nearest, and values that are looked up beside others."""

from __future__ import annotations

from decimal import Decimal
from pathlib import Path
from typing import Any

import msgspec
import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning.asking import Asking, Given
from metrikon.core.extraction.planning.plan import plan
from metrikon.core.extraction.settle import looked_up, settled
from metrikon.core.records.evidence import Evidence
from metrikon.core.records.lists import KnownList, filled, known_values
from metrikon.core.records.types import BadRecordType, RecordType, record_type
from metrikon.core.values.sounding import sound
from metrikon.store.lists import BadList, FolderOfLists
from tests.helpers import typed_document

CARDS = KnownList("cards", [["card", "holder", "account"], ["4471", "A. Tully", "5200 Collecting trips"], ["0093", "L. Brook", "5310 Events"]])
PARTS = KnownList("parts", [["part", "category", "rate"], ["AS-1", "Seed", "0.20"], ["AS-2", "Plants", "0.05"]])
RECEIPT = """Tamarack Field Supplies
Card             4471
Total            28.60

Part     Article               Qty    Amount
AS-1     Specimen bags         2      12.40
AS-9     Silica gel            1      16.20
"""
TEXT, NUMBER = {"type": "string"}, {"type": "number"}


def lists(name: str) -> KnownList | None:
    return {"cards": CARDS, "parts": PARTS}.get(name)


def receipt(required: tuple[str, ...] = ("total",)) -> RecordType:
    row = {
        "part": {**TEXT, "x-metrikon": {"labels": ["Part"]}},
        "article": {**TEXT, "x-metrikon": {"labels": ["Article"]}},
        "amount": {**NUMBER, "x-metrikon": {"labels": ["Amount"]}},
        "category": {**TEXT, "x-metrikon": {"lookup": {"list": "parts", "by": "/lines/*/part", "column": "category"}}},
        "rate": {**NUMBER, "x-metrikon": {"lookup": {"list": "parts", "by": "/lines/*/part", "column": "Rate"}}},
    }
    properties = {
        "card": {**TEXT, "x-metrikon": {"labels": ["Card"]}},
        "account": {**TEXT, "title": "Account", "x-metrikon": {"lookup": {"list": "cards", "by": "/card", "column": "account"}}},
        "total": {**NUMBER, "x-metrikon": {"labels": ["Total"]}},
        "lines": {"type": "array", "items": {"type": "object", "properties": row, "required": ["article", "amount"]}},
    }
    return record_type({"type": "object", "properties": properties, "required": list(required)}, "receipt")


def test_a_value_is_on_a_list_whatever_its_case_and_accents() -> None:
    vendors = KnownList("vendors", [["Pépinières Clairbois SARL"], ["Fernhill Nurseries Ltd"], [""], []])
    assert vendors.holds("PEPINIERES clairbois sarl")
    assert not vendors.holds("Clairbois")
    assert vendors.nearest("Fernhil Nurseries") == "Fernhill Nurseries Ltd"
    assert vendors.nearest("Zonnehof") is None
    assert (len(vendors.rows), vendors.heads) == (2, ())


@given(st.lists(st.text(min_size=1, max_size=12).filter(lambda text: text.strip()), min_size=1, max_size=30), st.data())
def test_each_value_of_a_list_is_on_it_and_nearest_to_itself(values: list[str], data: st.DataObject) -> None:
    known = KnownList("any", [[value] for value in values])
    value = data.draw(st.sampled_from(values))
    assert known.holds(value)
    near = known.nearest(value)
    assert near is None or known.holds(near)


def test_a_value_that_is_on_no_list_is_told_with_the_one_that_may_be_meant() -> None:
    kind = record_type(
        {"type": "object", "properties": {"part": {**TEXT, "x-metrikon": {"list": "parts"}}, "x": {**TEXT, "x-metrikon": {"list": "none"}}}}
    )
    assert list(known_values(kind, {"part": "as-1"}, lists)) == []
    (found,) = known_values(kind, {"part": "AS-12"}, lists)
    assert found.compared["read"] == "AS-12"
    assert found.compared["known"] in ("AS-1", "AS-2")
    (unlisted,) = known_values(kind, {"x": "A1"}, lists)
    assert "no list 'none'" in unlisted.message


def test_what_a_list_says_beside_a_value_is_taken_and_shown_as_its_evidence() -> None:
    record = {"card": "4471", "total": Decimal("28.60"), "lines": [{"part": "AS-1"}, {"part": "AS-9"}, {}]}
    found, evidence = filled(receipt(), record, lists)
    assert found["account"] == "5200 Collecting trips"
    assert found["lines"] == [{"part": "AS-1", "category": "Seed", "rate": Decimal("0.20")}, {"part": "AS-9"}, {}]
    assert evidence["/account"] == Evidence("list", quote="4471 on the list cards")
    assert set(evidence) == {"/account", "/lines/0/category", "/lines/0/rate"}
    assert list(found) == ["card", "account", "total", "lines"]
    assert record["lines"] == [{"part": "AS-1"}, {"part": "AS-9"}, {}]  # what was given is not changed


def test_a_value_that_no_list_knows_is_told_where_it_is_missing() -> None:
    told = {each.fields[0]: each for each in known_values(receipt(("total", "account")), {"card": "9999", "lines": [{"part": "AS-9"}]}, lists)}
    assert told["/account"].message == "Account is not known: 9999 has no account on the list cards."
    assert told["/account"].level == "stop"
    assert told["/lines/0/category"].level == "warn"


def test_a_value_that_differs_from_its_list_is_told_with_both() -> None:
    (found,) = [each for each in known_values(receipt(), {"card": "4471", "account": "5310 Events"}, lists) if each.fields == ("/account",)]
    assert found.compared == {"given": "5310 Events", "list": "5200 Collecting trips"}
    assert found.level == "warn"


def test_what_a_list_said_goes_when_the_value_beside_it_changes() -> None:
    before = {"/account": Evidence("list"), "/total": Evidence("printed")}
    record = {"card": "9999", "account": "5200 Collecting trips", "total": Decimal(1)}
    assert "account" not in filled(receipt(), record, lists, (), before)[0]
    assert filled(receipt(), record, lists, {"/account"}, before)[0]["account"] == "5200 Collecting trips"  # a person set it
    assert filled(receipt(), {**record, "card": "0093"}, lists, (), before)[0]["account"] == "5310 Events"


def test_no_model_is_asked_for_what_a_list_says() -> None:
    kind = receipt(("total", "account"))
    index = Index(typed_document(RECEIPT))
    made = plan(kind, index, "2026-11-23")
    assert "/account" not in {each.shape for each in made.header}
    (ask,) = made.asks
    assert "account" not in ask.schema["properties"]
    reading = settled(kind, index, [Given("ask", '{"card": "4471", "total": 28.60}', "m")], Asking())
    assert {each.fields for each in reading.findings if each.level == "stop"} == {("/account",)}  # required, and not known yet
    after = looked_up(kind, reading, lists)
    assert [each for each in after.findings if each.level == "stop"] == []
    assert after.record["account"] == "5200 Collecting trips"
    assert [row.get("category") for row in after.record["lines"]] == ["Seed", None]
    assert all(each.found for each in after.evidence.values())


@pytest.mark.parametrize(
    ("lookup", "message"),
    [
        ({"list": "cards", "by": "/card"}, "lacks column"),
        ({"list": "cards", "by": "/crad", "column": "account"}, "no field beside it"),
        ({"list": "cards", "by": "/lines/*/part", "column": "account"}, "no field beside it"),
    ],
)
def test_a_lookup_that_cannot_be_is_refused_when_the_type_is_kept(lookup: dict[str, Any], message: str) -> None:
    properties = {"card": TEXT, "account": {**TEXT, "x-metrikon": {"lookup": lookup}}, "lines": receipt().schema["properties"]["lines"]}
    with pytest.raises(BadRecordType, match=message):
        record_type({"type": "object", "properties": properties})


def test_lists_lie_in_a_folder_and_are_read_anew_when_they_change(tmp_path: Path) -> None:
    kept = FolderOfLists(tmp_path / "lists")
    assert kept.names() == []
    assert kept.get("vendors") is None
    made = kept.put("vendors", "\ufeffvendor;account\nFernhill;5100\n\nMoorgate;5110\n")
    assert (made.heads, made.beside("moorgate", "account")) == (("vendor", "account"), "5110")
    (tmp_path / "lists" / "plain.txt").write_text("one, with a comma\ntwo\n", "utf-8")
    assert kept.names() == ["plain", "vendors"]
    plain = kept.get("plain")
    assert plain is not None
    assert plain.holds("one, with a comma")
    kept.put("plain", "three\n")
    changed = kept.get("plain")
    assert changed is not None
    assert not changed.holds("two")


@pytest.mark.parametrize(
    ("name", "text", "message"),
    [("../out", "a", "no name"), ("Big", "a", "no name"), ("a", " \n", "no values"), ("a", '"' + "x" * 20_000, "mark left open")],
)
def test_what_cannot_be_a_list_is_refused_and_the_one_before_stays(tmp_path: Path, name: str, text: str, message: str) -> None:
    kept = FolderOfLists(tmp_path)
    kept.put("a", "first\n")
    with pytest.raises(BadList, match=message):
        kept.put(name, text)
    before = kept.get("a")
    assert before is not None
    assert before.holds("first")
    assert kept.get("../a") is None


FIRMS = KnownList("firms", [["Fernhill Nurseries"], ["Quillfeather Ferns"], ["Harrowdene School"], ["Gärtnerei Moosbach"], ["Frau Silbernagel"]])


@pytest.mark.parametrize(
    ("said", "meant"),
    [
        ("Furnhill Nurseries", "Fernhill Nurseries"),
        ("Quill Fever Furns", "Quillfeather Ferns"),
        ("Frau Silberagel", "Frau Silbernagel"),
        ("Gertnerei Moosbach", "Gärtnerei Moosbach"),
        ("Oakwood Tools", None),
        ("Fern", None),
    ],
)
def test_a_name_that_was_heard_is_the_one_known_name_that_sounds_like_it(said: str, meant: str | None) -> None:
    assert FIRMS.sounds_like(said) == meant


def test_two_names_that_sound_alike_mend_nothing() -> None:
    assert KnownList("firms", [["Meier Ferns"], ["Mayer Ferns"]]).sounds_like("Maier Ferns") is None


@given(st.text(max_size=40), st.text(max_size=40))
def test_any_text_has_a_sound_that_does_not_depend_on_case_or_marks(one: str, two: str) -> None:
    assert sound(one) == sound(one.swapcase().swapcase())
    assert sound("fern " + "hill") == sound("FERN-HILL")
    KnownList("any", [[one or "x"]]).sounds_like(two)


@pytest.mark.parametrize("format", ["wav", "txt"])
def test_names_are_mended_by_sound_where_they_were_heard(format: str) -> None:
    kind = record_type({"type": "object", "properties": {"caller": {"type": "string", "x-metrikon": {"list": "firms"}}}})
    document = msgspec.structs.replace(typed_document("This is Furnhill Nurseries"), format=format)
    reading = settled(kind, Index(document), [Given("ask", '{"caller": "Furnhill Nurseries"}', "m")], Asking())
    mended = looked_up(kind, reading, lambda name: FIRMS)
    assert mended.record["caller"] == ("Fernhill Nurseries" if format == "wav" else "Furnhill Nurseries")
    assert any("sounds like" in each for each in mended.changes) == (format == "wav")
