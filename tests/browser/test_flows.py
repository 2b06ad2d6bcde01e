"""Flows in the console: read as a list, checked while they are typed, kept in versions; questions answered at the desk by keyboard."""

from __future__ import annotations

from selenium.webdriver.common.keys import Keys

from metrikon.demo import scenario
from tests.browser.desk import Desk
from tests.helpers import eventually


def requested(desk: Desk, *names: str) -> None:
    """The demo's second flow, with some of its notes."""
    client = desk.service.client
    kind, table, flow = scenario.requests_texts()
    client.put_record_type("order_request", kind)
    client.put_decision_table("approvals", table)
    client.put_flow(scenario.REQUESTS, flow, "the first")
    for name, data in scenario.requests():
        if name in names:
            client.upload(scenario.REQUESTS, data, name=name)


def test_a_flow_is_read_as_a_numbered_list_with_what_each_step_gave(desk: Desk) -> None:
    requested(desk, "R-101.txt")
    eventually(lambda: [run.state for run in desk.service.client.runs(state="done")])
    desk.go("/flows")
    desk.read("files in the folder requests, files that are sent → the sheet Orders of orders.xlsx")
    desk.press("j")
    desk.click("order-requests")
    desk.read("Ask the decision table approvals for amount = checked.record.amount")
    desk.read('When it is "later":')
    desk.read("outcome nobody")
    desk.read("number R-101, asked_by Tam Birch")
    assert [each.text for each in desk.all("ol.reading .count") if each.text] == ["1", "2", "3", "4", "5", "6", "6.1", "7"]
    desk.click("paused")
    desk.read("What comes in waits, and no run is worked on.")
    eventually(lambda: desk.service.client.flow(scenario.REQUESTS)["paused"])
    assert desk.complaints() == []


def test_the_text_of_a_flow_is_checked_while_it_is_typed_and_kept_as_a_new_version(desk: Desk) -> None:
    requested(desk)
    desk.go(f"/flows/{scenario.REQUESTS}")
    desk.read("Make the file that came in readable.")
    desk.press("t")
    desk.read("Nothing is wrong with it.")
    text = desk.see("textarea")
    wrong = scenario.requests_texts()[2].replace("to: book", "to: bok")
    put = "const set = Object.getOwnPropertyDescriptor(HTMLTextAreaElement.prototype, 'value').set; set.call(arguments[0], arguments[1]); arguments[0].dispatchEvent(new Event('input', {bubbles: true}))"
    desk.browser.execute_script(put, text, wrong)
    desk.read("There is no destination 'bok' in this flow. Is 'book' meant?")
    assert not desk.all("button:not([disabled])[data-keep]")
    desk.click("There is no destination")
    chosen = desk.browser.execute_script("const t = arguments[0]; return t.value.slice(t.selectionStart, t.selectionEnd)", text)
    assert chosen.startswith("to: bok")
    desk.browser.execute_script(put, text, wrong.replace("to: bok", "to: book").replace("Not this year", "Next year"))
    desk.read("Nothing is wrong with it.")
    desk.see("input[data-why]").send_keys("kinder words")
    desk.click("Keep it as version 2")
    eventually(lambda: desk.service.client.flow(scenario.REQUESTS)["version"] == 2)
    desk.click("versions")
    desk.read("“kinder words”")
    desk.read("The step order has options/2/label Next year instead of Not this year.")
    assert desk.complaints() == []


def test_questions_are_answered_at_the_desk_by_keyboard_alone(desk: Desk) -> None:
    requested(desk, "R-102.txt", "R-103.txt")
    client = desk.service.client
    eventually(lambda: len(client.questions()) == 2)
    desk.go("/desk")
    desk.read("2 things wait for you")
    desk.press(Keys.ENTER)
    desk.read("be ordered?")
    desk.read("Amount")
    first = desk.browser.current_url.rpartition("/")[2]
    desk.press("2")
    desk.read("wants a comment; say why.")
    desk.see("textarea[data-comment]").send_keys("We have two.")
    desk.browser.execute_script("document.activeElement.blur()")
    desk.press("2")
    eventually(lambda: [each["id"] for each in client.questions(state="answered")] == [first])
    second = client.questions()[0]
    eventually(lambda: second["id"] in desk.browser.current_url)
    desk.press("1")
    eventually(lambda: not client.questions())
    desk.read("Nothing waits for you.")
    eventually(lambda: sorted(run.state for run in client.runs(flow=scenario.REQUESTS)) == ["done", "stopped"])
    assert desk.complaints() == []
