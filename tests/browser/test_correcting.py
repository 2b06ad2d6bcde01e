"""A written record is corrected on its page, what somebody has set meanwhile is decided, and a run is taken back: by hand, as people do it."""

from __future__ import annotations

from selenium.webdriver.common.keys import Keys

from tests.browser.desk import Desk
from tests.helpers import eventually


def test_a_written_record_is_corrected_and_what_a_person_has_set_is_decided(full: Desk) -> None:
    record = next(each for each in full.service.client.records(state="clear") if "total" in each.values)
    number = str(record.values["number"])
    full.go(f"/records/{record.id}")
    full.read("written to")
    full.click("Correct this record")
    full.see('[data-pointer="/number"]').click()
    full.press("e")
    full.see(".field input").send_keys(Keys.CONTROL + "a")
    full.see(".field input").send_keys("NEW-1" + Keys.ENTER)
    full.read("You see what it changes before it is done.")
    full.click("Correct…")
    full.read("is set where it differs")
    full.see("[role=dialog] textarea").send_keys("misread")
    full.click("Correct it, and what came of it")
    full.read("Corrected by gardener")
    eventually(lambda: full.service.client.record(record.id).values["number"] == "NEW-1")
    full.read("written to")
    run = full.service.client.record(record.id).run_id
    assert full.service.client.wait(run).state == "done"
    full.go(f"/arrivals/{record.item_id}")
    full.read("is NEW-1 as gardener corrected it")
    full.click("Take back…")
    full.read("is taken back, unless somebody has changed it since")
    full.click("Take it back")
    eventually(lambda: "taken back" in {each["state"] for each in full.service.client.record(record.id).deliveries})
    eventually(lambda: not {"returning", "entered"} & {each["state"] for each in full.service.client.record(record.id).deliveries})
    assert number != "NEW-1"
    assert full.complaints() == []


PRICES = """
metrikon: 1
name: prices
intakes: [{kind: upload}]
destinations: {list: {kind: csv, path: prices.csv, key: [Plant]}}
steps:
  - {name: row, write: {to: list, if_there: ask, key: ["${item.name}"], columns: {Plant: "${item.name}", Price: 41}}}
"""


def test_what_is_there_with_other_values_is_shown_with_both_sides_and_decided(full: Desk) -> None:
    prices = full.service.app.home / "prices.csv"
    prices.write_text("Plant,Price\nfern,38.50\n")
    full.service.client.put_flow("prices", PRICES)
    run = full.service.client.upload("prices", b"fern", name="fern").run_id
    assert full.service.client.wait(run).state == "parked"
    full.go(f"/arrivals/{full.service.client.run(run).item_id}")
    full.read("This is there already, with other values.")
    shown = full.text()
    assert "38.5" in shown
    assert "41" in shown
    full.click("Set it as this run has it")
    eventually(lambda: full.service.client.run(run).state == "done")
    assert "fern,41" in prices.read_text()
