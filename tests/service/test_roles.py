"""Whoever is signed in can spoil only what is theirs to spoil."""

from __future__ import annotations

import io
from collections.abc import Callable
from pathlib import Path

import httpx
import pytest

from metrikon.app.assemble import App
from metrikon.cli import main
from metrikon.client import Client, NotAllowed, Refused, ServiceError
from metrikon.demo import scenario
from metrikon.service.roles import ROLES, known_operations, may
from metrikon.service.web import create
from tests.engine.test_keeping import LaterClock
from tests.helpers import Running

Start = Callable[..., Running]
PAPER = scenario.document("01-fernhill-nurseries.pdf")
OPEN = {"session.sign_in", "session.sign_out"}


def test_every_operation_that_changes_something_has_a_role(house: Callable[..., App]) -> None:
    rules = [rule for rule in create(house()).url_map.iter_rules() if str(rule).startswith("/api/")]
    changing = {rule.endpoint for rule in rules if (rule.methods or set()) & {"POST", "PUT", "PATCH", "DELETE"}}
    assert changing - OPEN <= known_operations(), "one without needs an admin"
    assert known_operations() <= {rule.endpoint for rule in rules}, "what is gone is named no more"


def test_roles_hold_what_those_before_them_hold() -> None:
    assert not may("nobody", "items.list_items", looks_only=True)
    for operation in known_operations():
        allowed = [role for role in ROLES[1:] if may(role, operation, looks_only=False)]
        assert allowed == list(ROLES[ROLES.index(allowed[0]) :]), operation
    assert not may("builder", "something.new", looks_only=False)


def test_each_role_does_its_part_and_no_more(running: Start) -> None:
    service = running()
    clients = {role: Client(service.url, service.client.add_token(role, role)["secret"]) for role in ROLES}
    sent = clients["upload"].upload(scenario.FLOW, PAPER, name="a.pdf")
    assert clients["upload"].wait(sent.run_id).state == "done"
    beyond: dict[str, Callable[[Client], object]] = {
        "upload": lambda each: each.today(),
        "reader": lambda each: each.continue_parked(),
        "reviewer": lambda each: each.put_flow(scenario.FLOW, scenario.flow_text()),
        "builder": lambda each: each.add_token("more", "admin"),
    }
    for role, act in beyond.items():
        wanted = ROLES[ROLES.index(role) + 1]
        with pytest.raises(NotAllowed, match=rf"Your role is {role}; this takes the role {wanted}\. Ask an admin"):
            act(clients[role])
        act(clients[wanted])
    for each in clients.values():
        each.close()


def test_a_token_ends_on_its_day(house: Callable[..., App], running: Start) -> None:
    service = running(clock=LaterClock())
    made = service.client.add_token("for a week", "reader", days=7)
    with Client(service.url, made["secret"]) as brief:
        assert brief.today()["empty"]
        service.app.clock.ahead = 8 * 86_400_000  # type: ignore[attr-defined]
        with pytest.raises(NotAllowed, match="not known here, or has ended"):
            brief.today()


def test_people_come_and_go_while_the_service_runs(running: Start) -> None:
    service = running()
    client = service.client
    made = client.put_person("ida wren", role="reader")
    with httpx.Client(base_url=service.url) as http:
        answer = http.post("/api/session", json={"name": "ida wren", "password": made["password"]})
        assert answer.json()["role"] == "reader"
        csrf = {"X-CSRF-Token": answer.json()["csrf"]}
        assert http.post("/api/runs/continue", headers=csrf).status_code == 403
        client.put_person("ida wren", role="reviewer")
        assert http.post("/api/runs/continue", headers=csrf).status_code == 200, "the role counts from the next request on"
        client.drop_person("ida wren")
        assert http.get("/api/today").status_code == 401, "sessions end at once"
    assert [each["name"] for each in client.people()] == ["gardener"]
    for last in (lambda: client.drop_person("gardener"), lambda: client.put_person("gardener", role="builder")):
        with pytest.raises(Refused, match="Nobody would be left who may let others in"):
            last()


def command(home: Path, *arguments: str) -> str:
    out, err = io.StringIO(), io.StringIO()
    assert main([*arguments, "--home", str(home)], out, err) == 0, err.getvalue()
    return out.getvalue()


@pytest.mark.parametrize("runs", [True, False])
def test_people_tokens_and_places_are_kept_by_command_whether_the_service_runs_or_not(running: Start, tmp_path: Path, runs: bool) -> None:
    if runs:
        service = running()
        home = service.app.home
        from metrikon.cli.service import local_access

        local_access(service.app, service.url)
    else:
        home = tmp_path / "resting"
    first = command(home, "people", "add", "tam")
    assert first.startswith("tam can sign in with the password ")
    assert first.endswith("as a reviewer.\n" if runs else "as an admin.\n")
    command(home, "people", "add", "ida", "--role", "builder")
    assert "ida can sign in, as a reader." in command(home, "people", "add", "ida", "--role", "reader")
    command(home, "people", "remove", "ida")
    assert "ida" not in command(home, "people", "list")
    assert command(home, "tokens", "add", "sheet", "--role", "upload", "--days", "30").startswith("mk_")
    listed = command(home, "tokens", "list")
    assert "upload" in listed
    token_id = next(line.split()[0] for line in listed.splitlines() if " sheet " in line)
    command(home, "tokens", "remove", token_id)
    assert "sheet" not in command(home, "tokens", "list")
    assert "this command" not in command(home, "tokens", "list")
    assert command(home, "places", "allow", "/srv/garden", "--why", "the office") == "Flows may touch /srv/garden.\n"
    assert "the office" in command(home, "places", "list")
    command(home, "places", "refuse", "/srv/garden")
    assert "the folder of the service alone" in command(home, "places", "list")


def test_a_new_person_needs_a_password_to_come_in(running: Start) -> None:
    service = running()
    with pytest.raises(ServiceError):
        service.client.put_person("ida", password="short")
    assert [each["name"] for each in service.client.people()] == ["gardener"]
