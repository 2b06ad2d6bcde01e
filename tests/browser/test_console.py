"""The console in a real browser, as people use it."""

from __future__ import annotations

import json
from collections.abc import Callable
from decimal import Decimal
from pathlib import Path

import httpx
import pytest
from selenium import webdriver
from selenium.webdriver.common.actions.action_builder import ActionBuilder
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from metrikon.demo import scenario
from metrikon.sandbox.model_server import ModelServer
from metrikon.transcription.local import LocalTranscriber
from metrikon.transcription.pieces import Heard
from tests.browser.conftest import signed_in
from tests.browser.desk import Desk
from tests.helpers import Running, at_rest, eventually, states

BROKEN_WHY = "cannot be read"


def open_waiting(desk: Desk) -> None:
    desk.go("/today")
    desk.see("a.line").click()
    desk.see(".paper img")
    desk.see(".ev.on")


def test_a_wrong_password_is_told_and_the_right_one_lets_in(desk: Desk) -> None:
    desk.click("Sign out")
    desk.see("[name=name]").send_keys("gardener")
    desk.see("[name=password]").send_keys("wrong" + Keys.ENTER)
    desk.read("The name or the password is not right.")
    desk.see("[name=password]").send_keys(Keys.CONTROL + "a" + Keys.NULL, "glasshouse lane" + Keys.ENTER)
    desk.read("Today")


def test_an_empty_house_says_what_to_do_first(desk: Desk) -> None:
    desk.go("/today")
    desk.read("Nothing has come in yet")
    for place, said in (("/arrivals", "Nothing has come in yet"), ("/records", "No record was read yet"), ("/desk", "Nothing waits for you")):
        desk.go(place)
        desk.read(said)
    assert desk.complaints() == []


def test_items_arrive_while_one_looks(desk: Desk) -> None:
    desk.go("/arrivals")
    desk.read("Nothing has come in yet")
    desk.service.client.upload(scenario.FLOW, scenario.folder() / "documents" / "01-fernhill-nurseries.pdf")
    desk.read("01-fernhill-nurseries.pdf")
    desk.read("written", 20)


def test_today_tells_what_waits_and_what_became_of_the_rest(full: Desk) -> None:
    full.go("/today")
    full.read("1 thing for you")
    full.read("Net + Tax comes to 489.36, but Total is 499.36: a difference of 10.00.")
    full.read("5 came, 2 written, 1 waits for you, 1 with nothing to write, 1 refused.")
    assert full.complaints() == []


def test_arrivals_are_filtered_and_searched(full: Desk) -> None:
    full.go("/arrivals")
    eventually(lambda: len(full.all("a.line")) == 5)
    full.click("refused")
    eventually(lambda: len(full.all("a.line")) == 1)
    full.read(BROKEN_WHY)
    full.click("everything")
    full.see("[aria-label='Filter by file or value']").send_keys("moorgate")
    eventually(lambda: len(full.all("a.line")) == 1)
    assert "2026/0871" in full.text()


def test_an_item_opens_on_its_run_with_every_step(full: Desk) -> None:
    full.go("/arrivals")
    full.click("01-fernhill-nurseries.pdf")
    full.read("supplier-invoices")
    names = eventually(lambda: [each.text.split()[0] for each in full.all("button.step .clip b")])
    assert names == ["started", "document", "invoice", "checked", "lines"]
    full.read("6 of 6 steps done")
    full.all("button.step")[2].click()
    full.read("result.record.vendor")
    full.click("raw")
    full.read('"asked": 1')
    assert full.complaints() == []


def test_a_refused_file_says_why(full: Desk) -> None:
    full.go("/arrivals")
    full.click("13-broken-file.pdf")
    full.read("It is broken or cut off; ask the sender for a new one.")
    full.read("refused")


def test_every_value_is_marked_where_it_stands(full: Desk) -> None:
    open_waiting(full)
    assert full.active() == "/total"
    full.see('[data-pointer="/number"]').click()
    mark = eventually(lambda: full.see(".ev.on") if full.see(".ev.on").get_attribute("title") == "number" else None)
    page = full.see(".paper").rect
    word = mark.rect
    assert 0.05 < (word["x"] - page["x"]) / page["width"] < 0.3
    assert 0.25 < (word["y"] - page["y"]) / page["height"] < 0.42
    full.browser.execute_script("document.querySelector('.ev[title=date]').click()")
    eventually(lambda: full.active() == "/date")
    assert full.complaints() == []


def test_a_record_is_corrected_and_approved_by_keyboard_alone(full: Desk) -> None:
    open_waiting(full)
    full.press("k")
    assert full.active() == "/currency"
    full.press("j")
    assert full.active() == "/total"
    full.press("e")
    editor = full.see(".field input")
    editor.send_keys("489,36" + Keys.ENTER)
    full.read("499.36 was read")
    full.read("Nothing found wrong.")
    full.press("u")
    full.read("1 finding left")
    full.press("e")
    full.see(".field input").send_keys("489.36" + Keys.ENTER)
    full.read("Nothing found wrong.")
    full.press("a")
    eventually(lambda: states(full.service.app) == {"done": 3, "stopped": 1, "refused": 1})
    full.read("Nothing waits for you")
    (record,) = full.service.client.records(state="approved")
    assert str(record.values["total"]) == "489.36"
    full.go(f"/records/{record.id}")
    full.read("6 rows written")


def test_a_value_is_taken_by_drawing_over_its_words(full: Desk) -> None:
    open_waiting(full)
    full.see('[data-pointer="/order_number"]').click()
    full.press("e")
    full.see(".field input")
    frame = full.browser.execute_script("const r = document.querySelector('.paper').getBoundingClientRect(); return [r.x, r.y, r.width, r.height]")
    number = full.service.client.record(next(iter(full.service.client.records(state="waits"))).id).evidence["/number"]["box"]
    x, y = (frame[0] + float(number[0]) / 595.3 * frame[2], frame[1] + float(number[1]) / 841.9 * frame[3])
    actions = ActionBuilder(full.browser)
    actions.pointer_action.move_to_location(int(x) - 4, int(y) - 3).pointer_down().move_to_location(int(x) + 50, int(y) + 14).pointer_up()
    actions.perform()
    eventually(lambda: full.see(".field input").get_attribute("value") == "BN-4471")


def test_a_row_is_edited_and_its_sum_follows(full: Desk) -> None:
    open_waiting(full)
    cell = full.see('[data-pointer="/lines/0/amount"]')
    full.browser.execute_script("arguments[0].scrollIntoView({block: 'center'})", cell)
    cell.click()
    full.press("e")
    full.see("td.cell input").send_keys("107.00" + Keys.ENTER)
    full.read("417.80")
    full.read("10.00 apart from what is printed")
    full.press("u")
    full.read("agrees")


def test_a_record_is_refused_with_a_reason(full: Desk) -> None:
    open_waiting(full)
    full.press("r")
    full.see("[role=dialog] textarea").send_keys("their sum is wrong")
    full.browser.find_element(By.CSS_SELECTOR, "[role=dialog] button[type=submit]").click()
    eventually(lambda: states(full.service.app)["refused"] == 2)
    (run,) = full.service.client.runs(state="refused", item=next(iter(full.service.client.items(search="brackendale"))).id)
    assert run.reason == "Refused by gardener: their sum is wrong"


def test_a_reader_looks_on_and_is_told_what_it_takes_to_act(full: Desk) -> None:
    full.service.client.put_person("another", role="admin", password="orchid house 4")
    full.service.client.put_person("gardener", role="reader")
    open_waiting(full)
    full.read("To correct, approve or refuse it takes the role reviewer.")
    assert "gardener, reader" in full.text()
    full.press("a")
    full.press("e")
    assert full.all(".acts button, .field input") == []
    assert states(full.service.app)["review"] == 1


def test_the_keys_of_a_page_are_listed(full: Desk) -> None:
    open_waiting(full)
    full.press("?")
    full.read("Keys of this page")
    full.read("accept the value and go on")


def test_search_jumps_to_a_record_by_its_number(full: Desk) -> None:
    full.go("/today")
    full.read("thing for you")
    full.press("/")
    full.see("[aria-label=Search]").send_keys("FN-204")
    full.see(".found button")
    full.see("[aria-label=Search]").send_keys(Keys.ENTER)
    full.read("Fernhill Nurseries Ltd · FN-20417")
    full.see(".paper img")


def test_records_are_sorted_and_exported(full: Desk) -> None:
    full.go("/records")
    eventually(lambda: len(full.all("tbody tr")) == 4)
    full.click("What")
    first = "return (document.querySelector('tbody tr')?.innerText ?? '').trim()"  # in one go: rows are drawn anew meanwhile
    eventually(lambda: full.browser.execute_script(first).startswith("Brackendale"))
    full.click("What")
    eventually(lambda: full.browser.execute_script(first).startswith("Moorgate"))
    full.click("waits for you")
    eventually(lambda: len(full.all("tbody tr")) == 1)
    address = full.see("a[href*='records.csv']").get_attribute("href")
    cookies = {each["name"]: each["value"] for each in full.browser.get_cookies()}
    text = httpx.get(str(address), cookies=cookies, trust_env=False).text
    assert text.splitlines()[0].startswith("record,state,file,document_type")
    assert len(text.splitlines()) == 4


def test_the_page_of_an_item_tells_how_much_of_its_recording_was_heard(full: Desk, tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> None:
    heard = Heard(tmp_path / "heard")
    heard.begin()
    heard.keep({"piece": 0, "of": 4, "until": 119.5, "language": "en", "segments": []})
    monkeypatch.setattr(full.service.app, "transcriber", LocalTranscriber(tmp_path, kept=lambda name: heard.place))
    waiting = next(iter(full.service.client.records(state="waits"))).item_id
    full.go(f"/arrivals/{waiting}")
    assert full.see("progress").get_attribute("aria-label") == "Heard 1:59 of the recording, piece 1 of 4."
    assert "the run goes on after it" in full.see("main").text


def test_a_cell_opens_its_evidence(full: Desk) -> None:
    full.go("/records")
    eventually(lambda: [link for link in full.all("a[href*='field=/total']") if link.text])[0].click()
    full.see(".ev.on")
    assert full.active() == "/total"


def test_the_pages_hold_at_a_narrow_width_and_in_the_dark(full: Desk) -> None:
    full.click("Dark")
    full.browser.execute_cdp_cmd("Emulation.setDeviceMetricsOverride", {"width": 390, "height": 800, "deviceScaleFactor": 1, "mobile": False})
    try:
        waiting = next(iter(full.service.client.records(state="waits"))).id
        for place in ("/today", "/desk", "/arrivals", "/records", f"/records/{waiting}"):
            full.go(place)
            full.see("h1")
            eventually(lambda: full.browser.execute_script("return document.documentElement.scrollWidth <= 392"), 5)
        ink = full.browser.execute_script("return getComputedStyle(document.body).backgroundColor")
        assert ink == "rgb(16, 23, 22)"
    finally:
        full.browser.execute_cdp_cmd("Emulation.clearDeviceMetricsOverride", {})
        full.browser.execute_script("localStorage.clear()")


def test_a_service_that_went_away_is_told_and_found_again(full: Desk) -> None:
    full.go("/today")
    full.read("thing for you")
    full.service.client.upload(scenario.FLOW, b"more", name="late.txt")
    at_rest(full.service.app, 6)
    full.read("6 came")


def test_a_run_shows_the_stages_of_its_reading(full: Desk) -> None:
    full.go("/arrivals")
    full.see("a.line")
    next(each for each in full.all("a.line") if "01-fernhill" in each.text).click()
    full.see("button.step")
    next(each for each in full.all("button.step") if "extract" in each.text).click()
    assert "The pattern reader reads the whole record." in full.see("table.stages").text


def test_a_record_type_is_edited_as_a_table_and_kept_as_a_new_version(full: Desk) -> None:
    full.go("/setup")
    full.see("a.typeline").click()
    meaning = full.see('input[aria-label="meaning of due_date"]')
    meaning.send_keys(Keys.CONTROL + "a")
    meaning.send_keys("The last day on which it may be paid.")
    full.see('input[aria-label="due_date is required"]').click()
    eventually(lambda: "works with it as it stands here" in full.text())
    next(each for each in full.all("button") if "Keep as a new version" in each.text).click()
    (kept,) = eventually(lambda: [each for each in full.service.client.record_types() if each["version"] == 2])
    schema = json.loads(kept["text"])
    assert schema["properties"]["due_date"]["description"] == "The last day on which it may be paid."
    assert "due_date" in schema["required"]
    assert schema["x-metrikon"]["sums"] == json.loads(scenario.invoice_type())["x-metrikon"]["sums"]


def test_a_record_type_is_started_from_a_file_that_came_in(full: Desk) -> None:
    full.go("/setup/record-types/new")
    full.see("button.typeline")
    next(each for each in full.all("button.typeline") if "01-fernhill" in each.text).click()
    full.see('input[aria-label="Name"]')
    names = [each.get_attribute("value") for each in full.all('input[aria-label="Name"]')]
    assert {"invoice_no", "total"} <= set(names)


def test_the_record_page_tells_what_a_document_carries(desk: Desk) -> None:
    sent = desk.service.client.upload(scenario.FLOW, scenario.post_folder() / "55-invoice-with-its-xml.pdf")
    record = desk.service.client.wait(sent.run_id, 90).record_id
    desk.go(f"/records/{record}")
    desk.see(".carried summary").click()
    assert "TB-2026-119" in desk.see(".carried table").text
    assert "factur-x.xml" in desk.see(".carried").text


def test_a_list_is_kept_from_a_file_and_can_be_looked_into(desk: Desk, tmp_path: Path) -> None:
    (tmp_path / "cards.csv").write_text("card,account\n4471,5200 Collecting trips\n", "utf-8")
    desk.go("/setup")
    desk.read("There is no list yet.")
    desk.see('input[placeholder="vendors"]').send_keys("cards")
    desk.all('input[type="file"]')[-1].send_keys(str(tmp_path / "cards.csv"))
    desk.read("The list cards now holds 1 value.")
    desk.click("cards")
    assert "4471,5200 Collecting trips" in desk.see(".prompt pre").text
    assert desk.service.client.lists() == [{"name": "cards", "count": 1, "columns": ["card", "account"]}]


def test_what_a_record_type_says_besides_is_told_in_sentences_and_edited_as_text(full: Desk) -> None:
    full.go("/setup/record-types/invoice")
    full.read("Due date must not lie before date.")
    full.click("edit as text")
    area = full.see("textarea")
    text = json.loads(str(area.get_attribute("value")))
    area.send_keys("x")
    full.click("Use this text")
    full.read("That is no JSON yet")
    text["properties"]["vendor"]["x-metrikon"]["list"] = "vendors"
    full.paste(area, json.dumps(text))
    full.click("Use this text")
    full.read("Vendor must be on the list vendors.")
    full.click("Undo")
    eventually(lambda: "Vendor must be on the list" not in full.text())


def test_a_value_that_a_list_says_follows_the_value_beside_it(desk: Desk) -> None:
    desk.service.client.put_list("vendors", "vendor,account\nFernhill Nurseries Limited,5100 Plants\nMoorgate Seed,5110 Seed\n")
    kind = json.loads(scenario.invoice_type())
    kind["properties"]["vendor"]["x-metrikon"]["list"] = "vendors"
    kind["properties"]["account"] = {"type": "string", "x-metrikon": {"lookup": {"list": "vendors", "by": "/vendor", "column": "account"}}}
    desk.service.client.put_record_type("invoice", json.dumps(kind))
    sent = desk.service.client.upload(scenario.FLOW, scenario.folder() / "documents" / "01-fernhill-nurseries.pdf")
    record = desk.service.client.wait(sent.run_id, 90).record_id or ""
    desk.go(f"/records/{record}")
    desk.read("is not on the list vendors. Is Fernhill Nurseries Limited meant?")
    for vendor, account in (("Fernhill Nurseries Limited", "5100 Plants"), ("Moorgate Seed", "5110 Seed")):
        desk.see('.field[data-pointer="/vendor"]').click()
        desk.press("e")
        desk.see(".field input").send_keys(vendor + Keys.ENTER)
        eventually(lambda account=account: account in desk.see('.field[data-pointer="/account"]').text)  # type: ignore[misc]
    assert "said by a list: Moorgate Seed on the list vendors" in desk.text()
    desk.click("Approve")
    eventually(lambda: desk.service.client.record(record).state == "approved")
    assert desk.service.client.record(record).values["account"] == "5110 Seed"


def test_a_trial_tells_what_a_person_had_to_correct(full: Desk) -> None:
    full.go("/setup/trials")
    full.read("Nothing was tried yet")
    (waiting,) = full.service.client.records(state="waits")
    amounts = [line["amount"] for line in waiting.values["lines"]]
    sums = {"net": sum(amounts, Decimal(0)), "total": sum(amounts, waiting.values["tax"])}
    full.service.client.approve(waiting.id, {**waiting.values, **sums, "order_number": "EBG-9999"})
    full.click("Begin")
    full.read("1 of 1 record")
    full.read("By field")
    assert "EBG-9999" not in full.text()
    full.see("button.tried").click()
    full.read("EBG-9999")
    assert full.see("figure.sure svg").get_attribute("aria-label")
    full.go("/setup/trials")
    assert "1 of 1 record" in full.see("a.trialline").text
    full.read("order_number")  # how complete the fields were, week by week
    assert full.complaints() == []


SLIPS = """
metrikon: 1
name: slips
intakes:
  - kind: upload
destinations:
  table: {kind: xlsx, path: slips.xlsx, sheet: Slips}
steps:
  - name: document
    read: {}
  - name: slip
    extract: {document: "${document}", record_type: slip}
  - name: verdict
    check: {record: "${slip}"}
  - name: row
    write: {to: table, key: ["${verdict.record.number}"], columns: {motto: "${verdict.record.motto}"}}
"""


def test_what_the_model_was_unsure_of_is_offered_beside_an_empty_field(
    browser: webdriver.Chrome, running: Callable[..., Running], stand_in: ModelServer, tmp_path: Path
) -> None:
    desk = signed_in(browser, running(model_url=stand_in.url, model_name="stand-in"))
    client = desk.service.client
    fields = {"number": {"type": "string"}, "motto": {"type": ["string", "null"], "description": "Motto of the house"}}
    client.put_record_type("slip", json.dumps({"type": "object", "title": "Slip", "properties": fields, "required": ["number"]}))
    client.put_flow("slips", SLIPS)
    stand_in.mood.answer, stand_in.mood.unsure = {"number": "S-41", "motto": "Ferns first"}, ("motto",)
    slip = tmp_path / "slip.txt"
    slip.write_text("Ellerby Garden\nFerns first\n\nNumber   S-41\n")
    record = client.wait(client.upload("slips", slip).run_id, 90).record_id or ""
    desk.go(f"/records/{record}?field=/motto")
    desk.read("Take “Ferns first”")
    desk.see('.field[data-pointer="/number"]').click()
    desk.press("e")
    desk.see(".field input").send_keys("S-42" + Keys.ENTER)
    desk.read("S-41 was read")
    desk.see('.field[data-pointer="/motto"]').click()
    desk.read("Take “Ferns first”")  # another field was corrected meanwhile
    desk.press("t")
    desk.read("Nothing found wrong.")
    assert "Take “" not in desk.text()
    desk.press("a")
    eventually(lambda: client.record(record).values["motto"] == "Ferns first")


def test_a_run_is_cancelled_with_a_reason_and_run_anew(full: Desk) -> None:
    full.go("/arrivals")
    full.click("09-brackendale-wrong-sum.pdf")
    full.click("Cancel…")
    full.see('[role="dialog"] textarea').send_keys("sent twice")
    full.click("Cancel the run")
    full.read("Cancelled by gardener: sent twice")
    assert list(full.service.client.records(state="waits")) == []
    full.click("Run it again")
    full.read("waits for you")
