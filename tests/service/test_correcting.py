"""After the first success: a written record is corrected, its rows follow, and what was written is taken back; through the service, as people use it."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable
from decimal import Decimal
from io import StringIO
from pathlib import Path
from typing import Any

import pytest
from openpyxl import load_workbook

from metrikon.cli import main
from metrikon.client import ClientError
from metrikon.core.flows.keys import by_former_rule
from metrikon.demo import scenario
from metrikon.store import deliveries, keeping, records
from tests.helpers import Running, eventually
from tests.killing_corrected import FLOW

INVOICE = scenario.document("01-fernhill-nurseries.pdf")


@pytest.fixture
def ledger(running: Callable[..., Running]) -> Running:
    service = running()
    service.client.put_record_type("invoice", (scenario.folder() / "record_types" / "invoice.json").read_text())
    service.client.put_flow("ledger", FLOW)
    return service


def sent(service: Running) -> tuple[str, str]:
    """A written invoice: its run and its record."""
    run = service.client.upload("ledger", INVOICE, name="invoice.pdf").run_id
    found = service.client.wait(run)
    assert (found.state, found.reason) == ("done", "")
    assert found.record_id is not None
    return run, found.record_id


def heads(service: Running) -> list[tuple[str, str, Decimal]]:
    with sqlite3.connect(service.app.home / "out.db") as database:
        rows = database.execute("SELECT vendor, number, total FROM invoices ORDER BY rowid").fetchall()
    return [(vendor, number, Decimal(str(total))) for vendor, number, total in rows]


def lines(service: Running) -> dict[str, Decimal]:
    sheet = load_workbook(service.app.home / "lines.xlsx")["Lines"]
    rows = list(sheet.iter_rows(min_row=2, max_col=3, values_only=True))
    return {str(what): Decimal(str(amount)) for _, what, amount in rows if what is not None}


def command(service: Running, *words: str) -> tuple[int, str, str]:
    out, err = StringIO(), StringIO()
    code = main([*words, "--url", service.url, "--token", service.token], out, err)
    return code, out.getvalue(), err.getvalue()


def settled(service: Running, run: str) -> Any:
    found = service.client.wait(run)

    def at_rest() -> bool:
        with service.app.database.reading() as connection:
            return not any(each.state in ("returning", "entered") for each in deliveries.of_item(connection, found.item_id))

    eventually(at_rest)
    return service.client.run(run)


def test_a_written_record_is_corrected_and_every_row_of_it_follows(ledger: Running) -> None:
    _, record = sent(ledger)
    before = ledger.client.record(record)
    first = before.values["lines"][0]
    values = {**before.values, "lines": [{**first, "description": "Hart's tongue, 2 l"}, *before.values["lines"][2:]], "number": "FN-1"}
    told = ledger.client.correct(record, values, "wrong number")
    assert told["run_id"] == ""
    assert {each["will"] for each in told["came"]} == {"set"}
    assert ledger.client.record(record).values == before.values, "it was only told"
    done = settled(ledger, ledger.client.correct(record, values, "wrong number", yes=True)["run_id"])
    assert done.state == "done"
    assert [number for _, number, _ in heads(ledger)] == ["FN-1"], "the row has another key, and is not written a second time"
    wanted = {line["description"]: Decimal(line["amount"]) for line in values["lines"]}
    assert lines(ledger) == wanted, "one row has another key, one is gone"
    now = ledger.client.record(record)
    assert (now.values["number"], now.state) == ("FN-1", "approved")
    assert [(each["values"]["number"], each["comment"]) for each in now.before] == [(before.values["number"], "wrong number")]
    assert {each.path for each in done.corrections} >= {"invoice.record.number", "invoice.record.lines[1].description"}
    assert "FN-1" in command(ledger, "records", "show", record)[1]


def test_what_is_found_wrong_with_a_correction_stays_beside_the_record(ledger: Running) -> None:
    _, record = sent(ledger)
    values = {**ledger.client.record(record).values, "total": Decimal("499.00")}
    done = settled(ledger, ledger.client.correct(record, values, "they say so", yes=True)["run_id"])
    assert (done.state, heads(ledger)[0][2]) == ("done", Decimal(499))
    assert any("but Total is 499.00" in each["message"] for each in ledger.client.record(record).findings)


def test_what_a_person_has_corrected_stays_so_when_its_item_is_run_again_from_the_start(ledger: Running) -> None:
    run, record = sent(ledger)
    values = {**ledger.client.record(record).values, "number": "FN-1", "total": Decimal("99.50")}
    settled(ledger, ledger.client.correct(record, values, "wrong", yes=True)["run_id"])
    standing = heads(ledger), lines(ledger)
    for anew in (False, True):
        again = settled(ledger, ledger.client.run_again_from(run, "", anew=anew))
        assert (again.state, again.reason, heads(ledger), lines(ledger)) == ("done", "", *standing)
        assert {each.path for each in again.corrections} >= {"invoice.record.number", "invoice.record.total"}
        assert again.record_id is not None
        now = ledger.client.record(again.record_id)
        assert (now.state, now.values["number"], now.values["total"]) == ("approved", "FN-1", Decimal("99.50"))
        assert [each.id for each in ledger.client.records(record_type="invoice")] == [again.record_id], "the one before counts no longer"
        assert ledger.client.record(record).state == "replaced"
    with pytest.raises(ClientError, match="The record is replaced"):
        ledger.client.correct(record, {**values, "number": "FN-2"})


def test_an_item_that_is_run_again_is_counted_once(ledger: Running) -> None:
    run, record = sent(ledger)
    again = settled(ledger, ledger.client.run_again_from(run, ""))
    assert [each.id for each in ledger.client.records(record_type="invoice")] == [again.record_id]
    assert again.record_id != record
    assert len({each.id for each in ledger.client.records(record_type="invoice", state="replaced")}) == 1
    with ledger.app.database.reading() as connection:
        assert len(records.accepted(connection, "invoice", "", 100)) == 1


def test_a_row_that_was_moved_is_gone_when_a_later_correction_wants_it_no_longer(ledger: Running) -> None:
    _, record = sent(ledger)
    for number in ("FN-1", "FN-2"):
        values = {**ledger.client.record(record).values, "number": number}
        settled(ledger, ledger.client.correct(record, values, "moved", yes=True)["run_id"])
    values = ledger.client.record(record).values
    fewer = {**values, "lines": values["lines"][:1]}
    done = settled(ledger, ledger.client.correct(record, fewer, "two are none", yes=True)["run_id"])
    assert done.state == "done"
    assert list(lines(ledger)) == [fewer["lines"][0]["description"]]
    assert [number for _, number, _ in heads(ledger)] == ["FN-2"]


def test_a_row_that_has_its_first_key_again_is_gone_when_it_is_wanted_no_longer(ledger: Running) -> None:
    _, record = sent(ledger)
    first = str(ledger.client.record(record).values["number"])
    for number in ("FN-1", first):
        values = {**ledger.client.record(record).values, "number": number}
        settled(ledger, ledger.client.correct(record, values, "moved", yes=True)["run_id"])
    assert [number for _, number, _ in heads(ledger)] == [first]
    values = ledger.client.record(record).values
    fewer = {**values, "lines": values["lines"][:1]}
    settled(ledger, ledger.client.correct(record, fewer, "two are none", yes=True)["run_id"])
    assert list(lines(ledger)) == [fewer["lines"][0]["description"]]
    told = ledger.client.take_back_version("ledger", 1)
    ledger.client.take_back_version("ledger", 1, count=told["runs"])
    settled(ledger, next(ledger.client.runs()).id)
    assert (heads(ledger), lines(ledger)) == ([], {})


def test_a_row_that_came_back_to_its_first_key_and_went_on_is_taken_back_with_all_of_its_runs(ledger: Running) -> None:
    _, record = sent(ledger)
    first = str(ledger.client.record(record).values["number"])
    for number in ("FN-1", first, "FN-2"):
        values = {**ledger.client.record(record).values, "number": number}
        last = ledger.client.correct(record, values, "moved", yes=True)["run_id"]
        settled(ledger, last)
    assert len(ledger.client.take_back(last)["items"]) > 0, "a look comes to its end"
    ledger.client.take_back(last, yes=True)
    settled(ledger, last)
    assert [number for _, number, _ in heads(ledger)] == [first], "one alone goes one step back"
    told = ledger.client.take_back_version("ledger", 1)
    ledger.client.take_back_version("ledger", 1, count=told["runs"])
    settled(ledger, last)
    assert (heads(ledger), lines(ledger)) == ([], {})


UNCHECKED = """
metrikon: 1
name: unchecked
intakes: [{kind: upload}]
destinations: {head: {kind: sql, url: "sqlite:///out.db", table: invoices}}
steps:
  - {name: document, read: {file: "${item.file}"}}
  - {name: invoice, extract: {document: "${document}", record_type: invoice}}
  - {name: row, write: {to: head, key: ["${item.id}"], columns: {Vendor: "${invoice.record.vendor}", Number: "${invoice.record.number}", Total: "${invoice.record.total}"}}}
"""


def test_a_record_that_no_step_checks_is_corrected_when_its_run_is_over(ledger: Running) -> None:
    ledger.client.put_flow("unchecked", UNCHECKED)
    run = ledger.client.upload("unchecked", INVOICE, name="invoice.pdf").run_id
    record = ledger.client.wait(run).record_id
    assert record is not None
    assert ledger.client.record(record).state == "read"
    values = {**ledger.client.record(record).values, "total": Decimal("99.50")}
    done = settled(ledger, ledger.client.correct(record, values, "wrong", yes=True)["run_id"])
    assert (done.state, [total for *_, total in heads(ledger)]) == ("done", [Decimal("99.50")])
    assert ledger.client.record(record).state == "approved"


def test_corrections_of_a_written_record_add_up_in_its_row(ledger: Running) -> None:
    run, record = sent(ledger)
    vendor, number, total = heads(ledger)[0]
    first = ledger.client.run_again_from(run, "row", {"checked.record.total": Decimal("99.50")})
    assert settled(ledger, first).state == "done"
    assert heads(ledger) == [(vendor, number, Decimal("99.50"))]
    second = ledger.client.run_again_from(first, "row", {"checked.record.number": "FN-2"})
    assert settled(ledger, second).state == "done"
    assert heads(ledger) == [(vendor, "FN-2", Decimal("99.50"))]
    now = ledger.client.record(record)
    assert (now.values["total"], now.values["number"]) == (Decimal("99.50"), "FN-2"), "exports and sums go by the record"
    assert total != Decimal("99.50")


def test_a_figure_that_is_typed_for_a_run_is_read_as_its_record_type_reads_it_and_shown(ledger: Running) -> None:
    run, record = sent(ledger)
    code, out, err = command(ledger, "runs", "again", run, "--from", "row", "--value", "checked.record.total=1.784,50")
    assert (code, err) == (0, "")
    assert "checked.record.total is now 1,784.50." in out
    newest = out.split()[-3]
    assert settled(ledger, newest).state == "done"
    assert (heads(ledger)[0][2], ledger.client.record(record).values["total"]) == (Decimal("1784.50"), Decimal("1784.50"))
    code, _, err = command(ledger, "runs", "again", newest, "--from", "row", "--value", "checked.record.total=many")
    assert (code, "Total" in err and "many" in err) == (1, True), (code, err)
    code, _, err = command(ledger, "runs", "again", newest, "--from", "row", "--value", "checked.record.totla=5")
    assert (code, "'total' meant" in err) == (1, True), (code, err)


def test_what_somebody_has_set_is_asked_about_and_never_said_to_be_done(ledger: Running) -> None:
    run, record = sent(ledger)
    with sqlite3.connect(ledger.app.home / "out.db") as database:
        database.execute("UPDATE invoices SET total = 7")
    values = {**ledger.client.record(record).values, "due_date": None} | {"total": Decimal("99.50")}
    again = ledger.client.run_again_from(run, "row", {"checked.record.total": Decimal("99.50")})
    found = ledger.client.wait(again)
    assert found.state == "parked"
    assert "Total is 7, the paper says 99.50" in found.reason
    ledger.client.continue_run(again)
    assert ledger.client.wait(again).state == "parked", "it waits for a word"
    assert command(ledger, "runs", "continue", again, "--renew")[0] == 0
    assert settled(ledger, again).state == "done"
    assert heads(ledger)[0][2] == Decimal("99.50")
    assert values["total"] == ledger.client.record(record).values["total"]


def test_what_is_kept_no_longer_is_not_taken_back_blindly(ledger: Running) -> None:
    run, _ = sent(ledger)
    before = lines(ledger)
    ledger.app.database.write(lambda connection: keeping.forget_results(connection, [run], ledger.app.clock.now()))
    told = ledger.client.take_back(run, yes=True)["items"]
    assert told
    assert all("is kept no longer" in each["stays"] for each in told), "somebody may have changed it since: nobody could tell"
    assert ledger.client.take_back_version("ledger", 1)["items"][0]["stays"] == told[0]["stays"]
    assert (lines(ledger), len(heads(ledger))) == (before, 1)


def test_a_corrected_key_that_another_row_holds_is_asked(ledger: Running) -> None:
    run, _ = sent(ledger)
    other = ledger.client.upload("ledger", scenario.document("10-kestrel-seed.pdf"), name="other.pdf").run_id
    assert ledger.client.wait(other).state == "done"
    held = heads(ledger)[1]
    again = ledger.client.run_again_from(run, "row", {"checked.record.number": held[1], "checked.record.vendor": held[0]})
    found = ledger.client.wait(again)
    assert found.state == "parked"
    assert "The row is there with other values" in found.reason
    ledger.client.continue_run(again, otherwise="keep")
    assert settled(ledger, again).state == "done"
    assert heads(ledger) == [held], "the other's row stays as it was; that of the wrong number is gone"


def test_a_run_is_taken_back_and_what_was_changed_since_stays(ledger: Running) -> None:
    run, record = sent(ledger)
    count = len(lines(ledger))
    with sqlite3.connect(ledger.app.home / "out.db") as database:
        database.execute("UPDATE invoices SET total = 7")
    code, out, _ = command(ledger, "runs", "take-back", run)
    assert (code, out.count(": to be taken back.")) == (0, count + 2)
    assert out.endswith("Take it back with --yes.\n")
    assert len(lines(ledger)) == count, "it was only told"
    assert command(ledger, "runs", "take-back", run, "--yes")[0] == 0
    settled(ledger, run)
    assert lines(ledger) == {}
    assert len(heads(ledger)) == 1
    [stays] = [each for each in ledger.client.record(record).deliveries if each["state"] == "written"]
    assert stays["error"] == "It was changed since and stays: Total is 7, the paper says 489.36."
    again = ledger.client.run_again_from(run, "lines")
    assert settled(ledger, again).state == "done"
    assert len(lines(ledger)) == count, "what was taken back may be written again"


def test_a_correction_is_taken_back_to_what_stood_there_before(ledger: Running) -> None:
    run, _ = sent(ledger)
    before = heads(ledger)
    again = ledger.client.run_again_from(run, "row", {"checked.record.number": "FN-3", "checked.record.total": 3})
    assert settled(ledger, again).state == "done"
    assert heads(ledger) == [(before[0][0], "FN-3", Decimal(3))]
    ledger.client.take_back(again, yes=True)
    settled(ledger, again)
    assert heads(ledger) == before
    ledger.client.take_back(run, yes=True)
    settled(ledger, run)
    assert heads(ledger) == []


def test_all_runs_of_a_wrong_version_are_taken_back(ledger: Running) -> None:
    runs = [sent(ledger)[0]]
    runs.append(ledger.client.upload("ledger", scenario.document("10-kestrel-seed.pdf"), name="other.pdf").run_id)
    assert ledger.client.wait(runs[1]).state == "done"
    told = ledger.client.take_back_version("ledger", 1)
    assert (told["runs"], told["done"]) == (2, False)
    with pytest.raises(ClientError, match="There are 2 such runs now, and not 3"):
        ledger.client.take_back_version("ledger", 1, count=3)
    code, out, _ = command(ledger, "runs", "take-back", "--flow", "ledger", "--version", "1", "--yes")
    assert code == 0, out
    for run in runs:
        settled(ledger, run)
    assert (heads(ledger), lines(ledger)) == ([], {})


def marking(service: Running) -> None:
    """The flow, with rows that are marked where they are taken back."""
    service.client.put_flow(
        "ledger", FLOW.replace("            to: lines\n", "            to: lines\n            if_taken_back: {Status: taken back}\n")
    )


def statuses(service: Running) -> list[tuple[str, str]]:
    sheet = load_workbook(service.app.home / "lines.xlsx")["Lines"]
    at = [cell.value for cell in sheet[1]].index("Status") + 1
    return [(str(sheet.cell(row, 2).value), str(sheet.cell(row, at).value or "")) for row in range(2, sheet.max_row + 1)]


def test_a_row_that_is_taken_back_is_marked_where_its_step_says_so_and_gets_its_values_again(ledger: Running) -> None:
    marking(ledger)
    run, _ = sent(ledger)
    before = lines(ledger)
    code, out, _ = command(ledger, "runs", "take-back", run)
    assert (code, "stays, with Status: taken back" in out) == (0, True), out
    assert command(ledger, "runs", "take-back", run, "--yes")[0] == 0
    settled(ledger, run)
    assert heads(ledger) == [], "the other row has no mark"
    assert lines(ledger) == before
    assert {status for _, status in statuses(ledger)} == {"taken back"}
    code, out, _ = command(ledger, "runs", "show", run)
    assert (code, "taken back; the row stays, with Status: taken back" in out) == (0, True), out
    again = ledger.client.run_again_from(run, "row")
    assert settled(ledger, again).state == "done"
    assert len(heads(ledger)) == 1
    assert (lines(ledger), len(statuses(ledger)), {status for _, status in statuses(ledger)}) == (before, len(before), {""})
    ledger.client.take_back(again, yes=True)
    settled(ledger, again)
    assert {status for _, status in statuses(ledger)} == {"taken back"}


def test_a_marked_row_that_somebody_has_set_since_is_left_and_told_when_it_is_written_again(ledger: Running) -> None:
    marking(ledger)
    run, _ = sent(ledger)
    ledger.client.take_back(run, yes=True)
    settled(ledger, run)
    book = load_workbook(ledger.app.home / "lines.xlsx")
    book["Lines"]["C2"] = 7
    book.save(ledger.app.home / "lines.xlsx")
    again = settled(ledger, ledger.client.run_again_from(run, "row"))
    assert 7 in lines(ledger).values(), "what a person has set is left"
    told = next(each for each in again.deliveries if each["left"])
    assert (told["left"], again.state) == (["Amount"], "done")


def test_a_row_that_was_made_by_a_step_which_sets_is_removed_when_it_is_taken_back(ledger: Running) -> None:
    ledger.client.put_flow("ledger", FLOW.replace("            to: lines\n", "            to: lines\n            if_there: update\n"))
    run, _ = sent(ledger)
    assert lines(ledger)
    ledger.client.take_back(run, yes=True)
    settled(ledger, run)
    assert lines(ledger) == {}, "nothing stood there before"


def test_a_correction_that_is_no_value_of_its_field_is_refused_before_anything_is_foreseen(ledger: Running) -> None:
    _, record = sent(ledger)
    code, out, err = command(ledger, "records", "correct", record, "--set", "total=abc")
    assert (code, out) == (1, "")
    assert "The record cannot be corrected so: Total: 'abc' is not of type number" in err


def test_a_setting_of_an_earlier_version_of_which_nothing_was_noted_is_not_said_to_be_taken_back(ledger: Running) -> None:
    run, _ = sent(ledger)
    last = settled(ledger, ledger.client.run_again_from(run, "row", {"checked.record.total": Decimal("99.50")})).id
    ledger.app.database.write(lambda connection: connection.exec_driver_sql("UPDATE deliveries SET before = NULL WHERE purpose = 'set'"))
    ledger.client.take_back(last, yes=True)
    [found] = [each for each in settled(ledger, last).deliveries if each["purpose"] == "set"]
    assert (found["state"], heads(ledger)[0][2]) == ("written", Decimal("99.50"))
    assert "What stood in its columns before is not known" in str(found["error"])


def test_what_cannot_be_corrected_is_told(ledger: Running) -> None:
    _, record = sent(ledger)
    values = ledger.client.record(record).values
    for given, message in (
        (values, "The record holds these values already"),
        ({**values, "totl": 1}, "has no field 'totl'. Is 'total' meant?"),
        ({name: value for name, value in values.items() if name != "number"}, "cannot be corrected so"),
    ):
        with pytest.raises(ClientError) as error:
            ledger.client.correct(record, given, yes=True)
        assert message in str(error.value)
    assert json.loads(command(ledger, "records", "correct", record, "--set", "total=1.00", "--json")[1])["run_id"] == ""


def test_a_row_that_is_there_with_other_values_is_told_and_waits_where_the_step_says_so(ledger: Running, tmp_path: Path) -> None:
    prices = """
metrikon: 1
name: prices
intakes: [{kind: upload}]
destinations: {list: {kind: csv, path: prices.csv, key: [Plant]}}
steps:
  - {name: row, write: {to: list, IF key: ["${item.name}"], columns: {Plant: "${item.name}", Price: "PRICE"}}}
"""
    (ledger.app.home / "prices.csv").write_text("Plant,Price\nfern,38.50\n")

    def run(price: str, how: str = "") -> Any:
        ledger.client.put_flow("prices", prices.replace("PRICE", f"${{{price}}}").replace("IF", how))
        return ledger.client.wait(ledger.client.upload("prices", price.encode(), name="fern").run_id)

    kept = run("41")
    assert (kept.state, kept.reason) == ("done", "The row was there with other values, and was left so: Price is 38.50, the paper says 41.")
    today = next(each for each in ledger.client.today()["flows"] if each["flow"] == "prices")
    assert (today["written"], today["otherwise"]) == (0, 1)
    asked = run("42", "if_there: ask,")
    assert (asked.state, "Price is 38.50, the paper says 42" in asked.reason) == ("parked", True)
    ledger.client.continue_run(asked.id, otherwise="renew")
    assert ledger.client.wait(asked.id).state == "done"
    assert "fern,42" in (ledger.app.home / "prices.csv").read_text()
    assert run("42.0").reason == "", "the same price"


OLDEN = """
metrikon: 1
name: olden
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///olden.db", table: rows}}
steps:
  - {name: row, write: {to: table, key: ["${item.name}"], columns: {Name: "${item.name}", Price: PRICE}}}
"""


def test_a_row_under_a_key_of_an_earlier_version_is_neither_doubled_nor_said_to_be_gone(ledger: Running) -> None:
    def held() -> list[Any]:
        with sqlite3.connect(ledger.app.home / "olden.db") as database:
            return database.execute("SELECT name, price FROM rows").fetchall()

    ledger.client.put_flow("olden", OLDEN.replace("PRICE", "38"))
    run = ledger.client.upload("olden", b"fern", name="fern").run_id
    assert ledger.client.wait(run).state == "done"
    flow = ledger.app.catalog.newest_flow("olden")
    former = f"{ledger.app.workshop.places_of(flow.destinations['table'])[1]}|{by_former_rule(['fern'])}"
    ledger.app.database.write(lambda connection: connection.exec_driver_sql("UPDATE deliveries SET key = ? WHERE run_id = ?", (former, run)))
    with sqlite3.connect(ledger.app.home / "olden.db") as database:
        database.execute("UPDATE rows SET delivery_key = ?", (former,))
    ledger.app.deliveries._adapters.clear()  # as after a start: such keys are looked up once
    ledger.client.put_flow("olden", OLDEN.replace("PRICE", "41"))
    again = settled(ledger, ledger.client.run_again_from(run, ""))
    assert (again.state, held()) == ("done", [("fern", 38)])
    assert "Price is 38, the paper says 41" in again.reason
    ledger.client.take_back(run, yes=True)
    settled(ledger, run)
    [one] = [each for each in ledger.client.run(run).deliveries if each["state"] == "written"]
    assert "cannot take it back" in one["error"]
    assert held() == [("fern", 38)]


def test_runs_are_taken_back_together_with_those_that_corrected_them(ledger: Running) -> None:
    _, record = sent(ledger)
    before = ledger.client.record(record).values
    one = {**before, "total": Decimal("99.50"), "lines": [{**before["lines"][0], "amount": Decimal(7)}, *before["lines"][1:]]}
    settled(ledger, ledger.client.correct(record, one, "set", yes=True)["run_id"])
    other = {**one, "number": "FN-7"}
    last = ledger.client.correct(record, other, "moved", yes=True)["run_id"]
    settled(ledger, last)
    assert [number for _, number, _ in heads(ledger)] == ["FN-7"]
    told = ledger.client.take_back_version("ledger", 1)
    done = ledger.client.take_back_version("ledger", 1, count=told["runs"])
    assert done["done"]
    found = settled(ledger, last)
    assert (heads(ledger), lines(ledger)) == ([], {}), [(each["state"], each["error"]) for each in found.deliveries]
    with ledger.app.database.reading() as connection:
        every = deliveries.of_item(connection, found.item_id)
    assert {each.state for each in every if each.purpose != "look"} == {"taken back"}
    assert not list((ledger.app.home / "papers").iterdir())


def test_what_a_person_has_set_in_a_moved_row_stays_with_all_that_led_to_it(ledger: Running) -> None:
    run, record = sent(ledger)
    values = {**ledger.client.record(record).values, "number": "FN-7"}
    last = ledger.client.correct(record, values, "moved", yes=True)["run_id"]
    settled(ledger, last)
    told = ledger.client.take_back(run)
    assert {each["stays"] for each in told["items"]} == {
        f"The run {last} has corrected it since, and it has another key now. Take that run back first."
    }
    with sqlite3.connect(ledger.app.home / "out.db") as database:
        database.execute("UPDATE invoices SET total = 7")
    ledger.client.take_back_version("ledger", 1, count=ledger.client.take_back_version("ledger", 1)["runs"])
    settled(ledger, last)
    assert [(number, total) for _, number, total in heads(ledger)] == [("FN-7", Decimal(7))]
    assert lines(ledger) == {}
    with ledger.app.database.reading() as connection:
        stands = {each.state for each in deliveries.of_item(connection, ledger.client.run(run).item_id) if each.target == "head"}
        first = [each for each in deliveries.of_run(connection, last) if each.state == "written"]
    assert stands == {"written", "taken back"}
    assert "It was changed since and stays: Total is 7" in str(first[0].error)
