"""A kind of step, intake or destination is one file: one of another package is found, told of, checked and run like ours."""

from __future__ import annotations

import json
import sqlite3
from collections.abc import Callable, Iterator
from pathlib import Path

import pytest

from metrikon.app.assemble import App
from metrikon.app.kinds import kinds
from metrikon.cli.reference import pages
from metrikon.core.flows.kind import Known
from metrikon.core.flows.text import from_yaml
from metrikon.core.flows.verify import check_flow
from tests.helpers import at_rest, run_state

MODULE = '''
from pathlib import Path
from metrikon.core.flows.around import closed
from metrikon.core.flows.form import Form
from metrikon.core.flows.kind import Kind
from metrikon.ports.destination import DestinationKind, Receipt, Usual
from metrikon.ports.intake import IntakeKind, Piece, Quiet, Thing
from metrikon.ports.step import Outcome, StepFailed
from pydantic import Field


class Weigh(Form):
    """Say how heavy a name is."""

    name: str = Field(..., description="What is put on the scales.")
    unit: float = Field(1, gt=0, description="Grams a letter.")


def check(parameters, around):
    if parameters.name == "air":
        yield "name", "Air cannot be weighed here; put something on the scales."


WEIGH = Kind("weigh", Weigh, result=lambda parameters, around: closed({"grams": {"type": "number"}}), check=check)


def weigh(call, workshop):
    if not call.parameters["name"]:
        raise StepFailed("There is nothing on the scales.")
    return Outcome({"grams": len(call.parameters["name"]) * call.parameters["unit"]})


class Board(Form):
    """Lines on a board."""

    path: str


class BoardWriter(Usual):
    can, gather = "finds", 0.0

    def __init__(self, path):
        self.path = path

    def write(self, rows):
        there = self.path.read_text().splitlines() if self.path.exists() else []
        known = {each.split(" ")[0] for each in there}
        for row in rows:
            if row.key not in known:
                there.append(f"{row.key} {row.values['Grams']}")
        self.path.write_text("\\n".join(there))
        return [Receipt(row.key, "there already" if row.key in known else "written", "board") for row in rows]


BOARD = DestinationKind(
    "board", Board, lambda said, there: f"board:{said.path}", lambda said, there: "", lambda said, there: BoardWriter(there.home / said.path),
    lambda said: "a board",
)


class Bell(Form):
    """Someone rings."""


class Ringing(Quiet):
    def test(self):
        return "It hangs by the gate."

    def there(self):
        yield Thing("first", "visitor", 0, 4, {"rung": 1}, cursor=1)

    def new(self, cursor, moment):
        if cursor is None:
            yield from self.there()

    def get(self, thing):
        return [Piece(thing.name, b"ding")]


BELL = IntakeKind("bell", Bell, lambda said: "a bell", build=lambda said, here: Ringing())
'''
POINTS = """[metrikon.kinds]
weigh = garden_scales:WEIGH
unfinished = garden_scales:WEIGH

[metrikon.steps]
weigh = garden_scales:weigh

[metrikon.intakes]
bell = garden_scales:BELL

[metrikon.destinations]
board = garden_scales:BOARD
"""
FLOW = """
metrikon: 1
name: scales
intakes: [{kind: bell}]
destinations: {board: {kind: board, path: board.txt}}
steps:
  - {name: weight, weigh: {name: "${item.name}", unit: 2}}
  - {name: row, write: {to: board, key: ["${item.id}"], columns: {Grams: "${weight.grams}"}}}
"""


@pytest.fixture
def package(tmp_path: Path, monkeypatch: pytest.MonkeyPatch) -> Iterator[None]:
    """A package that is installed besides ours."""
    folder = tmp_path / "site"
    (folder / "garden_scales-1.0.dist-info").mkdir(parents=True)
    (folder / "garden_scales.py").write_text(MODULE)
    (folder / "garden_scales-1.0.dist-info" / "METADATA").write_text("Metadata-Version: 2.1\nName: garden-scales\nVersion: 1.0\n")
    (folder / "garden_scales-1.0.dist-info" / "entry_points.txt").write_text(POINTS)
    monkeypatch.syspath_prepend(str(folder))
    kinds.cache_clear()
    yield
    kinds.cache_clear()


@pytest.mark.usefixtures("package")
def test_kinds_of_another_package_work_in_a_flow(house: Callable[..., App]) -> None:
    app = house()
    app.catalog.put_flow(FLOW)
    app.start()
    assert at_rest(app, 1) == {"done": 1}
    assert (app.home / "board.txt").read_text().endswith(" 14.0")


@pytest.mark.usefixtures("package")
def test_kinds_of_another_package_are_in_the_schema_and_the_reference() -> None:
    found = pages()
    assert "### weigh\n\nSay how heavy a name is.\n\n- `name` text (required) What is put on the scales." in found["reference.md"]
    assert "### board" in found["reference.md"]
    assert "### bell" in found["reference.md"]
    schema = json.loads(found["flow.schema.json"])
    assert {"weigh", "write"} <= schema["$defs"]["Step"]["properties"].keys()
    assert any(each["properties"]["kind"]["const"] == "board" for each in schema["$defs"]["Destination"]["oneOf"])


@pytest.mark.usefixtures("package")
@pytest.mark.parametrize(
    ("old", "new", "said"),
    [
        ("weigh: {", "weihg: {", "'weihg' is not known here. Is 'weigh' meant?"),
        ("unit: 2", "unit: 0", "give more than 0"),
        ('"${item.name}"', "air", "Air cannot be weighed here"),
        ("weight.grams", "weight.gram", "'gram' is not known. Is 'grams' meant? weight holds grams."),
        ("kind: board, path", "kind: bord, path", "There is no kind of destination 'bord'. Is 'board' meant?"),
        ("kind: bell", "kind: bull", "There is no kind of intake 'bull'. Is 'bell' meant?"),
    ],
)
def test_mistakes_with_kinds_of_another_package_are_told(old: str, new: str, said: str) -> None:
    _, problems = check_flow(from_yaml(FLOW.replace(old, new)), kinds().language, Known())
    assert any(said in each.message for each in problems), [str(each) for each in problems]


@pytest.mark.usefixtures("package")
def test_a_kind_that_nothing_does_is_left_out() -> None:
    assert "unfinished" not in kinds().steps


def test_problems_of_form_are_told_together_with_problems_of_meaning() -> None:
    text = FLOW.replace("weigh: {name", "weigh: {nome").replace("kind: board", "kind: sql").replace('["${item.id}"]', '["${itm.id}"]')
    _, problems = check_flow(from_yaml(text), kinds().language, Known())
    told = " ".join(str(each) for each in problems)
    for wanted in (
        "no kind of intake 'bell'",
        "'weigh' is not known",
        "destinations/board/table: It is missing",
        "'itm' is not known. Is 'item' meant?",
    ):
        assert wanted in told, told


def test_a_failed_step_of_a_flow_may_go_on_with_given_values(house: Callable[..., App]) -> None:
    app = house()
    text = """
metrikon: 1
name: forgiving
intakes: [{kind: upload}]
destinations: {table: {kind: sql, url: "sqlite:///out.db", table: rows}}
steps:
  - name: paper
    read: {}
    on_failure:
      steps: [{name: told, write: {to: table, key: ["${item.id}", "told"], columns: {What: "${failure.message}"}}}]
      then: go on
      result: {pages: 0}
  - {name: row, when: paper.pages = 0, write: {to: table, key: ["${item.id}"], columns: {Pages: "${paper.pages}"}}}
  - {name: never, when: paper.pages > 0, write: {to: table, key: ["${item.id}", "x"], columns: {Pages: "${paper.pages}"}}}
"""
    app.catalog.put_flow(text)
    app.start()
    arrived = app.arrivals.take("forgiving", "upload", None, "odd.bin", b"\x00\x01\x02 no document at all")
    assert at_rest(app, 1) == {"done": 1}
    assert run_state(app, arrived.run_id)[0] == "done"
    with sqlite3.connect(app.home / "out.db") as table:
        rows = table.execute("SELECT What, Pages FROM rows").fetchall()
    assert [each[0] is None for each in sorted(rows, key=str)] == [False, True]
    assert any(str(told).startswith("odd.bin cannot be read. The file is of a format") for told, _ in rows)
    assert {pages for _, pages in rows} == {None, 0}
