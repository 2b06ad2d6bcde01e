"""Ways in from the command line: kept, listed, tried on the stand-in up to the last press."""

from __future__ import annotations

import io
import json
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

import metrikon.demo
from metrikon.cli import main
from metrikon.sandbox.accounts import PASSWORD, USER
from metrikon.sandbox.services import Services
from tests.helpers import Running

WAY = Path(metrikon.demo.__file__).parent / "ways" / "old-ledger.yaml"
VALUES = {
    "number": "FN-1",
    "vendor": "Moorgate Seed",
    "date": "2026-03-04",
    "total": 20,
    "name": "a.txt",
    "lines": [{"part": "FN-201", "description": "Fern", "quantity": 2, "price": 10}],
}


@pytest.fixture
def services() -> Iterator[Services]:
    made = Services().start()
    yield made
    made.stop()


def test_a_way_in_is_kept_listed_and_tried(
    running: Callable[..., Running], services: Services, tmp_path: Path, monkeypatch: pytest.MonkeyPatch
) -> None:
    service = running(fetch_private=True)
    service.client.put_connection("accounts", f"{services.url}/accounts", way="basic", user=USER, secret=PASSWORD)
    monkeypatch.setenv("METRIKON_URL", service.url)
    monkeypatch.setenv("METRIKON_TOKEN", service.token)

    def run(*given: str) -> tuple[int, str, str]:
        out, err = io.StringIO(), io.StringIO()
        return main(list(given), out, err), out.getvalue(), err.getvalue()

    assert "no way in yet" in run("ways", "list")[1]
    assert run("ways", "put", str(WAY))[1] == "old-ledger is kept as version 1.\n"
    assert run("ways", "put", str(WAY))[1] == "old-ledger is kept as version 1.\n", "the same text is no new version"
    assert "accounts" in run("ways", "list")[1]
    broken = tmp_path / "broken.yaml"
    broken.write_text(WAY.read_text().replace("press: Add row", "shove: Add row"))
    code, _, told = run("ways", "put", str(broken))
    assert code == 2
    assert "enter/6/rows/steps/0/shove" in told
    values = tmp_path / "values.json"
    values.write_text(json.dumps({**VALUES, "file": service.app.files.put(b"paper")}))
    code, told, _ = run("ways", "try", "old-ledger", str(values), "--pictures", str(tmp_path / "seen"))
    assert (code, services.world.accounts.pressed) == (0, 0)
    assert told.splitlines() == [
        "It went up to the last press, which was not done.",
        "Invoice number shows FN-1.",
        "Total shows 20.00.",
        f"3 pictures are in {tmp_path / 'seen'}.",
    ]
    assert all(each.read_bytes().startswith(b"\x89PNG") for each in (tmp_path / "seen").iterdir())
    services.world.accounts.layout = "renamed"
    code, told, _ = run("ways", "try", "old-ledger", str(values))
    assert code == 1
    assert "There is no field “Invoice number”" in told
    assert run("ways", "try", "nowhere", str(values))[0] != 0
