"""What reads untrusted bytes holds no secret, reaches no network and is held to limits; what the service keeps is its user's alone."""

from __future__ import annotations

import os
import socket
import subprocess
import sys
from collections.abc import Callable
from pathlib import Path

import pytest

from metrikon.app.assemble import App
from metrikon.demo import scenario
from metrikon.drivers.reading import ReaderPool
from metrikon.drivers.surroundings import cut_off, environment
from metrikon.store.own import is_own
from tests.helpers import at_rest

PAPER = scenario.document("01-fernhill-nurseries.pdf")


def confined(code: str) -> subprocess.CompletedProcess[str]:
    """Some code in a process that is confined as those that read are."""
    command = [sys.executable, "-c", f"from metrikon.drivers.confined import confine\nalone = confine()\n{code}"]
    return subprocess.run(command, env=environment(300), capture_output=True, text=True, check=False)


def test_it_gets_no_secret(monkeypatch: pytest.MonkeyPatch, tmp_path: Path) -> None:
    monkeypatch.setenv("METRIKON_MODEL_KEY", "hush-1234")
    monkeypatch.setenv("AWS_SECRET_ACCESS_KEY", "hush-1234")
    pool = ReaderPool(1)
    (tmp_path / "a.pdf").write_bytes(PAPER)
    try:
        assert pool.read(tmp_path / "a.pdf").pages
        (worker,) = pool._working
        assert "hush" not in Path(f"/proc/{worker.process.pid}/environ").read_text()
    finally:
        pool.close()


def test_it_reaches_no_network_where_the_machine_allows_that() -> None:
    with socket.create_server(("127.0.0.1", 0)) as server:
        port = server.getsockname()[1]
        found = confined(
            f"import socket\ntry:\n    socket.create_connection(('127.0.0.1', {port}), 2); print('reached', alone)\nexcept OSError: print('not', alone)"
        )
    assert found.stdout == ("not True\n" if cut_off() else "reached False\n")


def test_it_is_held_to_limits() -> None:
    assert "MemoryError" in confined("x = bytes(900_000_000)").stderr
    found = confined("import resource as r\nprint(*(r.getrlimit(each)[0] for each in (r.RLIMIT_FSIZE, r.RLIMIT_CORE)))")
    assert found.stdout == "2000000000 0\n"


def test_all_that_the_service_makes_is_its_users_alone(house: Callable[..., App]) -> None:
    before = os.umask(0o022)
    try:
        app = house()
        app.start()
        app.arrivals.take(scenario.FLOW, "upload", None, "a.pdf", PAPER)
        at_rest(app, 1)
        app.passwords.put("garden", ["hush"])
        made = [app.home, *app.home.rglob("*")]
        assert len(made) > 8
        assert not [str(each) for each in made if each.stat().st_mode & 0o077]
        known = {"ledger.xlsx", "ledger.db", "invoices"}  # what the flow of the demo names
        assert [each.name for each in app.home.iterdir() if not is_own(each.name) and each.name not in known] == []
    finally:
        os.umask(before)


def test_what_an_older_version_left_open_is_closed(house: Callable[..., App]) -> None:
    app = house()
    app.close()
    os.chmod(app.home / "metrikon.db", 0o644)
    os.chmod(app.home / "files", 0o755)
    again = house()
    assert (again.home / "metrikon.db").stat().st_mode & 0o777 == 0o600
    assert (again.home / "files").stat().st_mode & 0o777 == 0o700
