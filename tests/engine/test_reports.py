"""A month's report from end to end: totals of what was written and of records, in the currency of the house, drawn, put into a document, saved."""

from __future__ import annotations

import csv
import hashlib
import io
import socket
import sqlite3
from collections.abc import Callable, Iterator
from decimal import Decimal
from pathlib import Path
from typing import Any

import docx as office
import pypdfium2
import pytest

from metrikon.app.assemble import App
from metrikon.core.flows.connecting import Way
from metrikon.core.flows.problems import BadFlow
from metrikon.demo import report_template, scenario
from metrikon.sandbox.services import Services
from metrikon.store import journal, keeping, records
from tests.helpers import at_rest, eventually, run_state

ROWS = [
    ("2026-09-30", "Seeds", "99.00", "EUR"),
    ("2026-10-02", "Seeds", "12.50", "EUR"),
    ("2026-10-03", "Tools", "109.00", "USD"),  # a Saturday
    ("2026-10-31", "Seeds", "3.05", "EUR"),
    ("2026-11-01", "Tools", "7.00", "EUR"),
]
SUMS = "in: ledger, date: Date, from: 2026-10-01, until: 2026-10-31, by: [Category], sum: [Total]"
HOME = "home: {into: EUR, currency: Currency, rates: {connection: money, path: days.xml}}"


@pytest.fixture
def outside() -> Iterator[Services]:
    services = Services().start()
    yield services
    services.stop()


@pytest.fixture
def app(house: Callable[..., App], outside: Services) -> App:
    app = house(fetch_private=True)
    app.connections.put("money", f"{outside.url}/rates", Way("none"), None, "ada")
    with (app.home / "ledger.csv").open("w", newline="") as out:
        csv.writer(out).writerows([("Date", "Category", "Total", "Currency", "delivery_key"), *((*row, f"k{at}") for at, row in enumerate(ROWS))])
    app.engine.start()
    return app


def _run(app: App, steps: str, state: str = "done") -> str:
    app.catalog.put_flow(
        f"metrikon: 1\nname: report\nintakes: [{{kind: upload}}]\ndestinations: {{ledger: {{kind: csv, path: ledger.csv}}}}\nsteps:\n{steps}"
    )
    data = hashlib.sha256(steps.encode()).digest()  # another file each time
    run = str(app.arrivals.take("report", "upload", steps, "go.bin", data).run_id)
    ends = {state, "parked"}
    eventually(lambda: run_state(app, run)[0] in ends)
    assert run_state(app, run)[0] == state, run_state(app, run)
    return run


def _result(app: App, run: str, step: str) -> Any:
    with app.database.reading() as connection:
        return next(entry.data["result"] for _, entry in journal.load(connection, run) if entry.event == "done" and entry.path == step)


def test_rows_of_a_period_are_summed_by_category_exactly(app: App) -> None:
    found = _result(app, _run(app, f"- {{name: month, tally: {{{SUMS}}}}}"), "month")
    assert found["rows"] == [
        {"Category": "Seeds", "count": 2, "Total": Decimal("15.55")},
        {"Category": "Tools", "count": 1, "Total": Decimal("109.00")},
    ]
    assert (found["count"], found["sums"], found["without_day"]) == (3, {"Total": Decimal("124.55")}, 0)


def test_amounts_are_turned_into_the_currency_of_the_house_at_the_rate_of_their_own_day(app: App) -> None:
    found = _result(app, _run(app, f"- {{name: month, tally: {{{SUMS}, {HOME}}}}}"), "month")
    [rate] = found["rates"]
    assert (rate["currency"], rate["day"]) == ("USD", "2026-10-02"), "a Saturday has no rate: the last before it"
    tools = (Decimal(109) * rate["rate"]).quantize(Decimal("0.01"))
    assert found["rows"][1]["Total"] == tools
    assert found["sums"]["Total"] == Decimal("15.55") + tools
    step = "- {name: turned, convert: {amount: 109, currency: usd, on: 2026-10-03, into: EUR, tax: 9, rates: {connection: money, path: days.xml}}}"
    one = _result(app, _run(app, step), "turned")
    assert (one["amount"], one["day"]) == (tools, "2026-10-02")
    assert one["said"].endswith("EUR on 2026-10-02, the last before 2026-10-03.")
    assert (one["before_tax_there"], one["before_tax"]) == (Decimal("100.00"), (Decimal(100) * rate["rate"]).quantize(Decimal("0.01")))


def test_rates_that_do_not_answer_are_asked_again_and_a_day_without_one_is_told(app: App, outside: Services) -> None:
    outside.world.failing.set("busy", 1, 1)
    step = "- {name: turned, convert: {amount: 1, currency: USD, on: 2026-10-02, into: EUR, rates: {connection: money, path: days.xml}}, retry: {attempts: 3, wait: 0.1}}"
    _run(app, step)
    run = _run(app, step.replace("2026-10-02", "1998-01-01"), "parked")
    assert "no rate of 1998-01-01 or before" in run_state(app, run)[1]
    run = _run(app, step.replace("days.xml", "nothing.xml"), "parked")
    assert "404" in run_state(app, run)[1]


def test_approved_records_are_summed_with_their_lines_and_waiting_ones_are_not(app: App) -> None:
    with app.database.reading() as connection:
        assert records.accepted(connection, "invoice", "", 5) == []
    run = _run(app, "- {name: one, set: {a: 1}}")
    with app.database.reading() as connection:
        item = connection.exec_driver_sql("SELECT item_id FROM runs WHERE id = ?", (run,)).scalar()
    for number, state in enumerate(("clear", "approved", "waits", "refused", "read")):
        values = {
            "date": f"2026-10-0{number + 1}",
            "currency": "EUR",
            "lines": [{"description": "Fern", "amount": Decimal("1.10")}, {"description": "Moss", "amount": number}],
        }
        row: dict[str, Any] = {
            "id": f"r{number}",
            "run_id": run,
            "item_id": item,
            "path": f"p{number}",
            "record_type": "invoice",
            "type_version": 1,
            "state": state,
            "document": "",
            "model": "",
            "title": "",
            "words": "",
            "values": values,
            "evidence": {},
            "findings": [],
            "changes": [],
            "as_read": {},
        }
        app.database.write(lambda connection, row=row: records.put(connection, row, 1))  # type: ignore[misc]
    found = _result(
        app, _run(app, "- {name: month, tally: {records: invoice, each: lines, by: [description], sum: [amount], date: date, per: month}}"), "month"
    )
    assert found["rows"] == [
        {"description": "Fern", "period": "2026-10", "count": 2, "amount": Decimal("2.20")},
        {"description": "Moss", "period": "2026-10", "count": 2, "amount": Decimal(1)},
    ]


def _template(app: App) -> Path:
    made = office.Document()
    made.add_paragraph("Report for ${month_name}, made on ${run.today}")
    made.add_paragraph("${prose}")
    table = made.add_table(rows=1, cols=2)
    table.cell(0, 0).text, table.cell(0, 1).text = "${line.Category}", "${line.Total} EUR"
    made.add_paragraph("${drawing}")
    place = app.home / "templates" / "report.docx"
    place.parent.mkdir()
    made.save(str(place))
    return place


REPORT = f"""- {{name: month, tally: {{{SUMS}, {HOME}}}}}
- {{name: drawing, chart: {{rows: "${{month.rows}}", along: Category, amount: Total, title: "Spending, October", unit: EUR}}}}
- name: report
  compose:
    template: templates/report.docx
    values: {{month_name: October, prose: "${{string(month.count)}} papers."}}
    rows: {{line: "${{month.rows}}"}}
    pictures: {{drawing: "${{drawing.png}}"}}
    name: Report ${{run.today}}.docx
- {{name: kept, save: {{file: "${{report.file}}", to: "reports/${{report.name}}"}}}}
"""


def test_a_report_is_made_from_a_template_with_totals_and_a_chart_and_saved(app: App) -> None:
    _template(app)
    run = _run(app, REPORT)
    (place,) = (app.home / "reports").iterdir()
    assert place.name == f"Report {_result(app, run, 'report')['name'].split()[1]}"
    made = office.Document(str(place))
    assert [each.text for each in made.paragraphs][1] == "3 papers."
    total = _result(app, run, "month")["rows"][1]["Total"]
    assert [cell.text for row in made.tables[0].rows for cell in row.cells] == ["Seeds", "15.55 EUR", "Tools", f"{total} EUR"]
    assert len(made.inline_shapes) == 1


def test_a_hole_without_a_value_is_told_before_anything_is_made(app: App) -> None:
    _template(app)
    run = _run(app, REPORT.replace("month_name: October, ", "").replace(', prose: "', 'prose: "'), "parked")
    assert "${month_name} has no value, so that no document was made" in run_state(app, run)[1]
    assert not (app.home / "reports").exists()


def test_a_page_becomes_a_pdf_and_fetches_nothing(app: App) -> None:
    place = app.home / "templates" / "letter.html"
    place.parent.mkdir()
    listening = socket.create_server(("127.0.0.1", 0))
    listening.settimeout(0.2)
    place.write_text(
        f'<p>Dear ${{person}},</p><img src="http://127.0.0.1:{listening.getsockname()[1]}/a.png"><img src="file:///etc/passwd"><p>${{prose}}</p>'
    )
    run = _run(
        app, '- {name: letter, compose: {template: templates/letter.html, values: {person: "Ada <b>", prose: "All\\nis well."}, name: letter.pdf}}'
    )
    data = app.files.get(_result(app, run, "letter")["file"])
    text = pypdfium2.PdfDocument(io.BytesIO(data))[0].get_textpage().get_text_range()
    assert "Dear Ada <b>," in text
    assert "root:" not in text
    with pytest.raises(TimeoutError):
        listening.accept()
    listening.close()


def test_files_that_steps_made_go_with_the_results_of_their_run_but_not_what_another_holds(app: App) -> None:
    chart = '- {name: drawing, chart: {rows: "${[{a: 1, b: 2}]}", along: a, amount: b}}\n'
    one, other = _run(app, chart), _run(app, f"{chart}- {{name: more, set: {{a: 1}}}}")
    made = set(_result(app, one, "drawing").values()) - {"Chart"}
    assert made == set(_result(app, other, "drawing").values()) - {"Chart"}, "the same rows give the same files"
    with app.database.reading() as connection:
        assert keeping.packed_in(connection, [one]) == set()
        assert keeping.packed_in(connection, [one, other]) == made
        item = [row[0] for row in connection.exec_driver_sql("SELECT item_id FROM runs")]
    assert all(app.files.here(each) for each in made)
    app.forgetting.forget(item, "ada")
    assert not any(app.files.here(each) for each in made)


@pytest.mark.parametrize(
    ("step", "told"),
    [
        ("tally: {in: nowhere}", "There is no destination 'nowhere'"),
        ("tally: {in: ledger, of: x}", "give one of `in`"),
        ("tally: {in: ledger, per: month}", "say in `date`"),
        ("tally: {records: invoice, by: [vendro]}", "no field 'vendro'"),
        ("tally: {in: ledger, date: D, home: {into: EUR, currency: C, rates: {connection: nothing}}}", "There is no connection 'nothing'"),
        ("chart: {rows: x, along: a, amount: b}", "no list of rows"),
        ('compose: {template: a.docx, name: "a.pdf"}', "ends with .docx"),
        ('compose: {template: a.txt, name: "a.txt"}', "A template is a DOCX, ODT or HTML file"),
    ],
)
def test_what_is_wrong_is_told_when_the_flow_is_kept(app: App, step: str, told: str) -> None:
    with pytest.raises(BadFlow, match=told):
        _run(app, f"- {{name: one, {step}}}")


def test_a_row_that_is_no_number_or_has_no_currency_stops_the_total(app: App) -> None:
    with (app.home / "ledger.csv").open("a") as out:
        out.write("2026-10-05,Seeds,a dozen,EUR,k9\n")
    run = _run(app, f"- {{name: month, tally: {{{SUMS}}}}}", "parked")
    assert "Total holds 'a dozen', which is no number" in run_state(app, run)[1]
    run = _run(app, f"- {{name: month, tally: {{{SUMS}, most: 2}}}}", "parked")
    assert "more than 2 rows" in run_state(app, run)[1]
    at_rest(app, 2)


def test_the_garden_s_report_of_a_month_is_made_from_its_own_template(app: App) -> None:
    flow, name, template = scenario.report()
    (app.home / "templates").mkdir()
    (app.home / "templates" / name).write_bytes(template)
    with sqlite3.connect(app.home / "ledger.db") as ledger:
        ledger.execute("CREATE TABLE invoice_lines (delivery_key TEXT PRIMARY KEY, vendor TEXT, currency TEXT, date DATE, amount NUMERIC)")
        ledger.executemany(
            "INSERT INTO invoice_lines VALUES (?, ?, 'EUR', ?, ?)",
            [("a", "Fernhill", "2026-04-02", 12.5), ("b", "Fernhill", "2026-04-30", 1.6), ("c", "Moorgate", "2026-05-01", 9)],
        )
    app.catalog.put_flow(flow)
    run = str(app.arrivals.take("month-report", "upload", "m", "2026-04.txt", b"go").run_id)
    eventually(lambda: run_state(app, run)[0] == "done")
    made = office.Document(str(app.home / "reports" / "Report 2026-04-01.docx"))
    assert "From 2026-04-01 to 2026-04-30. 2 lines of 1 suppliers are in the ledger." in [each.text for each in made.paragraphs]
    assert [cell.text for cell in made.tables[0].rows[1].cells] == ["Fernhill", "2", "14.10", "EUR"]
    assert report_template.template() == template, "the maker makes what ships"
