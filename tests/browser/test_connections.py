"""Connections in the console: made with a secret that is never shown again, tested, changed without the secret, removed."""

from __future__ import annotations

import json
from collections.abc import Callable

from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from metrikon.sandbox.records import TOKEN
from metrikon.sandbox.services import Services
from tests.browser.conftest import signed_in
from tests.helpers import Running, eventually


def test_a_connection_is_made_tested_changed_and_removed(browser: webdriver.Chrome, running: Callable[..., Running]) -> None:
    desk = signed_in(browser, running(fetch_private=True))
    service = desk.service

    def fill(label: str, text: str) -> None:
        field = desk.browser.find_element(By.XPATH, f'//form//label[starts-with(normalize-space(.), "{label}")]/following::input[1]')
        field.send_keys(Keys.CONTROL + "a")
        field.send_keys(text)

    desk.go("/setup")
    desk.read("There is no connection yet.")
    desk.click("Make a connection")
    desk.see("form[aria-label=Connection]")
    fill("Name", "own")
    fill("Address", service.url)
    fill("Secret", "saffron-17")
    fill("What it is tested by", "health")
    desk.click("Keep and test it")
    desk.read("answered 200")
    assert "saffron-17" not in desk.browser.page_source
    desk.click("Change")
    desk.read("Secret (left empty: as before)")
    fill("What it is tested by", "api/items")
    desk.click("Keep and test it")
    desk.read("fails since")
    eventually(lambda: service.client.connection("own")["failing_since"])
    desk.go("/today")
    desk.read("The connection own fails since")
    desk.go("/setup")
    desk.click("Remove")
    desk.read("There is no connection yet.")
    assert service.client.connections() == []
    assert desk.complaints() == []


def test_a_service_is_described_and_its_notes_are_looked_over_and_confirmed(browser: webdriver.Chrome, running: Callable[..., Running]) -> None:
    service, services = running(fetch_private=True), Services().start()
    try:
        service.client.put_connection("crm", f"{services.url}/records", way="bearer", secret=TOKEN)
        desk = signed_in(browser, service)
        desk.go("/setup")
        desk.click("records")
        desk.read("It is not described")
        desk.click("Ask it")
        desk.read("These notes are a guess")
        desk.read("waits for a person when its writing was cut off")
        notes = desk.see("textarea[aria-label='Notes of crm']")
        told = json.loads(str(notes.get_property("value")))
        assert told["records"]["contacts"]["create"] == "makeContact"
        told["records"]["contacts"]["key_field"], told["records"]["contacts"]["found_within"] = "external_id", 5
        told["records"]["contacts"]["find"]["by"]["external_id"] = "external_id"
        script = "const set = Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set; set.call(arguments[0], arguments[1]); arguments[0].dispatchEvent(new Event('input', {bubbles: true}));"
        browser.execute_script(script, notes, json.dumps(told))
        desk.click("Confirm the notes")
        desk.read("is looked for before it is made again")
        assert service.client.connection_description("crm")["notes"]["records"]["contacts"]["found_within"] == 5
        browser.execute_script(script, desk.see("textarea[aria-label='Notes of crm']"), '{"records": {"contacts": {"create": "makeContct"}}}')
        desk.click("Confirm the notes")
        desk.read("no operation 'makeContct'")
    finally:
        services.stop()


def test_an_operation_is_told_by_hand_where_there_is_no_description(browser: webdriver.Chrome, running: Callable[..., Running]) -> None:
    service, services = running(fetch_private=True), Services().start()
    try:
        service.client.put_connection("crm", f"{services.url}/records", way="bearer", secret=TOKEN, probe="contacts")
        desk = signed_in(browser, service)
        desk.go("/setup")
        desk.click("records")
        desk.read("It is not described.")
        desk.click("Tell an operation by hand")
        form = desk.see("form[aria-label='Tell an operation']")
        named = form.find_elements(By.CSS_SELECTOR, "input:not([type=hidden])")
        named[0].send_keys("addTask")
        form.find_element(By.CSS_SELECTOR, "input[placeholder='/tasks/{id}']").send_keys(Keys.CONTROL, "a")
        form.find_element(By.CSS_SELECTOR, "input[placeholder='/tasks/{id}']").send_keys("/tasks")
        form.find_element(By.CSS_SELECTOR, "input[placeholder='title']").send_keys("title", Keys.ENTER)
        desk.read("1 operation.")
        told = service.client.connection_description("crm")["operations"]
        assert [(each["name"], each["method"], each["path"]) for each in told] == [("addTask", "POST", "/tasks")]
        assert [(each["name"], each["kind"], each["wanted"]) for each in told[0]["fields"]] == [("title", "text", True)]
    finally:
        services.stop()
