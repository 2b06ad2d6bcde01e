"""Ways in, in the console: shown once on pictures of the program, looked over, tried, kept; pictures of each press stand in the run."""

from __future__ import annotations

import json
from collections.abc import Callable

from selenium import webdriver
from selenium.webdriver.common.by import By
from selenium.webdriver.common.keys import Keys

from metrikon.sandbox.accounts import PASSWORD, USER
from metrikon.sandbox.services import Services
from tests.browser.conftest import signed_in
from tests.browser.desk import Desk
from tests.helpers import Running, eventually

SAMPLE = {
    "number": "FN-7",
    "vendor": "Moorgate Seed",
    "date": "2026-03-04",
    "lines": [{"part": "MS-110", "told": "Seed", "count": "2", "price": "4.00"}],
}


class Shown:
    """A person who shows a way in: points at the picture where things stand in the program, and says what is done."""

    def __init__(self, desk: Desk, service: Running) -> None:
        self.desk, self.service = desk, service

    def point(self, label: str, kind: str) -> None:
        """Point at the middle of a thing, as one sees it on the picture."""
        (show,) = self.service.app.showing._shown.values()
        find = "const r = metrikon.find({label: arguments[0], near: '', row: '', path: ''}, arguments[1])[0].getBoundingClientRect(); return [r.left + r.width / 2, r.top + r.height / 2];"
        if kind == "text":
            find = "const r = [...document.querySelectorAll('body *')].filter((each) => each.children.length === 0 && each.textContent.trim() === arguments[0])[0].getBoundingClientRect(); return [r.left + 5, r.top + r.height / 2];"
        x, y = show.screen._screen._run(find, label, kind)
        picture = self.desk.see(".showing img")
        script = """
const [image, x, y] = arguments; const box = image.getBoundingClientRect();
image.dispatchEvent(new MouseEvent('click', {bubbles: true, clientX: box.left + x * box.width / image.naturalWidth, clientY: box.top + y * box.height / image.naturalHeight}));
"""
        self.desk.browser.execute_script(script, picture, x, y)

    def type(self, label: str, text: str) -> None:
        """Type into a field."""
        self.point(label, "field")
        self.desk.read(f"Type into “{label}”")
        self.desk.see(".showing aside form input").send_keys(text, Keys.ESCAPE)
        self.done("Type it")

    def choose(self, label: str, text: str, otherwise: str) -> None:
        """Choose in a list."""
        self.point(label, "list")
        self.desk.read(f"Choose in “{label}”")
        fields = self.desk.all(".showing aside form input:not([type=hidden])")
        for each, wanted in zip(fields, (text, otherwise), strict=True):
            each.click()
            each.send_keys(*([wanted] if each is fields[0] else []))
            option = next(one for one in self.desk.all("[role=option]") if one.is_displayed() and one.text.startswith(wanted))
            option.click()
        self.done("Choose that")

    def press(self, label: str, *, last: bool = False) -> None:
        """Press a button; or keep it as the last press."""
        self.point(label, "button")
        if last:
            self.desk.see(".showing input[type=checkbox]").click()
        self.done(f"Keep “{label}” as the last press" if last else f"Press “{label}”")

    def done(self, button: str) -> None:
        """Press a button of the console, and wait until that is done."""
        before = self.desk.see(".showing pre").text
        self.desk.click(button)

        eventually(lambda: self.desk.see(".showing pre").text != before)


def test_a_way_in_is_shown_once_tried_and_kept_and_a_flow_enters_by_it(browser: webdriver.Chrome, running: Callable[..., Running]) -> None:
    service, services = running(fetch_private=True), Services().start()
    try:
        service.client.put_connection("accounts", f"{services.url}/accounts", way="basic", user=USER, secret=PASSWORD)
        desk = signed_in(browser, service)
        desk.go("/setup")
        desk.read("There is no way in yet")
        desk.click("Show one")
        desk.see("input[placeholder^='A connection that signs in']").send_keys(Keys.ARROW_DOWN, Keys.ARROW_DOWN, Keys.ENTER)
        desk.see("input[placeholder='invoices/new']").send_keys("invoices/new")
        sample = desk.see("#show-values")
        sample.clear()
        sample.send_keys(json.dumps(SAMPLE))
        desk.click("Open it")
        desk.see(".showing img")
        shown = Shown(desk, service)
        shown.done("Sign in by the connection")
        shown.type("Invoice number", "FN-7")
        shown.choose("Vendor", "Moorgate Seed", "Miscellaneous")
        shown.type("Invoice date", "2026-03-04")
        desk.click("What follows is for each of lines")
        desk.read("That was a whole row")
        shown.press("Add row")
        shown.choose("Part", "MS-110", "MISC")
        shown.type("Quantity", "2")
        shown.type("Price", "4.00")
        desk.click("That was a whole row")
        shown.press("Save", last=True)
        assert services.world.accounts.pressed == 0, "the last press is kept, not done"
        desk.click("Show how it is looked for")
        shown.done("Open it")
        desk.read("You show how one sees that it is there already")
        shown.type("Search", "FN-7")
        shown.press("Find")
        shown.point("Nothing found", "text")
        desk.read("The text that tells")
        shown.done("It stands there when there is none")
        tells = desk.see(".showing aside form input")
        tells.send_keys(Keys.CONTROL, "a")
        tells.send_keys("FN-7")
        shown.done("It stands there when it is there")
        desk.click("That is how it is looked for")
        desk.read("Show anew how it is looked for")
        desk.click("Look it over and keep it")
        text = desk.see("textarea.wayin")
        made = str(text.get_property("value"))
        assert 'with: "${number}"' in made
        assert 'there: "${number}"' in made
        assert "none: Nothing found" in made
        assert made.count("sign_in:") == 2, "whoever looks first signs in"
        assert "row: last" in made
        assert "otherwise: MISC" in made
        named = made.replace("way: shown", "way: old-ledger").replace("MS-110 Wild flower seed, 1 kg", "${line.part}")
        browser.execute_script(
            "const set = Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set; set.call(arguments[0], arguments[1]);"
            "arguments[0].dispatchEvent(new Event('input', {bubbles: true}));",
            text,
            named,
        )
        desk.click("Keep it")
        desk.read("It is kept as version 1")
        desk.see("#way-values").send_keys(json.dumps(SAMPLE))
        desk.click("Try it")
        desk.read("It went up to the last press, which was not done", 60)
        assert services.world.accounts.pressed == 0
        values = ", ".join(f'{name}: "${{item.data.{name}}}"' for name in SAMPLE)
        service.client.put_flow(
            "books",
            f'metrikon: 1\nname: books\nintakes: [{{kind: upload}}]\nsteps:\n- {{name: booked, enter: {{way: old-ledger, key: ["${{item.name}}"], values: {{{values}}}}}}}\n',
        )
        arrived = service.app.arrivals.begin("books", "upload", "k", "bill.txt", b"bill", about=SAMPLE, in_row=False).result()
        eventually(lambda: service.client.run(str(arrived.run_id)).state == "done", 60)
        assert services.world.accounts.invoices[0]["total"] == "8.00"
        again = service.app.arrivals.begin("books", "upload", "k2", "bill2.txt", b"bill once more", about=SAMPLE, in_row=False).result()
        eventually(lambda: service.client.run(str(again.run_id)).state == "done", 60)
        assert len(services.world.accounts.invoices) == 1, "it was seen that it is there"
        desk.go(f"/arrivals/{arrived.item_id}")
        desk.see("button.step")
        next(each for each in desk.all("button.step") if "booked" in each.text).click()
        picture = desk.see(".seen img")
        eventually(lambda: browser.execute_script("return arguments[0].naturalWidth", picture) == 1280)
        assert [each.text for each in browser.find_elements(By.CSS_SELECTOR, ".seen figcaption")][-1] == "after Press “Save”"
        assert desk.complaints() == []
    finally:
        services.stop()
