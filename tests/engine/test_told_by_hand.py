"""Operations of a service that a person tells, one at a time: they are like any others, and are kept with them."""

from __future__ import annotations

from collections.abc import Iterator
from io import StringIO
from pathlib import Path
from typing import Any

import pytest
from hypothesis import given
from hypothesis import strategies as st

from metrikon.cli import main
from metrikon.client import ClientError
from metrikon.core.flows.connecting import Way
from metrikon.core.services.description import description
from metrikon.core.services.telling import Takes, ToldOperation, with_operation, without_operation
from metrikon.sandbox.records import DESCRIPTION, TOKEN
from metrikon.sandbox.services import Services
from tests.helpers import Running, eventually, run_state

names = st.from_regex(r"[a-z]{1,8}(\.[a-z]{1,6}){0,2}", fullmatch=True)
takes = st.builds(
    Takes,
    name=names,
    kind=st.sampled_from(["text", "number", "yes/no", "date", "date and time", "list", "context"]),
    wanted=st.booleans(),
)


@given(st.lists(takes, max_size=8, unique_by=lambda each: each.name.split(".")[0]), st.sampled_from(["POST", "PUT", "PATCH"]))
def test_what_is_told_is_what_the_description_says(given_: list[Takes], method: Any) -> None:
    made = description(with_operation(None, "makeTask", ToldOperation(method=method, path="/tasks/{id}", about="Make one", takes=given_), "crm"))
    one = made.operations["makeTask"]
    assert (one.method, one.path, one.about) == (method, "/tasks/{id}", "Make one")
    found = {each.name: (each.place, each.kind, each.wanted) for each in one.fields}
    assert found["id"] == ("path", "text", True) or any(each.name == "id" for each in given_)
    for each in given_:
        if each.name != "id":
            assert found[each.name] == ("body", each.kind, each.wanted)


def test_an_operation_stands_beside_those_of_a_description_and_goes_again() -> None:
    told = ToldOperation(method="DELETE", path="/tasks/{id}", about="Take one away")
    both = with_operation(DESCRIPTION, "removeTask", told, "")
    assert description(both).operations.keys() == description(DESCRIPTION).operations.keys() | {"removeTask"}
    assert without_operation(both, "removeTask") == DESCRIPTION
    again = with_operation(both, "removeTask", ToldOperation(method="POST", path="/tasks/{id}/remove"), "")
    assert description(again).operations["removeTask"].method == "POST"
    assert len(description(again).operations) == len(description(both).operations)


def test_what_cannot_be_is_told() -> None:
    with pytest.raises(ValueError, match="GET has no body"):
        ToldOperation(method="GET", path="/tasks", takes=[Takes(name="title", place="body")])
    with pytest.raises(ValueError, match="does not name"):
        ToldOperation(method="GET", path="/tasks", takes=[Takes(name="id", place="path")])


@pytest.fixture
def services() -> Iterator[Services]:
    made = Services().start()
    yield made
    made.stop()


def _command(service: Running, *words: str) -> str:
    out, err = StringIO(), StringIO()
    code = main([*words, "--url", service.url, "--token", service.token], out, err)
    assert code == 0, err.getvalue()
    return out.getvalue()


FLOW = """metrikon: 1
name: callers
intakes: [{kind: upload}]
destinations:
  tasks: {kind: service, connection: crm, records: tasks}
steps:
- {name: made, write: {to: tasks, key: ["${item.name}"], columns: {title: "Call ${item.name} back", priority: high}}}
"""


def test_a_service_without_a_description_is_written_to_by_what_was_told_of_it(running: Any, services: Services, tmp_path: Path) -> None:
    service: Running = running(fetch_private=True)
    service.app.connections.put("crm", f"{services.url}/records", Way("bearer"), TOKEN, "ada", "contacts")
    with pytest.raises(ClientError, match="tell its operations"):
        service.client.connection_description("crm")
    told = _command(service, "connections", "operation", "crm", "addTask", "--call", "POST /tasks", "--needs", "title", "--takes", "priority")
    assert "addTask" in told
    service.client.note_connection("crm", {"records": {"tasks": {"create": "addTask", "once_header": "Idempotency-Key"}}})
    service.client.put_flow("callers", FLOW)
    run = str(service.app.arrivals.take("callers", "upload", "a", "Ada", b"a").run_id)
    eventually(lambda: run_state(service.app, run)[0] == "done")
    assert [(each["title"], each["priority"]) for each in services.world.records.tasks.values()] == [("Call Ada back", "high")]
    with pytest.raises(ClientError, match="the only operation"):
        service.client.remove_operation("crm", "addTask")
    service.client.tell_operation("crm", "listTasks", {"method": "GET", "path": "/tasks"})
    with pytest.raises(ClientError, match="named in the notes"):
        service.client.remove_operation("crm", "addTask")
    assert "listTasks" not in _command(service, "connections", "operation", "crm", "listTasks", "--remove").partition("Notes")[0]
