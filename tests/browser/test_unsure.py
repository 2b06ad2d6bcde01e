"""A write that may have gone out: the run shows what was sent, and a person says whether it is there."""

from __future__ import annotations

import json
from collections.abc import Callable

from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from metrikon.core.flows.connecting import Way
from metrikon.sandbox.records import DESCRIPTION, TOKEN
from metrikon.sandbox.services import Services
from tests.browser.conftest import signed_in
from tests.helpers import Running, eventually, run_state

FLOW = """metrikon: 1
name: visitors
about: People who asked for a tour become contacts.
intakes: [{kind: upload}]
destinations:
  contacts: {kind: service, connection: crm, records: contacts}
steps:
- {name: contact, write: {to: contacts, key: ["${item.name}"], columns: {email: "ada@mail.example", name: "Ada Fenwick", visits: 2}}}
"""


def test_what_may_have_gone_out_is_shown_and_settled_by_keyboard(browser: object, running: Callable[..., Running]) -> None:
    services = Services().start()
    try:
        service = running(fetch_private=True)
        app = service.app
        app.connections.put("crm", f"{services.url}/records", Way("bearer"), TOKEN, "ada", "contacts")
        app.describing.put("crm", json.dumps(DESCRIPTION).encode())
        find = {"operation": "listContacts", "by": {"email": "email"}, "records": "data"}
        app.describing.note("crm", {"records": {"contacts": {"create": "makeContact", "find": find}}})
        app.catalog.put_flow(FLOW)
        services.world.failing.set("lost", 1.0, 1)
        arrived = app.arrivals.take("visitors", "upload", "a", "call of 4 May.txt", b"a tour for twelve")
        eventually(lambda: run_state(app, arrived.run_id)[0] == "parked")
        desk = signed_in(browser, service)  # type: ignore[arg-type]
        desk.browser.get(f"{service.url}/arrivals/{arrived.item_id}")
        shown = desk.see("section[aria-label='What may have gone out']")
        assert "This may have gone out, or not." in shown.text
        assert "ada@mail.example" in shown.text
        desk.read("In contacts 1 record is like it now.")
        rows = {each.find_element(By.TAG_NAME, "th").text: each.text for each in desk.all("section[aria-label='What may have gone out'] tbody tr")}
        assert (rows["email"], rows["visits"]) == ("email ada@mail.example ada@mail.example", "visits 2 2")
        assert "Continue from the step" not in desk.see("main").text
        services.world.records.contacts.clear()
        desk.click("Look again")
        desk.read("In contacts nothing is like it now.")
        services.world.records.contacts["1"] = {"id": "1", "email": "ada@mail.example", "made_at": 0}
        shown = desk.see("section[aria-label='What may have gone out']")
        button = next(each for each in shown.find_elements(By.TAG_NAME, "button") if each.text == "It is there: go on")
        button.send_keys(Keys.ENTER)
        eventually(lambda: run_state(app, arrived.run_id)[0] == "done")
        assert len(services.world.records.contacts) == 1
    finally:
        services.stop()


FIRST = """metrikon: 1
name: visitors
about: Visitors of the day become rows.
intakes: [{kind: upload}]
destinations:
  list: {kind: csv, path: visitors.csv}
steps:
- {name: row, write: {to: list, key: ["${item.name}"], show_first: true, columns: {Name: "${item.name}", Town: "${null}"}}}
"""


def test_the_first_row_is_looked_at_column_by_column_and_lets_those_behind_it_go(browser: object, running: Callable[..., Running]) -> None:
    service = running()
    app = service.app
    app.catalog.put_flow(FIRST)
    runs = [app.arrivals.take("visitors", "upload", name, name, name.encode()) for name in ("Ada", "Bo")]
    eventually(lambda: all(run_state(app, each.run_id)[0] == "parked" for each in runs))
    desk = signed_in(browser, service)  # type: ignore[arg-type]
    first, behind = sorted(runs, key=lambda each: "It waits behind" in run_state(app, each.run_id)[1])
    desk.browser.get(f"{service.url}/arrivals/{behind.item_id}")
    assert "waits behind the first one" in desk.see("section[aria-label='The first row']").text
    desk.browser.get(f"{service.url}/arrivals/{first.item_id}")
    shown = desk.see("section[aria-label='The first row']")
    assert [each.text for each in shown.find_elements(By.TAG_NAME, "tr")] == [f"Name {'Ada' if first is runs[0] else 'Bo'}", "Town no value"]
    assert "Continue from the step" not in desk.see("main").text
    button = next(each for each in shown.find_elements(By.TAG_NAME, "button") if each.text == "Write it, and those behind it")
    button.send_keys(Keys.ENTER)
    eventually(lambda: all(run_state(app, each.run_id)[0] == "done" for each in runs))
    assert len((app.home / "visitors.csv").read_text().splitlines()) == 3
    assert desk.complaints() == []
