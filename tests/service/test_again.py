"""Runs begun again, one or many; samples; flows copied and carried: over HTTP and on the command line, as people use them."""

from __future__ import annotations

import io
import json
import sqlite3
import zipfile
from collections.abc import Callable
from io import StringIO
from pathlib import Path
from typing import Any

import pytest
from openpyxl import load_workbook

from metrikon.cli import main
from metrikon.client import ClientError
from tests.helpers import Running, eventually

FLOW = """
metrikon: 1
name: seeds
settings:
  least: {type: number, value: 3, about: Fewer letters are not written}
  place: {value: here}
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: "${settings.place}"}}
steps:
  - {name: size, set: {letters: "${string length(item.name)}", of: {twice: "${2 * string length(item.name)}"}}}
  - {name: far, set: {further: "${size.letters + 1}"}}
  - {name: short, when: size.letters < settings.least, stop: {reason: Too short}}
  - {name: row, write: {to: table, key: ["${item.id}", "${size.letters}"], columns: {Letters: "${size.letters}", Further: "${far.further}"}}}
"""
TABLE = """
decision: worth
hit: first
inputs: [{name: letters, type: number}]
outputs: [{name: worth, type: boolean}]
rules: [{when: {letters: "> 3"}, then: {worth: "true"}}, {then: {worth: "false"}}]
"""


@pytest.fixture
def seeds(running: Callable[..., Running]) -> Running:
    service = running()
    service.client.put_flow("seeds", FLOW)
    return service


def sent(service: Running, name: str, flow: str = "seeds") -> str:
    run = service.client.upload(flow, f"{name} {flow}".encode(), name=name).run_id
    assert service.client.wait(run).state in ("done", "stopped")
    return run


def rows(service: Running, table: str = "here") -> list[Any]:
    with sqlite3.connect(service.app.home / "out.db") as database:
        return database.execute(f"SELECT letters, further FROM {table} ORDER BY rowid").fetchall()


def command(service: Running, *words: str) -> tuple[int, str, str]:
    out, err = StringIO(), StringIO()
    code = main([*words, "--url", service.url, "--token", service.token], out, err)
    return code, out.getvalue(), err.getvalue()


def test_a_run_goes_on_from_any_step_with_a_corrected_value(seeds: Running) -> None:
    run = sent(seeds, "beech")
    again = seeds.client.run_again_from(run, "far", {"size.letters": 7})
    assert seeds.client.wait(again).state == "done"
    assert rows(seeds) == [(7, 8)], "the row has another key now"
    taken = [(each.event, each.path) for each in seeds.client.run(again).journal][:3]
    assert ("done", "far") not in taken
    values = {each["path"]: each["value"] for each in seeds.client.values_of(again)}
    assert values["size.of.twice"] == 10
    plain = seeds.client.run_again_from(run, "row")
    assert seeds.client.wait(plain).state == "done"
    assert rows(seeds) == [(7, 8)], "a row that was written is not written again"


def test_corrections_of_a_run_add_up_and_are_listed_with_who_made_them(seeds: Running) -> None:
    run = sent(seeds, "beech")
    first = seeds.client.run_again_from(run, "row", {"size.letters": 7})
    assert seeds.client.wait(first).state == "done"
    second = seeds.client.run_again_from(first, "row", {"far.further": 9})
    assert seeds.client.wait(second).state == "done"
    values = {each["path"]: each["value"] for each in seeds.client.values_of(second)}
    assert (values["size.letters"], values["far.further"]) == (7, 9)
    told = seeds.client.run(second).corrections
    assert [(each.path, each.value) for each in told] == [("size.letters", 7), ("far.further", 9)]
    assert all(each.by and each.at for each in told)
    shown = command(seeds, "runs", "show", second)[1]
    assert f"corrected by {told[0].by}" in shown
    assert "size.letters = 7" in shown


@pytest.mark.parametrize(
    ("step", "values", "message"),
    [
        ("roww", {}, "has no step 'roww'. Is 'row' meant?"),
        ("row", {"size.leters": 1}, "size.leters cannot be corrected: 'leters' is not known. Is 'letters' meant?"),
        ("row", {"sise.letters": 1}, "No step before it gave 'sise.letters'. Is 'size' meant?"),
        ("size", {"far.further": 1}, "No step before it gave 'far.further'"),
        ("", {"far.further": 1}, "Say from which step on"),
    ],
)
def test_what_cannot_be_run_again_is_told(seeds: Running, step: str, values: dict[str, Any], message: str) -> None:
    run = sent(seeds, "beech")
    with pytest.raises(ClientError) as error:
        seeds.client.run_again_from(run, step, values)
    assert message in str(error.value)


def test_a_run_that_never_began_is_run_from_its_start(seeds: Running) -> None:
    client = seeds.client
    client.switch_flow("seeds", True, paused=True)
    run = client.upload("seeds", b"x", name="beech").run_id
    client.cancel(run)
    with pytest.raises(ClientError, match="Its last run never began; run it from its start"):
        client.run_again_from(run, "row")
    client.switch_flow("seeds", True)
    assert client.wait(client.run_again_from(run, "")).state == "done"


def test_a_set_is_told_before_it_is_run_again(seeds: Running) -> None:
    for name in ("oak", "elm", "birch", "aspen", "no"):
        sent(seeds, name)
    told = seeds.client.run_set_again("seeds", state="done", search="e")
    assert (told["count"], told["calls"], told["runs"]) == (2, 0, [])
    with pytest.raises(ClientError, match="There are 2 such items now, and not 3"):
        seeds.client.run_set_again("seeds", state="done", search="e", count=3)
    begun = seeds.client.run_set_again("seeds", state="done", search="e", count=2, step="row")["runs"]
    assert {seeds.client.wait(run).item_name for run in begun} == {"elm", "aspen"}
    assert len(rows(seeds)) == 4
    code, out, _ = command(seeds, "runs", "again", "--flow", "seeds", "--state", "stopped")
    assert (code, out) == (0, "1 item; no model is asked.\nRun them again with --yes.\n")
    assert "1 run begun." in command(seeds, "runs", "again", "--flow", "seeds", "--state", "stopped", "--yes")[1]
    with pytest.raises(ClientError, match="waiting cannot be run again"):
        seeds.client.run_set_again("seeds", state="waiting")


WAITS = FLOW.replace("  - {name: row", '  - {name: told, wait: {event: "go ${item.name}"}}\n  - {name: row')


def test_a_run_is_paused_and_goes_on_and_all_of_a_flow_are_cancelled(seeds: Running) -> None:
    client = seeds.client
    client.put_flow("seeds", WAITS)
    runs = {name: client.upload("seeds", name.encode(), name=name).run_id for name in ("oaks", "elms", "limes")}
    eventually(lambda: {client.run(run).state for run in runs.values()} == {"waiting"})
    client.pause_run(runs["oaks"])
    client.send_event("seeds", "go oaks")
    client.send_event("seeds", "go elms")
    assert client.wait(runs["elms"]).state == "done"
    assert client.run(runs["oaks"]).state == "held"
    assert client.run(runs["oaks"]).reason.startswith("Paused by ")
    with pytest.raises(ClientError, match="The run is held; only one that goes on or waits can be paused"):
        client.pause_run(runs["oaks"])
    client.continue_run(runs["oaks"])
    assert client.wait(runs["oaks"]).state == "done"
    assert client.cancel_runs("seeds", "the season is over") == 1
    assert client.run(runs["limes"]).reason.endswith(": the season is over")
    assert command(seeds, "runs", "cancel", "--flow", "seeds")[1] == "0 runs cancelled.\n"


def test_a_sample_is_kept_tried_and_removed(seeds: Running, tmp_path: Path) -> None:
    run = sent(seeds, "sycamore")
    found = seeds.client.samples("seeds")
    assert [each["name"] for each in found["candidates"]] == ["sycamore"]
    item = seeds.client.run(run).item_id
    code, out, _ = command(seeds, "flows", "keep-sample", "seeds", "long", "--item", item, "--why", "a long name")
    assert (code, out) == (0, "Sample long is kept; try it with `metrikon flows try seeds --sample long`.\n")
    (tmp_path / "fir.txt").write_text("fir")
    assert command(seeds, "flows", "keep-sample", "seeds", "short", "--file", str(tmp_path / "fir.txt"))[0] == 0
    kept = {each["name"]: each for each in seeds.client.samples("seeds")["items"]}
    assert (kept["long"]["why"], kept["long"]["file_name"], kept["short"]["file_name"]) == ("a long name", "sycamore", "fir.txt")
    assert "Letters: 8" in command(seeds, "flows", "try", "seeds", "--sample", "long")[1]
    assert command(seeds, "flows", "keep-sample", "seeds", "short", "--remove")[0] == 0
    assert "has no sample 'short'" in command(seeds, "flows", "try", "seeds", "--sample", "short")[2]
    with pytest.raises(ClientError, match="'Two words' is no name for a sample"):
        seeds.client.keep_sample("seeds", "Two words", tmp_path / "fir.txt")


def test_a_copy_has_its_own_settings_and_is_switched_off(seeds: Running) -> None:
    code, out, _ = command(seeds, "flows", "copy", "seeds", "bulbs", "--set", "least=10", "--set", "place=there")
    assert (code, "switched off" in out) == (0, True)
    with pytest.raises(ClientError, match="switched off"):
        seeds.client.upload("bulbs", b"x", name="crocus")
    seeds.client.switch_flow("bulbs", True)
    assert seeds.client.wait(seeds.client.upload("bulbs", b"x", name="crocus").run_id).state == "stopped"
    sent(seeds, "snowdrop bulb", "bulbs")
    assert rows(seeds, "there") == [(13, 14)]
    assert seeds.client.flow("bulbs")["versions"][0]["why"] == "A copy of seeds, version 1."
    with pytest.raises(ClientError, match="There is a flow bulbs already"):
        seeds.client.copy_flow("seeds", "bulbs")
    with pytest.raises(ClientError, match="It is 'many'; give a number"):
        seeds.client.copy_flow("seeds", "trees", {"least": "many"})


WHOLE = FLOW.replace(
    "  - {name: row",
    '  - {name: worth, decide: {table: worth, given: {letters: "${size.letters}"}}}\n'
    '  - {name: known, lookup: {in: sorts, where: {sort: "${item.name}"}}}\n'
    "  - {name: other, use: {flow: under}}\n"
    '  - {name: typed, when: "1 = 2", enter: {way: books, key: ["${item.name}"], values: {number: "${item.name}"}}}\n'
    "  - {name: row",
)
WAY = "way: books\nconnection: accounts\ntakes: [number]\nenter:\n- fill: {in: Number, with: '${number}'}\n- press: {on: Save, last: true}\n"
UNDER = "metrikon: 1\nname: under\nintakes: [{kind: upload}]\nsteps: [{name: result, set: {x: 1}}]\n"


def test_a_flow_is_carried_to_another_service_with_all_that_it_needs(running: Callable[..., Running], tmp_path: Path) -> None:
    here, there = running("here"), running("there")
    here.client.put_decision_table("worth", TABLE)
    here.client.put_list("sorts", "sort,bed\nbeech,4\n")
    here.client.put_way("books", WAY)
    here.client.put_flow("under", UNDER)
    here.client.put_flow("seeds", WHOLE)
    here.client.keep_sample("seeds", "one", item=here.client.run(sent(here, "beech")).item_id, why="the first")
    place = tmp_path / "seeds.zip"
    assert command(here, "flows", "export", "seeds", str(place))[0] == 0
    first = place.read_bytes()
    assert here.client.export_flow("seeds") == first, "the same flow makes the same file"
    code, out, _ = command(there, "flows", "import", str(place), "--dry-run")
    assert (code, out.count(" new")) == (0, 6)
    assert "seeds" not in {each["name"] for each in there.client.flows()}
    there.client.import_flow(place)
    assert {each["name"]: each["running"] for each in there.client.flows()} == {"seeds": False, "under": False, "supplier-invoices": True}
    assert there.client.try_flow("seeds", sample="one")["stands"] == "done"
    assert {each["becomes"] for each in there.client.import_flow(place, trying=True)} == {"same", "replaced"}
    there.client.put_list("sorts", "sort,bed\nelm,1\n")
    with pytest.raises(ClientError, match="Here is another list sorts"):
        there.client.import_flow(place)
    there.client.import_flow(place, replacing=True)
    assert "beech" in there.client.list_of("sorts")["text"]


def carried(**files: bytes | str) -> bytes:
    out = io.BytesIO()
    with zipfile.ZipFile(out, "w") as archive:
        for name, data in {"carried.json": json.dumps({"metrikon": 1, "flow": "seeds"}), **files}.items():
            archive.writestr(name, data)
    return out.getvalue()


def encrypted() -> bytes:
    """A carried file of which the entries say that they are encrypted."""
    whole = bytearray(carried(**{"flows/seeds.yaml": FLOW}))
    for mark, at in ((b"PK\x03\x04", 6), (b"PK\x01\x02", 8)):
        place = -1
        while (place := whole.find(mark, place + 1)) >= 0:
            whole[place + at] |= 1
    return bytes(whole)


@pytest.mark.parametrize(
    ("data", "message"),
    [
        (b"", "is no carried flow, or is damaged"),
        (b"PK\x03\x04" + b"x" * 100, "is no carried flow, or is damaged"),
        (carried(), "does not hold it"),
        (
            carried(
                **{
                    "flows/seeds.yaml": FLOW,
                    "samples/a/file": "x",
                    "samples/a/sample.json": '{"why": 1, "file_name": 2, "intake": 3, "received_at": "soon"}',
                }
            ),
            "is damaged",
        ),
        (encrypted(), "is no carried flow, or is damaged"),
        (carried(**{"flows/seeds.yaml": b"\xff\xfe"}), "is no carried flow, or is damaged"),
        (carried(**{"flows/seeds.yaml": FLOW, "lists/../../etc.csv": "a"}), "which is no name"),
        (carried(**{"flows/seeds.yaml": FLOW, "flows/bulbs.yaml": FLOW}), "a flow named 'seeds' under the name 'bulbs'"),
        (carried(**{"flows/seeds.yaml": FLOW.replace("kind: sql", "kind: sqll")}), "There is no kind of destination 'sqll'"),
        (carried(**{"flows/seeds.yaml": FLOW, "record_types/x.json": "{"}), "The record type x:"),
        (carried(**{"flows/seeds.yaml": FLOW, "ways/books.yaml": "way: books"}), "The way in books:"),
        (carried(**{"flows/seeds.yaml": FLOW, "ways/other.yaml": WAY}), "calls itself 'books' under the name 'other'"),
    ],
)
def test_a_file_that_is_no_carried_flow_changes_nothing(seeds: Running, data: bytes, message: str) -> None:
    before = seeds.client.flows()
    with pytest.raises(ClientError) as error:
        seeds.client.import_flow(data)
    assert message in str(error.value)
    assert seeds.client.flows() == before


def test_a_flow_with_a_secret_from_an_older_version_is_not_carried(seeds: Running) -> None:
    text = FLOW.rstrip() + '\n  - {name: said, set: {note: "api_key: 8f3kd92kdk39"}}\n'
    seeds.app.database.write(lambda connection: __import__("metrikon.store.flows", fromlist=["x"]).put_flow(connection, "seeds", text, 1))
    with pytest.raises(ClientError, match="cannot be carried elsewhere as it is"):
        seeds.client.export_flow("seeds")


def test_one_file_of_a_folder_is_taken_on_request_though_the_flow_is_off(seeds: Running) -> None:
    client, folder = seeds.client, seeds.app.home / "in"
    client.put_flow("seeds", FLOW.replace("{kind: upload}", "{kind: folder, path: in, settled: 0}, {kind: upload}"))
    client.switch_flow("seeds", False)
    folder.mkdir(exist_ok=True)
    for name in ("larch", "maple"):
        (folder / name).write_text(name)
    code, out, _ = command(seeds, "intakes", "preview", "seeds")
    assert (code, "It would take 2 things" in out, "larch" in out, "maple" in out) == (0, True, True, True)
    assert not list(client.items())
    assert command(seeds, "intakes", "take", "seeds", "larch")[1].startswith("larch runs as ")
    eventually(lambda: [run.state for run in client.runs()] == ["done"])
    assert rows(seeds) == [(5, 6)]
    there = client.preview_intake("seeds", "folder")["items"]
    assert {each["name"]: each["why"] for each in there} == {"larch": "It was taken already.", "maple": ""}
    with pytest.raises(ClientError, match="No intake of the flow seeds holds 'elm'"):
        client.take_one("seeds", "elm")
    client.switch_flow("seeds", True)
    eventually(lambda: len(rows(seeds)) == 2)
    assert command(seeds, "intakes", "take", "seeds", "maple")[1].startswith("maple was taken before")


ASKING = """
metrikon: 1
name: asking
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: here}}
steps:
  - {name: sure, ask: {question: "Is ${item.name} right?", options: [{name: "yes", label: "Yes"}, {name: "no", label: "No"}]}}
  - {name: row, write: {to: table, key: ["${item.id}"], columns: {Letters: "${sure.answer}", Further: 1}}}
"""


def test_a_set_that_waits_for_people_is_run_again_where_it_is_named_and_replaces_what_waited(running: Callable[..., Running]) -> None:
    service = running()
    service.client.put_flow("asking", ASKING)
    runs = [service.client.upload("asking", name.encode(), name=name).run_id for name in ("ferns", "mosses")]
    assert eventually(lambda: all(service.client.run(each).state == "review" for each in runs))
    assert service.client.run_set_again("asking")["count"] == 0

    out = StringIO()
    reach = ["--url", service.url, "--token", service.token]
    assert main(["runs", "again", "--flow", "asking", "--state", "review", "--anew", "--yes", *reach], out, out) == 0
    assert "2 runs begun." in out.getvalue()
    assert eventually(lambda: [service.client.run(each).state for each in runs] == ["stopped", "stopped"])
    assert eventually(lambda: len(service.client.questions()) == 2)
    with pytest.raises(ClientError, match="cannot be run again"):
        service.client.run_set_again("asking", state="waiting")


POST = """
metrikon: 1
name: post
settings: {sheet: {value: Glasshouse}, table: {value: marks}}
intakes: [{kind: folder, path: letters, settled: 0}, {kind: webhook}]
destinations:
  book: {kind: xlsx, path: marks.xlsx, sheet: "${settings.sheet}", key: [Name]}
  base: {kind: sql, url: "sqlite:///marks.db", table: "${settings.table}", key: [Name]}
steps:
  - {name: row, write: {to: book, key: ["${item.name}"], if_there: keep, columns: {Name: "${item.name}", Mark: 7}}}
  - {name: known, write: {to: base, key: ["${item.name}"], if_there: keep, columns: {Name: "${item.name}"}}}
"""


def test_a_copy_makes_the_sheet_that_is_not_there_and_tells_what_keeps_it_from_working(running: Callable[..., Running]) -> None:
    service = running()
    with sqlite3.connect(service.app.home / "marks.db") as database:
        database.execute("CREATE TABLE marks (Name TEXT PRIMARY KEY)")
    service.client.put_flow("post", POST)
    (service.app.home / "letters").mkdir(exist_ok=True)
    (service.app.home / "letters" / "ida.txt").write_text("Ida")
    assert eventually(lambda: [each.state for each in service.client.items()] == ["done"])

    out = StringIO()
    reach = ["--url", service.url, "--token", service.token]
    assert main(["flows", "copy", "post", "alpine", "--set", "sheet=Alpine house", "--set", "table=alpine", *reach], out, out) == 0
    told = out.getvalue()
    assert "Its destination base takes no row: There is no table alpine in the database" in told
    assert "Its intake folder takes the same things as that of post" in told
    assert "Its intake webhook has an address of its own: `metrikon intakes address alpine webhook` makes it." in told
    assert service.client.foretold("post") == [
        "Its intake folder takes the same things as that of alpine: what is there is taken by both. Give one of them another place, or a condition."
    ]

    with sqlite3.connect(service.app.home / "marks.db") as database:
        database.execute("CREATE TABLE alpine (Name TEXT PRIMARY KEY)")
    assert eventually(lambda: all("takes no row" not in each for each in service.client.foretold("alpine")))
    out = StringIO()
    assert main(["flows", "on", "alpine", *reach], out, out) == 0
    assert "takes the same things as that of post" in out.getvalue()
    assert eventually(lambda: sorted(each.state for each in service.client.items()) == ["done", "done"])
    sheet = load_workbook(service.app.home / "marks.xlsx")["Alpine house"]
    assert [list(row[:2]) for row in sheet.iter_rows(values_only=True)] == [["Name", "Mark"], ["ida.txt", 7]]
