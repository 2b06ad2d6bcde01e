"""What a small model gets wrong, and was unsure of, in ways that the document itself shows is put right, and told; what a model was sure of stays."""

from __future__ import annotations

from typing import Any

import pytest

from bench.perfect import TODAY, Perfect
from metrikon.core.extraction.indexing.index import Index
from metrikon.core.extraction.planning import columns
from metrikon.core.extraction.planning.asking import Asking, Given
from metrikon.core.extraction.settle import settled
from metrikon.core.records.types import record_type
from metrikon.core.values.exact import dumps
from metrikon.drivers.extract import Extracted, extract
from metrikon.drivers.paper import LocalPaper
from metrikon.readers.registry import read
from tests.helpers import typed_document

CALL = """WEBVTT

NOTE recorded 2026-03-02

00:01.000 --> 00:03.000
<v Jardin>Bonjour, ici le jardin, que puis-je faire pour vous ?

00:04.000 --> 00:09.000
<v Client>Oui, c'est pour les plantes que nous avons pour la fête, rappelez-moi au zéro six, douze, trente-quatre, cinquante-six, soixante-dix-huit.
"""
TEXT: dict[str, Any] = {"type": "string"}
NUMBER: dict[str, Any] = {"type": "number"}


def rows_of(**properties: dict[str, Any]) -> dict[str, Any]:
    return {"type": "array", "items": {"type": "object", "properties": properties, "required": list(properties)}}


UNSURE = 0.8  # what a small model's server tells of values that it may have wrong


def through(schema: dict[str, Any], data: bytes, said: dict[str, Any], chance: float = UNSURE) -> Extracted:
    kind = record_type({"type": "object", "properties": schema, "required": list(schema)})
    return extract(Perfect(said, chance=chance), kind, LocalPaper(Index(read(data))), TODAY)


CALLED_BACK = {"call_back_on": {"type": ["string", "null"], "pattern": r"^\+[1-9][0-9]{6,14}$", "description": "Telephone number of the caller"}}


def test_a_telephone_number_that_was_heard_wrong_by_a_model_that_was_unsure_gives_way_and_the_record_stops() -> None:
    found = through(CALLED_BACK, CALL.encode(), {"call_back_on": "+33612345699"}).reading
    (told,) = [each for each in found.findings if each.fields == ("/call_back_on",) and each.check != "suggested"]
    assert (told.level, told.compared["candidate"]) == ("stop", "+33612345678")


@pytest.mark.parametrize("given", [None, "+33612345699"])
def test_a_doubted_value_is_asked_about_before_a_person_is(given: str | None) -> None:
    kind = record_type({"type": "object", "properties": CALLED_BACK, "required": list(CALLED_BACK)})
    paper, asking = LocalPaper(Index(read(CALL.encode()))), Asking(TODAY, "", 24_000)
    first = Given("ask", dumps({"call_back_on": given}).decode(), "m")
    asked = paper.settle(kind, [first], asking)
    (question,) = asked.next
    assert (question.stage, question.fields) == ("doubt", ("/call_back_on",))
    assert set(question.schema["properties"]["call_back_on"]["enum"]) == {given, "+33612345678", None}
    asked_with = question.messages[-1]["content"]
    before, _, questions = asked_with.partition("</document>")
    assert "rappelez-moi" in before
    assert "rappelez-moi" not in questions  # what the document says is data, and stands between its marks
    answers = {
        said: paper.settle(kind, [first, Given("doubt", dumps({"call_back_on": said}).decode(), "m", 0, question.fields)], asking)
        for said in ("+33612345678", given, None)
    }
    assert answers["+33612345678"].record["call_back_on"] == "+33612345678"
    assert not any(each.level == "stop" for each in answers["+33612345678"].findings)
    assert answers[given].record.get("call_back_on") == given
    assert any(each.level == "stop" for each in answers[given].findings) == (given is not None)
    assert any(each.level == "stop" for each in answers[None].findings) == (given is not None)
    assert not any(each.next for each in answers.values())


def test_a_plus_before_a_number_without_its_country_is_no_part_of_it() -> None:
    schema = {"mobile": {**TEXT, "pattern": r"^\+[1-9][0-9]{6,14}$"}, "zip": TEXT}
    letter = b"Fernsby Gardens, 12 Moss Lane, Coyote Bluff, NM 87501, USA\nMobile (505) 555-0186\nTotal $12.00\n"
    found = through(schema, letter, {"mobile": "+5055550186", "zip": "87501"}).reading
    assert found.record["mobile"] == "+15055550186"


def test_rows_that_a_model_said_again_with_other_days_are_left_out() -> None:
    resume = b"Edda Fernsby\n\nWork\nHead gardener, Moss Lane Garden, from 2015 to 2019\nTree warden, Thornby Dale, from 2019 to 2022\n"
    jobs = rows_of(post={**TEXT, "description": "Position"}, begun={**TEXT, "pattern": r"^\d{4}$"})
    right = [{"post": "Head gardener", "begun": "2015"}, {"post": "Tree warden", "begun": "2019"}]
    again = [{"post": "Tree warden", "begun": year} for year in ("2020", "2021", "2022")]
    assert through({"jobs": jobs}, resume, {"jobs": [*right, *again]}).reading.record["jobs"] == right


BILL = """Moss Lane Pumps

Part                    Qty      Each      Amount     Taxed
Drop pipe               4        10.00     40.00      T
Pressure switch         1        30.00     30.00
Torque arrestor         2        5.00      10.00      T

Total                                      80.00
"""


@pytest.mark.parametrize(("mark", "wanted"), [("T", [True, False, True]), ("No", [False, False, False])])
def test_marks_in_a_column_are_yes_and_what_is_blank_is_no(mark: str, wanted: list[bool], monkeypatch: pytest.MonkeyPatch) -> None:
    monkeypatch.setattr(columns, "FEW_ROWS", 0)  # three rows are asked about as many are
    lines = rows_of(part=TEXT, count=NUMBER, price=NUMBER, amount=NUMBER, marked={"type": "boolean", "description": "The line is marked as taxed"})
    kind = record_type({"type": "object", "properties": {"lines": lines}, "required": ["lines"]})
    said = {"lines": {"columns": {"part": "Part", "count": "Qty", "price": "Each", "amount": "Amount", "marked": "Taxed"}}}
    document = typed_document(BILL.replace(" T\n", f" {mark}\n"))
    found = settled(kind, Index(document), [Given("ask", dumps(said).decode(), "m")], Asking(TODAY))
    assert [row["marked"] for row in found.record["lines"]] == wanted


PHONE: dict[str, Any] = {"type": ["string", "null"], "pattern": r"^\+[1-9][0-9]{6,14}$"}
PRACTICE = (
    "Praxis am Moos, Sielweg 9, 00742 Moosheim, Deutschland\nTelefon (040) 0004 170-0, Durchwahlen statt der Null\nAda Fern  -11\nRufus Tarn  -12\n"
)


@pytest.mark.parametrize(
    ("given", "wanted"),
    [("+40 0004 170-0", "+494000041700"), ("-12", "+4940000417012"), ("+4911", "+4940000417011"), ("(040) 0004 170-0", "+494000041700")],
)
def test_an_area_code_is_no_country_and_an_extension_is_a_whole_number(given: str, wanted: str) -> None:
    found = through({"call": PHONE}, PRACTICE.encode(), {"call": given}, 1.0).reading
    assert found.record["call"] == wanted
    assert found.evidence["/call"].found


@pytest.mark.parametrize(("name", "value"), [("fax_number", "+494000041700"), ("other_phone", "00742 Moosheim")])
def test_a_fax_that_nobody_names_and_a_postcode_are_no_telephone(name: str, value: str) -> None:
    found = through({name: {"type": ["string", "null"], "x-metrikon": {"kind": "phone"}}}, PRACTICE.encode(), {name: value}).reading
    assert found.record[name] is None
    assert found.findings[0].compared["suggested"]


def test_so_many_per_cent_is_no_sum_of_money() -> None:
    bill = b"Moss Lane Pumps\n\nDrop pipe            894.34\n\nSales tax 7.25%       64.84\nTotal                959.18\n"
    schema = {"sales_tax": {"type": ["number", "null"], "description": "Sales tax"}, "tax_rate": {"type": ["number", "null"]}}
    found = through(schema, bill, {"sales_tax": 7.25, "tax_rate": 7.25}).reading
    assert str(found.record["sales_tax"]) == "64.84"
    assert str(found.record["tax_rate"]) == "7.25"


LETTER = b"Moss Lane Tea Room\n4 Quay Street, 00455 Saint Elm\n\nDeliver to: Moss Lane Tea Room, 4 Quay Street, 00455 Saint Elm\nBranch: Rosslackan, Co. Wexford\n"


def test_a_place_is_given_without_the_name_before_it_and_the_county_after_it() -> None:
    schema = {
        "buyer": TEXT,
        "deliver_to": {**TEXT, "description": "Delivery address: street, postcode, town"},
        "town": {**TEXT, "description": "Town"},
    }
    said = {"buyer": "Moss Lane Tea Room", "deliver_to": "Moss Lane Tea Room, 4 Quay Street, 00455 Saint Elm", "town": "Rosslackan, Co. Wexford"}
    found = through(schema, LETTER, said).reading
    assert found.record["deliver_to"] == "4 Quay Street, 00455 Saint Elm"
    assert found.record["town"] == "Rosslackan"
    schema["deliver_to"] = {**TEXT, "description": "Delivery address with the name of the house"}
    schema["town"] = {**TEXT, "description": "Town and county"}
    assert through(schema, LETTER, said).reading.record == said


def test_the_date_of_a_paper_is_not_certain_for_a_field_that_is_called_otherwise() -> None:
    stamp = {"type": ["string", "null"], "format": "date", "description": "Date written into the stamp"}
    bill = b"Moss Lane Pumps\nInvoice 41\nDate   16/02/2026\nThank you. PAID 12 March 2026\n"
    found = through({"stamped_on": stamp}, bill, {"stamped_on": "2026-03-12"}).reading
    assert found.record["stamped_on"] == "2026-03-12"
    assert "differ" not in found.evidence["/stamped_on"].inputs


def test_a_number_that_stands_once_and_is_given_twice_stays_and_stops_the_record() -> None:
    schema = {name: {"type": "string", "x-metrikon": {"kind": "phone"}} for name in ("call", "in_need")}
    found = through(schema, PRACTICE.encode(), {"call": "+494000041700", "in_need": "+494000041700"}).reading
    assert (found.record["call"], found.record["in_need"]) == ("+494000041700", "+494000041700")
    assert any(each.check == "same words" and each.level == "stop" for each in found.findings)


SLIP = "PARKHAUS\nFERNHILL\nStadtgarten Betriebs GmbH\n\nTicket 41-0778\nTotal 4.50\n"


@pytest.mark.parametrize(
    ("text", "given", "wanted"),
    [
        ("Moss-Garden Fernhill Ltd, Mill Lane 4\nInvoice 41\n", "Fernhill Ltd", "Moss-Garden Fernhill Ltd"),
        ("Fernhill Nurseries Ltd\nMill Lane 4\nInvoice 41\n", "Fernhill", "Fernhill Nurseries Ltd"),
        ("Invoice Fernhill Ltd\nMill Lane 4\n", "Fernhill Ltd", "Fernhill Ltd"),  # what stands before it is no part of a name
        ("Fernhill Ltd, Mill Lane\nInvoice 41\n", "Fernhill Ltd", "Fernhill Ltd"),  # a mark ends it
        ("Fernhill Ltd Tel 01632\n", "Fernhill Ltd", "Fernhill Ltd"),
    ],
)
def test_the_name_of_a_house_is_given_whole(text: str, given: str, wanted: str) -> None:
    found = through({"seller": {**TEXT, "description": "Name of the seller"}}, text.encode(), {"seller": given}).reading
    assert found.record["seller"] == wanted


def test_the_name_on_two_lines_of_a_slip_is_one() -> None:
    kind = record_type({"type": "object", "properties": {"shop": {**TEXT, "description": "Name of the shop"}}, "required": ["shop"]})
    lines = SLIP.splitlines()
    wide = max(map(len, lines))
    index = Index(typed_document("\n".join(line.center(wide).rstrip() for line in lines)))
    assert extract(Perfect({"shop": "FERNHILL"}), kind, LocalPaper(index), TODAY).reading.record["shop"] in ("PARKHAUS FERNHILL", "FERNHILL")


RESUME = b"Edda Fernsby\n\nWork\nFebruary 2019 - June 2021   Head gardener, Moss Lane Garden\nMarch 2016 - May 2016   Tree warden, Thornby Dale\n2014   Crew, Elder Farm\n"


@pytest.mark.parametrize(
    ("row", "given", "wanted"),
    [(0, ("2019", "2021"), ("2019-02", "2021-06")), (1, ("2016", "2016"), ("2016-03", "2016-05")), (2, ("2014", "2014"), ("2014", "2014"))],
)
def test_a_year_in_a_row_takes_the_month_that_is_printed_with_it(row: int, given: tuple[str, str], wanted: tuple[str, str]) -> None:
    month = {**TEXT, "pattern": r"^\d{4}(-\d{2})?$"}
    jobs = rows_of(post={**TEXT, "description": "Position"}, begin={**month, "description": "Begin"}, end={**month, "description": "End"})
    posts = ["Head gardener", "Tree warden", "Crew"]
    said = {"jobs": [{"post": posts[row], "begin": given[0], "end": given[1]}]}
    found = through({"jobs": jobs}, RESUME, said).reading.record["jobs"][0]
    assert (found["begin"], found["end"]) == wanted


@pytest.mark.parametrize(
    ("address", "wanted"),
    [("Rosslackan, Co. Wexford", "+353850004172"), ("Newry, Co. Down", "+44850004172"), ("Ballydoon", "+44850004172")],
)
def test_a_telephone_number_is_read_by_the_country_that_the_document_names(address: str, wanted: str) -> None:
    letter = f"Edda Fernsby, {address}\nI would like to work in your garden. My telephone number is 085 000 4172.\n"
    found = through({"call": {**TEXT, "pattern": PHONE["pattern"]}}, letter.encode(), {"call": "085 000 4172"}).reading
    assert found.record["call"] == wanted


TEAM = "".join(
    f'<div class="who"><h3>{name}</h3><p>{work}</p>{more}</div>'
    for name, work, more in (
        ("Ada Fern", "Palms", "<p>Durchwahl -11</p>"),
        ("Rufus Tarn", "Ferns", "<p>Durchwahl -12</p>"),
        ("Edda Moss", "Seeds", ""),
    )
)


def test_a_number_of_a_row_stands_in_the_part_of_its_row() -> None:
    page = f"<!doctype html><html lang=de><body><main><h1>Team</h1><p>Telefon (040) 0004 170-0, Deutschland.</p>{TEAM}</main></body></html>"
    team = rows_of(name={**TEXT, "description": "Name"}, work={**TEXT, "description": "Work"}, call=PHONE)
    said = [
        {"name": name, "work": work, "call": "+494000041700"}
        for name, work in (("Ada Fern", "Palms"), ("Rufus Tarn", "Ferns"), ("Edda Moss", "Seeds"))
    ]
    found = through({"team": team}, page.encode(), {"team": said}).reading
    assert [row["call"] for row in found.record["team"]] == ["+4940000417011", "+4940000417012", None]
    assert any("outside the part of its row" in each for each in found.changes)
