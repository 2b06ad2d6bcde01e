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
from tests.helpers import Running, eventually

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


BOOKS = """
metrikon: 1
name: books
intakes: [{kind: upload}]
steps:
- name: booked
  enter:
    way: old-ledger
    key: ["FN-1"]
    values: {number: FN-1, vendor: "Moorgate Seed", date: "2026-03-04", total: 20, name: a.txt, file: "${item.file}",
      lines: "${[{part: \\"FN-201\\", description: \\"Fern\\", quantity: 2, price: 10}]}"}
""".replace('\\\\"', '\\"')


def test_a_run_tells_how_far_it_is_with_what_it_enters(running: Callable[..., Running], services: Services) -> None:
    service = running(fetch_private=True)
    services.world.accounts.slow = 2.0
    service.client.put_connection("accounts", f"{services.url}/accounts", way="basic", user=USER, secret=PASSWORD)
    service.client.put_way("old-ledger", WAY.read_text())
    service.client.put_flow("books", BOOKS)
    run = service.client.upload("books", b"paper", name="a.txt").run_id
    seen = set()

    def entering() -> bool:
        found = service.client.run(run)
        if found.entering is not None:
            assert 0 <= found.entering.done < found.entering.in_all
            seen.add(found.entering.done)
        return found.settled or "Save" in (found.entering.at if found.entering else "")

    assert eventually(entering, 60)
    out = io.StringIO()
    assert main(["runs", "show", run, "--url", service.url, "--token", service.token], out, out) == 0
    assert "enters it now: press" in out.getvalue().lower(), out.getvalue()
    assert len(seen) > 1
    assert service.client.wait(run).state == "done"
    assert service.client.run(run).entering is None
