"""The flows of the demo that write outside: each comes to its end with the stand-ins, once."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import ExitStack
from pathlib import Path

import pytest

from metrikon.app.assemble import App
from metrikon.app.settings import Settings
from metrikon.cli.demo_outside import connect, outside
from metrikon.client import Client, ServiceError
from metrikon.core.values.delimited import rows_of
from metrikon.demo import scenario
from metrikon.sandbox.services import Services
from metrikon.service.auth import add_token
from metrikon.service.serving import Server
from tests.helpers import at_rest


class Demo:
    """A service whose flows have done their work with the stand-ins."""

    def __init__(self, home: Path, services: Services) -> None:
        self.world = services.world
        self.app = App(Settings(home=home, port=0, fetch_private=True, stop_seconds=5))
        self.app.catalog.put_record_type("invoice", scenario.invoice_type())
        connect(self.app, services)
        self.server = Server(self.app)
        self.server.start()
        self.client = Client(self.server.url, add_token(self.app, "tests")[1])
        assert at_rest(self.app, 5, 90) == {"done": 5}

    def end(self) -> None:
        self.client.close()
        self.server.close()


@pytest.fixture(scope="module")
def demo(tmp_path_factory: pytest.TempPathFactory) -> Iterator[Demo]:
    with outside(0) as services, ExitStack() as stack:
        made = Demo(tmp_path_factory.mktemp("demo") / "home", services)
        stack.callback(made.end)
        yield made


def test_tours_become_contacts_tasks_and_messages_and_their_rows_say_so(demo: Demo) -> None:
    world = demo.world
    contacts = {each["email"].lower(): each["phone"] for each in world.records.contacts.values()}
    assert contacts == {
        "ada.fenwick@mail.example": "+433165550134",
        "jorge@ibarra.example": "+34600555017",
        "linnea.brook@mail.example": "+436645550123",
    }
    assert len(world.records.contacts) == 3, "who asks twice is one contact"
    assert sorted(each["title"] for each in world.records.tasks.values())[0] == "Answer Ada Fenwick: a tour for 12 on 2026-05-09"
    assert len(world.records.tasks) == len(world.chat.rooms["!tours:sandbox"].events) == 4
    heads, *rows = rows_of((demo.app.home / "bookings" / "tours.csv").read_bytes())
    assert heads[-2:] == ["Contact", "Task"]
    assert [row[0] for row in rows] == ["T-301", "T-302", "T-303", "T-304"]
    assert rows[0][-2] == rows[3][-2] != rows[1][-2]


def test_an_invoice_is_typed_into_the_old_program_with_its_paper(demo: Demo) -> None:
    [entered] = demo.world.accounts.invoices
    assert (entered["number"], entered["vendor"], entered["total"]) == ("FN-20417", "Fernhill Nurseries", "407.80")
    assert entered["paper"] == scenario.document(scenario.TO_ENTER)


def test_what_goes_out_by_steps_is_told_of_a_flow_and_a_way_in_names_its_connection(demo: Demo) -> None:
    goes = {each["name"]: each["goes"] for each in demo.client.flows()}
    assert goes["old-ledger"] == ["a program’s screen (old-ledger)"]
    assert goes["tour-bookings"] == ["contacts of crm", "tasks of crm", "the file bookings/tours.csv", "the room #tours:sandbox"]
    assert {each["name"]: each["flows"] for each in demo.client.connections()} == {
        "accounts": ["old-ledger"],
        "chat": ["tour-bookings"],
        "crm": ["tour-bookings"],
    }
    with pytest.raises(ServiceError, match="The connection accounts is named by old-ledger"):
        demo.client.remove_connection("accounts")


def test_the_demo_starts_anew_with_other_stand_ins_and_repeats_nothing(demo: Demo) -> None:
    demo.end()
    with outside(0) as others:
        again = Demo(demo.app.home, others)
        try:
            assert again.world.records.contacts == {}
        finally:
            again.end()
