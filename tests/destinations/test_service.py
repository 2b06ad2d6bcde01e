"""Records of services that describe themselves: found before they are made, set but for what a person set, never doubled whatever is lost on the way."""

from __future__ import annotations

import time
from decimal import Decimal
from functools import partial
from pathlib import Path
from typing import Any

import pytest

from metrikon.core.services.notes import suggested
from metrikon.destinations.service import ServiceDestination
from metrikon.destinations.service_form import ServiceRecords
from metrikon.engine.describing import BadNotes
from metrikon.ports.destination import Broken, Busy, Destination, Partly, Receipt, Row, Unsure, Unusable
from metrikon.store import deliveries
from tests.destinations import ailing
from tests.destinations.contract import Contract
from tests.destinations.house import NOTES, House
from tests.helpers import at_rest, eventually, run_state, states


class TestRowsOfASheetOnline(Contract):
    ails = {
        "full": ailing.service("full"),
        "over its quota": ailing.service("busy", 1),
        "read-only": ailing.service("closed"),
        "locked": "it has no locks",
        "slow": ailing.service("slow", 1),
        "gone": ailing.service_gone,
        "its answer lost": ailing.service("lost", 1),
        "changed meanwhile": "its columns are those of its description; see the test of a value that a field does not take",
        "put in another order": "it tells rows by our key, wherever they are",
    }

    @pytest.fixture(autouse=True)
    def _place(self, house: House) -> None:
        self.house = house

    def make(self, folder: Path) -> Destination:
        return self.house.records("rows")

    def held(self, folder: Path, made: Destination) -> dict[str, str]:
        return {each["row_key"]: f"{Decimal(str(each['Amount'])):.2f}" for each in self.house.held.rows.values()}


def test_what_a_service_can_do_follows_from_its_notes(house: House) -> None:
    assert {name: house.records(name).can for name in NOTES["records"]} == {
        "contacts": "finds",
        "callers": "neither",  # but by a field of its own
        "unsearched": "neither",
        "rows": "finds",
        "listed": "finds",
        "tasks": "enforces",
        "paragraphs": "neither",
    }
    assert house.records("callers", ("phone",)).can == "finds"
    assert house.records("paragraphs").most == 100
    assert [(each.name, each.kind, each.wanted) for each in house.records("tasks").heads() or ()] == [
        ("title", "text", True),
        ("due", "date", False),
        ("priority", "text", False),
    ]
    with pytest.raises(Unusable, match="no records 'contact'"):
        house.records("contact")
    with pytest.raises(Unusable, match="not found by phone"):
        house.records("contacts", ("phone",))


def test_a_contact_is_made_once_and_found_by_its_mail_whatever_its_capitals(house: House) -> None:
    made = house.records("contacts", ("email",))
    assert [each.result for each in made.write([Row("k1", {"email": "Ada@x.example", "name": "Ada"}), Row("k2", {"email": "bo@x.example"})])] == [
        "written"
    ] * 2
    assert made.write([Row("k3", {"email": "ada@X.example", "name": "Ada F."})])[0].result == "there already"
    assert made.write([Row("k4", {"email": "ada@x.example", "name": "Ada F.", "visits": 2}, sets=True)])[0].result == "updated"
    assert made.write([Row("k5", {"email": "cy@x.example"}, sets=True, only=True)])[0].result == "not there"
    assert sorted((each["email"], each.get("name"), each.get("visits")) for each in house.held.contacts.values()) == [
        ("Ada@x.example", "Ada F.", 2),
        ("bo@x.example", None, None),
    ]
    assert [each["name"] for each in made.find({"email": "ada@x.example"}, 5)] == ["Ada F."]


@pytest.mark.parametrize("kept", ["+433165550134", "+43 316 5550134", "0316 5550134"])
@pytest.mark.parametrize("told", ["+43 316 555 01 34", "0316/5550134", "(0316) 555-01-34", "0043 316 5550134"])
def test_a_caller_is_found_by_the_number_however_it_is_spelled(kept: str, told: str, house: House) -> None:
    house.held.contacts["1"] = {"id": "1", "email": "ada@x.example", "phone": kept, "made_at": 0}
    made = house.records("callers", ("phone",))
    [said] = made.write([Row("k", {"email": "ada@x.example", "phone": told, "name": "Ada"}, sets=True)])
    assert (said.result, said.left) == ("updated", [])
    assert [(each["phone"], each["name"]) for each in house.held.contacts.values()] == [(kept, "Ada")], "what a person typed stays as it is spelled"
    assert [each["name"] for each in made.find({"phone": told}, 5)] == ["Ada"]


def test_a_number_that_the_service_does_not_look_for_is_asked_for_once_and_compared_here(house: House) -> None:
    contacts = {**NOTES["records"]["contacts"], "telephones": ["phone"], "country": "AT"}
    house.app.describing.note("crm", {"records": {**NOTES["records"], "contacts": contacts}})
    house.held.contacts["1"] = {"id": "1", "email": "ada@x.example", "phone": "+43 316 5550134", "made_at": 0}
    house.held.calls.clear()
    made = house.records("contacts")
    assert [each["id"] for each in made.find({"email": "ada@x.example", "phone": "0316 5550134"}, 5)] == ["1"]
    assert list(made.find({"email": "ada@x.example", "phone": "0316 999123"}, 5)) == []
    assert len(house.held.calls) == 2


def test_a_number_is_written_in_the_form_of_e164(house: House) -> None:
    made = house.records("callers", ("phone",))
    assert made.write([Row("k", {"email": "bo@x.example", "phone": "0664 123 45 67"})])[0].result == "written"
    assert [each["phone"] for each in house.held.contacts.values()] == ["+436641234567"]
    assert made.write([Row("other", {"email": "bo@x.example", "phone": "+43 (0)664 1234567"})])[0].result == "there already"


def test_another_number_that_was_set_by_us_is_set_and_one_that_a_person_set_is_left(house: House) -> None:
    made = house.records("contacts", ("email",))
    house.app.describing.note(
        "crm", {"records": {**NOTES["records"], "contacts": {**NOTES["records"]["contacts"], "telephones": ["phone"], "country": "AT"}}}
    )
    made = house.records("contacts", ("email",))
    made.write([Row("k", {"email": "ada@x.example", "phone": "0316 5550134"})])
    [held] = house.held.contacts.values()
    was = {"email": "ada@x.example", "phone": "0316 5550134"}
    assert made.write([Row("k", {"email": "ada@x.example", "phone": "0316 5550199"}, sets=True, was=was)])[0].left == []
    assert held["phone"] == "+433165550199"
    held["phone"] = "0316 999"
    assert made.write([Row("k", {"email": "ada@x.example", "phone": "0316 5550134"}, sets=True, was=was)])[0].left == ["phone"]


def _found_by_phone(house: House, **more: Any) -> None:
    contacts = NOTES["records"]["contacts"]
    found = {**contacts, "find": {**contacts["find"], "by": {**contacts["find"]["by"], "phone": "phone"}}, **more}
    house.app.describing.note("crm", {"records": {**NOTES["records"], "contacts": found}})


def test_a_number_that_no_search_can_spell_is_looked_for_in_the_list_and_no_contact_is_doubled(house: House) -> None:
    _found_by_phone(house, telephones=["phone"], country="AT")
    house.held.contacts["c1"] = {"id": "c1", "email": "ada@x.example", "phone": "0664/123 45 67", "made_at": 0.0}
    made = house.records("contacts", ("phone",))
    [said] = made.write([Row("k", {"email": "ada@x.example", "phone": "+43 664 1234567", "name": "Ada"}, sets=True)])
    assert (said.result, said.place, len(house.held.contacts)) == ("updated", "contacts c1", 1)
    [other] = made.write([Row("l", {"email": "bo@x.example", "phone": "+43 664 7654321"})])
    assert (other.result, len(house.held.contacts)) == ("written", 2)


def test_where_nobody_can_tell_whether_a_number_is_there_no_contact_is_made_without_a_word(house: House) -> None:
    _found_by_phone(house, telephones=["phone"], country="AT")
    house.held.found_after = 60  # what it lists lags behind: it holds none of what was written
    made = house.records("contacts", ("phone",))
    assert made.write([Row("k", {"email": "ada@x.example", "phone": "0664 1234567"})])[0].result == "written"
    new = Row("l", {"email": "bo@x.example", "phone": "0664 7654321"}, columns_before=("email", "phone"))
    with pytest.raises(Partly, match="lists none of those that were written") as caught:
        made.write([new])
    assert "any_spelling" in str(caught.value)
    assert len(house.held.contacts) == 1
    notes = NOTES["records"]["contacts"]
    told = {**notes["find"], "by": {**notes["find"]["by"], "phone": "phone"}, "any_spelling": True}
    _found_by_phone(house, telephones=["phone"], country="AT", find=told)
    asked = len(house.held.calls)
    assert house.records("contacts", ("phone",)).write([new])[0].result == "written"
    assert [call for call in house.held.calls[asked:] if call.startswith("GET")] == ["GET /records/contacts"], "one search tells"


def test_a_record_is_found_in_one_way_or_the_other_and_several_are_told(house: House) -> None:
    _found_by_phone(house)
    house.held.contacts["c1"] = {"id": "c1", "email": "ada@x.example", "phone": "1", "made_at": 0.0}
    house.held.contacts["c2"] = {"id": "c2", "email": "bo@x.example", "phone": "2", "made_at": 0.0}
    said = ServiceRecords.model_validate({"connection": "crm", "records": "contacts", "by": [["email"], ["phone"]]})
    made = ServiceDestination(house.app.outside, said.connection, said.records, said.ways[0], said.ways[1:])
    by_phone, by_mail, fresh = made.write(
        [
            Row("a", {"email": "", "phone": "2", "name": "Bo"}),
            Row("b", {"email": "ADA@x.example", "phone": "3"}),
            Row("c", {"email": "cy@x.example", "phone": "4"}),
        ]
    )
    assert [each.place for each in (by_phone, by_mail)] == ["contacts c2", "contacts c1"]
    assert fresh.result == "written"
    with pytest.raises(Partly, match="2 contacts of crm are like this one: c1, c2"):
        made.write([Row("d", {"email": "ada@x.example", "phone": "2"})])
    with pytest.raises(Partly, match="no value for email or phone"):
        made.write([Row("e", {"name": "Nobody"})])


@pytest.mark.parametrize(("number", "message"), [("call me", "'call me' is no telephone number in AT"), ("12", "'12' is no telephone number in AT")])
def test_what_is_no_telephone_number_is_refused_in_words_and_nothing_is_written(number: str, message: str, house: House) -> None:
    with pytest.raises(Partly, match=message):
        house.records("callers", ("phone",)).write([Row("k", {"email": "bo@x.example", "phone": number})])
    assert house.held.contacts == {}


def test_notes_of_telephone_numbers_are_checked_and_suggested(house: House) -> None:
    told, _ = house.app.describing.described("crm") or pytest.fail("it is described")
    assert suggested(told).records["contacts"].telephones == ["phone"]
    assert suggested(told).records["tasks"].telephones == []
    for more, message in (({"telephones": ["fon"]}, "no field 'fon'"), ({"country": "XX"}, "XX is no country")):
        with pytest.raises(BadNotes, match=message):
            house.app.describing.note("crm", {"records": {"callers": {**NOTES["records"]["callers"], **more}}})


def test_what_a_person_has_set_in_a_record_is_left(house: House) -> None:
    made = house.records("contacts", ("email",))
    made.write([Row("k", {"email": "ada@x.example", "name": "Ada", "visits": 1})])
    [held] = house.held.contacts.values()
    held["name"] = "Dr Ada Fenwick"
    was = {"email": "ada@x.example", "name": "Ada", "visits": 1}
    [said] = made.write([Row("k", {"email": "ada@x.example", "name": "Ada F", "visits": 2}, sets=True, was=was)])
    assert (said.left, held["name"], held["visits"]) == (["name"], "Dr Ada Fenwick", 2)


def test_two_that_are_alike_are_told_and_neither_is_touched(house: House) -> None:
    for number in range(2):
        house.held.contacts[str(number)] = {"id": str(number), "email": "ada@x.example", "made_at": 0}
    with pytest.raises(Partly, match="2 contacts of crm are like this one: 0, 1"):
        house.records("contacts", ("email",)).write([Row("k", {"email": "ada@x.example", "name": "x"}, sets=True)])


def test_pages_of_a_search_are_gone_through(house: House) -> None:
    for number in range(95):
        house.held.contacts[str(number)] = {"id": str(number), "email": f"{number}@x.example", "made_at": 0}
    assert len(list(house.records("contacts").find({}, 500))) == 95
    with pytest.raises(Broken, match="more than 50"):
        list(house.records("contacts").find({}, 50))


@pytest.mark.parametrize("how", ["lost", "cut"])
def test_an_answer_that_is_lost_makes_no_second_record_where_the_service_takes_it_once(how: str, house: House) -> None:
    made = house.records("tasks")
    house.services.world.failing.set(how, 1.0, 1)
    with pytest.raises(Partly) as failed:
        made.write([Row("k", {"title": "Water the ferns"})])
    assert isinstance(failed.value.reason, Unsure)
    assert made.write([Row("k", {"title": "Water the ferns"})])[0].result == "written"
    assert len(house.held.tasks) == 1


def test_paragraphs_go_in_order_a_hundred_a_call(house: House) -> None:
    rows = [Row(f"k{number}", {"page": "may" if number < 230 else "june", "text": f"line {number}"}) for number in range(250)]
    made = house.records("paragraphs")
    for at in range(0, 250, made.most):
        assert all(each.result == "written" for each in made.write(rows[at : at + made.most]))
    assert [each["text"] for each in house.held.paragraphs["may"]] == [f"line {number}" for number in range(230)]
    assert len(house.held.paragraphs["june"]) == 20


APPENDS = """
metrikon: 1
name: notes
intakes: [{kind: upload}]
destinations: {page: {kind: service, connection: crm, records: paragraphs}}
steps:
  - name: lines
    each:
      of: ${for i in 1..350 return i}
      as: line
      steps:
        - {name: paragraph, write: {to: page, key: ["${item.id}", "${line}"], columns: {page: may, text: "line ${line}"}}}
"""
EVERY_LINE = [f"line {number}" for number in range(1, 351)]


@pytest.mark.parametrize("went", [True, False])
def test_of_paragraphs_only_the_call_under_way_is_unsure_and_nothing_overtakes_it(house: House, went: bool) -> None:
    house.app.catalog.put_flow(APPENDS)
    appended, calls = house.held.paragraphs, []
    lose = house.services.world.failing

    def second() -> list[Receipt]:
        calls.append(len(appended.get("may", ())))
        if len(calls) == 2 and not went:
            raise Unsure("The connection was lost before anything came back.")
        if len(calls) == 2:
            lose.set("lost", 1.0, 1)
        return []

    send = ServiceDestination._append
    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(ServiceDestination, "_append", lambda made, rows: second() or send(made, rows))
        house.app.start()
        run = str(house.app.arrivals.take("notes", "upload", "a", "a", b"a").run_id)
        eventually(lambda: run_state(house.app, run)[0] == "parked", 60)
        time.sleep(1)
    with house.app.database.reading() as connection:
        found = deliveries.of_run(connection, run, 1000)
    assert [each.state for each in found] == ["written"] * 100 + ["unsure"] * 100 + ["entered"] * 150
    assert [each["text"] for each in appended["may"]] == EVERY_LINE[: 200 if went else 100]
    shown = house.app.looking_there.of(run)
    assert [each.sent["text"] for each in shown] == EVERY_LINE[100:200]
    house.app.answers.continue_run(run, "ada", unsure="went" if went else "again")
    eventually(lambda: run_state(house.app, run)[0] == "done", 60)
    assert [each["text"] for each in appended["may"]] == EVERY_LINE


@pytest.mark.parametrize("went", [True, False])
def test_where_paragraphs_are_listed_it_is_asked_what_arrived_and_nobody_needs_to_look(house: House, went: bool) -> None:
    house.app.catalog.put_flow(APPENDS.replace("records: paragraphs", "records: listed"))
    house.held.paragraphs["may"] = [{"text": "what stood there before"}]
    calls: list[int] = []
    send = ServiceDestination._add

    def second(made: ServiceDestination, *given: Any) -> None:
        calls.append(1)
        if len(calls) == 2 and not went:
            raise Unsure("The connection was lost before anything came back.")
        if len(calls) == 2:
            house.services.world.failing.set("lost", 1.0, 1)
        send(made, *given)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(ServiceDestination, "_add", second)
        house.app.start()
        run = str(house.app.arrivals.take("notes", "upload", "a", "a", b"a").run_id)
        eventually(lambda: run_state(house.app, run)[0] == "done", 60)
    assert [each["text"] for each in house.held.paragraphs["may"][1:]] == EVERY_LINE


def handed(texts: str, *, twin: bool = False) -> list[Row]:
    return [Row(f"k{text}", {"page": "may", "text": text}, handed=True, twin=twin) for text in texts]


@pytest.mark.parametrize(
    ("there", "twin", "arrives"),
    [
        ("", False, "abc"),
        ("xy", False, "xyabc"),
        ("xabc", False, "xabc"),
        ("abcx", False, "abcx"),  # somebody has added to it since
        ("aabc", False, "aabc"),
        ("xab", False, None),
        ("ax", False, None),
        ("xabc", True, None),  # an earlier run has written the same
    ],
)
def test_what_of_a_call_that_was_cut_off_has_arrived_is_taken_from_the_list_or_put_before_a_person(
    there: str, twin: bool, arrives: str | None, house: House
) -> None:
    house.held.paragraphs["may"] = [{"text": text} for text in there]
    made = house.records("listed")
    if arrives is None:
        with pytest.raises(Partly) as caught:
            made.write(handed("abc", twin=twin))
        assert isinstance(caught.value.reason, Unsure)
        assert caught.value.reason.looked
        assert (caught.value.concerns, len(house.held.paragraphs["may"])) == (3, len(there))
        return
    assert [each.result for each in made.write(handed("abc", twin=twin))] == ["written"] * 3
    assert "".join(each["text"] for each in house.held.paragraphs["may"]) == arrives


def test_where_a_list_does_not_answer_what_was_cut_off_waits_and_is_in_the_end_put_before_a_person(house: House) -> None:
    house.app.catalog.put_flow(APPENDS.replace("records: paragraphs", "records: listed").replace("1..350", "1..3"))

    def lost(made: ServiceDestination, *given: Any) -> None:
        raise Unsure("The connection was lost before anything came back.")

    def away(made: ServiceDestination, *given: Any) -> list[Any]:
        raise Broken("It answers 403.")

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(ServiceDestination, "_add", lost)
        patch.setattr(ServiceDestination, "_listed", away)
        house.app.start()
        run = str(house.app.arrivals.take("notes", "upload", "a", "a", b"a").run_id)
        eventually(lambda: run_state(house.app, run)[0] == "parked", 60)
    with house.app.database.reading() as connection:
        assert [each.state for each in deliveries.of_run(connection, run)] == ["unsure"] * 3
    house.app.answers.continue_run(run, "ada", unsure="again")
    eventually(lambda: run_state(house.app, run)[0] == "done", 60)
    assert [each["text"] for each in house.held.paragraphs["may"]] == EVERY_LINE[:3]


@pytest.mark.parametrize("parted", [False, True])
def test_of_paragraphs_none_overtakes_those_that_were_put_off(house: House, parted: bool) -> None:
    house.app.catalog.put_flow(APPENDS)
    calls: list[int] = []
    send = ServiceDestination._append

    def busy(made: ServiceDestination, rows: list[Row]) -> list[Receipt]:
        calls.append(len(rows))
        if len(calls) == 2 and parted:
            raise Broken("One of them is wrong.")  # they are sent again in halves
        if len(calls) == (3 if parted else 2):
            raise Busy("It takes no more for now.", wait=0.01)  # it is over at once: what comes after could be sent now
        return send(made, rows)

    with pytest.MonkeyPatch.context() as patch:
        patch.setattr(ServiceDestination, "_append", busy)
        house.app.start()
        run = str(house.app.arrivals.take("notes", "upload", "a", "a", b"a").run_id)
        eventually(lambda: run_state(house.app, run)[0] == "done", 60)
    assert [each["text"] for each in house.held.paragraphs["may"]] == EVERY_LINE


def test_the_columns_of_what_is_appended_are_those_of_an_element(house: House) -> None:
    heads = house.records("paragraphs").heads()
    assert heads is not None
    assert {each.name for each in heads} >= {"page", "text"}
    house.app.catalog.put_flow(APPENDS)
    problems = house.app.columns.problems(house.app.catalog.newest_flow("notes"))
    assert not problems


def test_a_value_that_a_field_does_not_take_fails_its_row_alone(house: House) -> None:
    with pytest.raises(Partly, match="visits takes a number") as failed:
        house.records("contacts", ("email",)).write([Row("a", {"email": "a@x.example"}), Row("b", {"email": "b@x.example", "visits": "many"})])
    assert len(failed.value.receipts) == 1
    with pytest.raises(Partly, match=r"It says: .*email is missing or none"):
        house.records("unsearched").write([Row("c", {"email": "nothing"})])


def test_a_service_that_is_busy_says_so(house: House) -> None:
    house.services.world.failing.set("busy", 1.0, 1)
    with pytest.raises(Partly) as failed:
        house.records("tasks").write([Row("k", {"title": "t"})])
    assert isinstance(failed.value.reason, Busy)


FLOW = """metrikon: 1
name: callers
intakes: [{kind: upload}]
destinations:
  crm: {kind: service, connection: crm, records: %s%s}
steps:
- {name: made, write: {to: crm, key: ["${item.name}"], columns: %s}, retry: {attempts: 8}}
"""


def _run(house: House, name: str) -> str:
    return str(house.app.arrivals.take("callers", "upload", name, name, name.encode()).run_id)


def test_a_blind_write_whose_answer_was_lost_waits_for_a_person_and_is_never_repeated_unasked(house: House) -> None:
    house.app.start()
    house.app.catalog.put_flow(FLOW % ("unsearched", "", '{email: "${item.name}"}'))
    house.services.world.failing.set("lost", 1.0, 1)
    run = _run(house, "ada@x.example")
    eventually(lambda: run_state(house.app, run)[0] == "parked")
    assert "Whether the record was made cannot be told" in run_state(house.app, run)[1]
    house.app.answers.continue_run(run, "ada")  # nobody has said what became of it
    house.app.answers.continue_parked("ada")
    time.sleep(0.5)
    eventually(lambda: run_state(house.app, run)[0] == "parked")
    assert len(house.held.contacts) == 1
    with house.app.database.reading() as connection:
        item = str(connection.exec_driver_sql("SELECT item_id FROM runs").scalar_one())
    anew = house.app.again.item(item, "")  # run anew, it is no less unsure
    eventually(lambda: run_state(house.app, anew)[0] == "parked")
    assert "cannot be asked whether it came" in run_state(house.app, anew)[1]
    assert len(house.held.contacts) == 1
    house.app.answers.continue_run(anew, "ada", unsure="went")
    eventually(lambda: run_state(house.app, anew)[0] == "done")
    assert len(house.held.contacts) == 1
    house.services.world.failing.set("lost", 1.0, 1)
    second = _run(house, "bo@x.example")
    eventually(lambda: run_state(house.app, second)[0] == "parked")
    house.held.contacts.popitem()  # it was not there after all
    house.app.answers.continue_run(second, "ada", unsure="again")
    eventually(lambda: run_state(house.app, second)[0] == "done")
    assert sorted(each["email"] for each in house.held.contacts.values()) == ["ada@x.example", "bo@x.example"]


@pytest.mark.parametrize(
    ("records", "more", "columns"),
    [("contacts", "", '{email: "${item.name}"}'), ("contacts", ", by: [email]", '{email: "${item.name}"}'), ("tasks", "", '{title: "${item.name}"}')],
)
def test_records_are_made_once_whatever_is_lost_where_they_are_enforced_or_found(records: str, more: str, columns: str, house: House) -> None:
    house.held.found_after = 0.4  # within the time that was noted
    house.app.start()
    house.app.catalog.put_flow(FLOW % (records, more, columns))
    house.services.world.failing.set("lost", 0.5, 4)
    names = [f"{number}@x.example" for number in range(6)]
    for each in names:
        _run(house, each)
    at_rest(house.app, len(names), 120)
    made = house.held.contacts if records == "contacts" else house.held.tasks
    assert states(house.app) == {"done": len(names)}
    assert sorted(each.get("email") or each["title"] for each in made.values()) == sorted(names)


def test_rows_that_were_cut_off_by_a_stop_are_looked_for_or_wait_for_a_person(tmp_path: Path, house: House) -> None:
    house.app.start()
    house.app.catalog.put_flow(FLOW % ("unsearched", "", '{email: "${item.name}"}'))
    house.services.world.failing.set("slow", 1.0, 1)
    house.services.world.failing.slow = 3.0
    run = _run(house, "ada@x.example")

    def sending() -> bool:
        with house.app.database.reading() as connection:
            return bool(deliveries.cut_off(connection, []))

    eventually(sending)
    house.app.deliveries._pool.shutdown(wait=False, cancel_futures=True)
    with house.app.database.reading() as connection:
        [row] = deliveries.cut_off(connection, [])
    house.app.deliveries._cut_off(row.destination, [row], "stopped")  # as the next start finds it
    eventually(lambda: run_state(house.app, run)[0] == "parked")
    assert run_state(house.app, run)[1] == "stopped"


def _with_contact(house: House) -> str:
    house.held.contacts["c1"] = {"id": "c1", "email": "ada@mail.example", "made_at": 0.0}
    return "c1"


def test_a_file_is_given_to_a_record_in_two_calls(house: House) -> None:
    _with_contact(house)
    given = house.records("contacts", ("email",)).attach({"email": "ADA@mail.example"}, 'a "bill".pdf', b"--leaves\r\n", "k", cut_off=False)
    assert (given.place, given.record) == ("contacts c1", "c1")
    assert house.held.files == {given.file: b"--leaves\r\n"}
    assert house.held.contacts["c1"]["files"] == [given.file]


def test_a_file_for_a_record_that_is_not_there_or_takes_none_is_told(house: House) -> None:
    with pytest.raises(Broken, match="none of the contacts of crm with email bo"):
        house.records("contacts", ("email",)).attach({"email": "bo@mail.example"}, "a", b"x", "k", cut_off=False)
    with pytest.raises(Broken, match="take no files"):
        house.records("tasks").attach({}, "a", b"x", "k", cut_off=False)
    assert house.held.files == {}


def test_a_file_whose_giving_was_cut_off_or_whose_answer_was_lost_is_not_given_twice_unasked(house: House) -> None:
    _with_contact(house)
    made = house.records("contacts", ("email",))
    with pytest.raises(Unsure, match="was cut off"):
        made.attach({"email": "ada@mail.example"}, "a", b"x", "k", cut_off=True)
    house.services.world.failing.set("lost", 1, 9)
    with pytest.raises((Unsure, Busy)):
        made.attach({"email": "ada@mail.example"}, "a", b"x", "k", cut_off=False)
    house.services.world.failing.set("", 0, 0)
    assert "files" not in house.held.contacts["c1"] or len(house.held.contacts["c1"]["files"]) == 1


def test_a_flow_gives_the_contact_its_file(house: House) -> None:
    _with_contact(house)
    house.app.catalog.put_flow(
        "metrikon: 1\nname: files\nintakes: [{kind: upload}]\nsteps:\n- {name: handed, attach: {connection: crm, records: contacts, by: {email: ada@mail.example}, "
        'file: "${item.file}", name: "${item.name}"}}\n'
    )
    house.app.engine.start()
    run = str(house.app.arrivals.take("files", "upload", "a", "a.txt", b"leaves").run_id)
    eventually(lambda: run_state(house.app, run)[0] == "done")
    assert list(house.held.files.values()) == [b"leaves"]


ATTACHES = (
    "metrikon: 1\nname: files\nintakes: [{kind: upload}]\nsteps:\n- {name: handed, attach: {connection: crm, records: contacts, by: {email: ada@mail.example}, "
    'file: "${item.file}", name: "${item.name}"}}\n'
)


def _is_done(house: House, run: str) -> bool:
    return run_state(house.app, run)[0] == "done"


def _taken_back(house: House, run: str) -> str:
    house.app.taking_back.take_back([run], "ada")

    def state() -> tuple[str, str]:
        with house.app.database.reading() as connection:
            [found] = deliveries.of_run(connection, run)
        return found.state, found.error or ""

    eventually(lambda: state()[0] != "returning")
    return state()[1] or state()[0]


def test_a_file_that_a_record_was_given_is_taken_back_where_the_service_can_and_else_that_is_told(house: House) -> None:
    _with_contact(house)
    house.app.catalog.put_flow(ATTACHES)
    house.app.start()
    runs = [str(house.app.arrivals.take("files", "upload", name, f"{name}.txt", name.encode()).run_id) for name in ("a", "b")]
    for run in runs:
        eventually(partial(_is_done, house, run))
    contact = next(iter(house.held.contacts.values()))
    assert len(contact["files"]) == 2
    assert _taken_back(house, runs[0]) == "taken back"
    assert [house.held.files[each] for each in contact["files"]] == [b"b"]
    attach = {name: value for name, value in NOTES["records"]["contacts"]["attach"].items() if name != "remove"}
    house.app.describing.note("crm", {"records": {**NOTES["records"], "contacts": {**NOTES["records"]["contacts"], "attach": attach}}})
    assert "No operation is noted that takes a file" in _taken_back(house, runs[1])
    house.app.describing.note("crm", NOTES)
    contact["files"].clear()  # somebody was faster
    assert _taken_back(house, runs[1]) == "taken back"
